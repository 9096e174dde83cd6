"""Make an installation ready: tables, signing key, and the demo where it is wanted. Safe to repeat."""

from argparse import ArgumentParser
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand

from herald.clock.start import rebase
from herald.demo import scenario
from herald.demo.load import is_loaded, load
from herald.images.signing import ensure_key, sign_outdated
from herald.time import clock


class Command(BaseCommand):
    help = "Make the tables and the signing key; with HERALD_DEMO, load the demo and start its clock."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("--devices", type=int, default=scenario.DEVICES)
        parser.add_argument("--speed", type=float, default=1.0, help="how fast the demo's time passes")

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0, interactive=False)
        Path(settings.IMAGES_DIR).mkdir(parents=True, exist_ok=True)
        if settings.DEMO:
            rebase(speed=options["speed"], real_now=datetime.now(UTC))
        ensure_key(now=clock.now())
        sign_outdated()
        if settings.DEMO and not is_loaded():
            self.stdout.write(f"loading the demo: {options['devices']} devices")
            load(devices=options["devices"], now=clock.now())
