"""The one clock of the server. Services take `now`; only entrances (views, loops) ask this."""

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime

from herald.clock.models import TimeBase


@dataclass(frozen=True)
class Base:
    real_origin: datetime
    herald_origin: datetime
    speed: float

    def at(self, real: datetime) -> datetime:
        return self.herald_origin + (real - self.real_origin) * self.speed


class Clock:
    """Says what time it is. The base is read from the database once a process."""

    def __init__(self) -> None:
        self._base: Base | None = None
        self._fixed: datetime | None = None
        self._lock = threading.Lock()

    def now(self) -> datetime:
        """The installation's time, aware, in UTC."""
        if self._fixed is not None:
            return self._fixed
        return self.base().at(datetime.now(UTC))

    @property
    def speed(self) -> float:
        """How many times faster than life time passes."""
        return self.base().speed

    def base(self) -> Base:
        with self._lock:
            if self._base is None:
                row = TimeBase.objects.first()
                origin = datetime.now(UTC)
                self._base = Base(row.real_origin, row.herald_origin, row.speed) if row else Base(origin, origin, 1.0)
            return self._base

    def forget(self) -> None:
        """Read the base anew at the next call."""
        with self._lock:
            self._base = None

    @contextmanager
    def fixed(self, moment: datetime) -> Iterator[None]:
        """For tests: time stands still at `moment`."""
        before, self._fixed = self._fixed, moment
        try:
            yield
        finally:
            self._fixed = before


clock = Clock()
