"""A small TCP proxy between the simulated fleet and its gateway, whose link can be cut or made to hang."""

import asyncio
import contextlib
import threading
from collections.abc import Callable, Iterator
from enum import Enum

from herald_launch.steps import free_port
from tests.running import Running


class Link(Enum):
    """What becomes of the bytes."""

    WHOLE = "whole"
    #: connections break, and new ones are refused
    CUT = "cut"
    #: connections stay, and nothing comes through
    HANGS = "hangs"


class Proxy:
    """Passes bytes on, in a thread of its own, until closed. `target` says to which port; it is asked for each
    connection, as a gateway may come back on another one. Until it is set, connections are refused."""

    def __init__(self) -> None:
        self.port = free_port()
        self.target: Callable[[], int] | None = None
        self._link = Link.WHOLE
        self._flows = asyncio.Event()
        self._flows.set()
        self._open: set[asyncio.Task[None]] = set()
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, name="proxy", daemon=True)
        self._thread.start()
        asyncio.run_coroutine_threadsafe(self._begin(), self._loop).result(10)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_forever()

    async def _begin(self) -> None:
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", self.port)

    def set(self, link: Link) -> None:
        """Change what becomes of the bytes, of all connections from now on."""
        asyncio.run_coroutine_threadsafe(self._set(link), self._loop).result(10)

    async def _set(self, link: Link) -> None:
        self._link = link
        if link is Link.HANGS:
            self._flows.clear()
        else:
            self._flows.set()
        if link is Link.CUT:
            for task in self._open:
                task.cancel()

    def close(self) -> None:
        """Break every connection, and end."""
        self.set(Link.CUT)
        self._loop.call_soon_threadsafe(self._server.close)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(10)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._open.add(task)
        there: asyncio.StreamWriter | None = None
        try:
            if self._link is Link.CUT or self.target is None:
                return
            back, there = await asyncio.open_connection("127.0.0.1", self.target())
            async with asyncio.TaskGroup() as both:
                both.create_task(self._pass_on(reader, there))
                both.create_task(self._pass_on(back, writer))
        except (OSError, asyncio.CancelledError, ExceptionGroup):
            pass  # one side hung up, or the link was cut: the other side sees a broken connection
        finally:
            self._open.discard(task)
            for side in (writer, there):
                if side is not None:
                    with contextlib.suppress(OSError, RuntimeError):
                        side.transport.abort()

    async def _pass_on(self, source: asyncio.StreamReader, to: asyncio.StreamWriter) -> None:
        while data := await source.read(1 << 16):
            await self._flows.wait()
            to.write(data)
            await to.drain()
        raise ConnectionError("hung up")


@contextlib.contextmanager
def behind_a_proxy(*, devices: int, speed: float) -> Iterator[tuple[Running, Proxy]]:
    """An installation in a folder of its own, whose fleet calls by way of a proxy."""
    proxy = Proxy()
    try:
        with Running.in_a_folder(devices=devices, speed=speed, fleet_port=proxy.port) as installation:
            proxy.target = lambda: installation.gateway_port
            yield installation, proxy
    finally:
        proxy.close()
