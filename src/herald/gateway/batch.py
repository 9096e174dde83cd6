"""Group commit: check-ins that arrive within a few milliseconds are written together."""

import asyncio
from concurrent.futures import ThreadPoolExecutor

import structlog
from django.conf import settings
from django.db import close_old_connections
from django.db.utils import InterfaceError, OperationalError

from herald.clock.heartbeat import BEAT_SECONDS, GATEWAY, beat
from herald.gateway.flush import PendingCheckIn, flush
from herald.gateway.messages import Answer, ProtocolError
from herald.passing import is_passing
from herald.time import clock

#: how long check-ins gather: briefly while many come, longer while few do, which spares the database
BUSY_TICK_SECONDS = 0.005
QUIET_TICK_SECONDS = 0.05
BUSY_BATCH = 24
MAX_BATCH = 500
#: how long a health check waits for the database
HEALTH_SECONDS = 5.0
log = structlog.get_logger()
SLOW_DOWN = ProtocolError(429, "busy", "Too many devices are calling; try again later.")
UNAVAILABLE = ProtocolError(503, "unavailable", "The database cannot be reached; nothing was stored. Try again later.")


class Batcher:
    """Gathers check-ins and flushes them in one thread with one database connection."""

    def __init__(self) -> None:
        self._queue: list[tuple[PendingCheckIn, asyncio.Future[Answer | ProtocolError]]] = []
        self._running = False
        self._busy = False
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="flush")
        self._task: asyncio.Task[None] | None = None
        self._heart: asyncio.Task[None] | None = None

    async def submit(self, arrival: PendingCheckIn) -> Answer | ProtocolError:
        """The answer to a check-in, after it is committed."""
        if len(self._queue) >= settings.GATEWAY_QUEUE:
            return SLOW_DOWN
        future: asyncio.Future[Answer | ProtocolError] = asyncio.get_running_loop().create_future()
        self._queue.append((arrival, future))
        if not self._running:
            self._running = True
            self._task = asyncio.create_task(self._drain())
        return await future

    def start_beating(self) -> None:
        """Give a sign of life now and then, for as long as the process runs."""
        self._heart = asyncio.create_task(self._beat())

    def stop_beating(self) -> None:
        """Give no more signs of life, as the process ends."""
        if self._heart is not None:
            self._heart.cancel()

    async def _beat(self) -> None:
        loop = asyncio.get_running_loop()
        while True:
            await loop.run_in_executor(self._thread, _beat)
            await asyncio.sleep(BEAT_SECONDS)

    async def reaches_database(self) -> bool:
        """Whether check-ins could be stored now; false also where the flush before takes too long."""
        asked = asyncio.get_running_loop().run_in_executor(self._thread, _beat)
        try:
            return await asyncio.wait_for(asked, HEALTH_SECONDS)
        except TimeoutError:
            return False

    async def _drain(self) -> None:
        loop = asyncio.get_running_loop()
        await asyncio.sleep(BUSY_TICK_SECONDS if self._busy else QUIET_TICK_SECONDS)
        try:
            while self._queue:
                batch, self._queue = self._queue[:MAX_BATCH], self._queue[MAX_BATCH:]
                self._busy = len(batch) >= BUSY_BATCH
                answers = await loop.run_in_executor(self._thread, _flush, [a for a, _ in batch])
                for (_, future), answer in zip(batch, answers, strict=True):
                    if not future.done():  # the device may have hung up
                        future.set_result(answer)
        finally:
            self._running = False


def _beat() -> bool:
    """Give a sign of life; whether the database took it."""
    try:
        close_old_connections()
        beat(GATEWAY, now=clock.now())
    except (OperationalError, InterfaceError):
        return False
    return True


def _flush(arrivals: list[PendingCheckIn]) -> list[Answer | ProtocolError]:
    """Flush; a database that cannot be reached is said to every device of the batch, and nothing is stored."""
    try:
        close_old_connections()
        try:
            return flush(arrivals, now=clock.now())
        except OperationalError as error:
            if not is_passing(error):
                raise
            log.warning("flush_tried_again", devices=len(arrivals), error=str(error).strip())
            return flush(arrivals, now=clock.now())
    except (OperationalError, InterfaceError) as error:
        log.warning("flush_failed", devices=len(arrivals), error=str(error).strip())
        return [UNAVAILABLE] * len(arrivals)
    except Exception:
        log.exception("flush_failed", devices=len(arrivals))
        if len(arrivals) == 1:
            return [
                ProtocolError(500, "internal", "The check-in could not be stored; the reason is in the server's log.")
            ]
        return [answer for arrival in arrivals for answer in _flush([arrival])]  # one must not spoil the others
