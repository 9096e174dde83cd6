"""`herald manage delete_old`: delete now what is kept no longer, as where the disk is full."""

from argparse import ArgumentParser
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from herald.retention.models import KeptKind
from herald.retention.running import delete_old
from herald.time import clock


class Command(BaseCommand):
    help = "Delete now what is kept no longer, as set in the interface, to its end or for so many seconds."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("--seconds", type=float, default=float("inf"), help="stop after so many")

    def handle(self, *args: Any, **options: Any) -> None:
        count = delete_old(now=clock.now(), seconds=options["seconds"])
        self.stdout.write(f"{count:,} rows were deleted.")
        stopped = KeptKind.objects.exclude(problem="").order_by("key")
        if stopped:
            raise CommandError("; ".join(f"{kept.key}: {kept.problem}" for kept in stopped))
