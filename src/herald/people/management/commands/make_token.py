"""`herald token EMAIL`: an API token for scripts, printed once."""

from argparse import ArgumentParser
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from herald.people.models import User
from herald.people.tokens import make_token
from herald.time import clock


class Command(BaseCommand):
    help = "Make an API token for an account. It is printed once and stored hashed."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("email")

    def handle(self, *args: Any, **options: Any) -> None:
        user = User.objects.filter(email=options["email"].lower()).first()
        if user is None:
            known = ", ".join(User.objects.order_by("email").values_list("email", flat=True)[:10])
            raise CommandError(f"No account has the address {options['email']}. Known: {known or 'none'}.")
        name = f"command line, {clock.now():%-d %b %Y %H:%M:%S}"
        letters, _ = make_token(user, name=name, days=None, now=clock.now())
        self.stdout.write(letters)
