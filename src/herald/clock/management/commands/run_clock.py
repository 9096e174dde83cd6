"""`herald clock`: run the clock until told to stop."""

import signal
import threading
from typing import Any

from django.core.management.base import BaseCommand

from herald.clock.loop import run


class Command(BaseCommand):
    help = "Opens gates, offers, retries, expires, halts, fires schedules and keeps membership true."

    def handle(self, *args: Any, **options: Any) -> None:
        stop = threading.Event()
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: stop.set())
        run(stop)
