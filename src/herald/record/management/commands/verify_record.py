"""Whether the record is as it was written: every entry against the chain over all of them."""

from argparse import ArgumentParser
from itertools import islice
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from herald.record.chain import Head, faults, head, start

MOST_SHOWN = 50


class Command(BaseCommand):
    help = (
        "Check the record against its chain, and against a hash that went out earlier. Fails where it does not agree."
    )

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("--position", type=int, default=0, help="of a hash that went out")
        parser.add_argument("--hash", default="", help="the hash that went out with that position")

    def handle(self, *args: Any, **options: Any) -> None:
        if bool(options["position"]) != bool(options["hash"]):
            raise CommandError("A witness is a position and its hash; name both.")
        witness = Head(options["position"], options["hash"].lower()) if options["hash"] else None
        found = list(islice(faults(witness), MOST_SHOWN))
        for fault in found:
            self.stderr.write(f"position {fault.position}, entry {fault.entry}: {fault.words}")
        if found:
            raise CommandError(f"The record is not as it was written: {len(found)} faults, at most {MOST_SHOWN} shown.")
        newest, begun = head(), start()
        count = newest.position - begun.position
        self.stdout.write(f"The record is as it was written: {count:,} entries, the newest hash {newest.hash}.")
        if begun.position:
            self.stdout.write(f"{begun.position:,} entries before these were deleted as they were old.")
        if witness is not None and witness.position < begun.position:
            self.stdout.write("The hash that you named is of an entry that was deleted: it proves nothing.")
