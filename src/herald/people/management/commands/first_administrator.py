"""The first account of an installation: who may invite all others. Does nothing where somebody has an account."""

import os
import sys
from getpass import getpass
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from herald.http.errors import InvalidFields
from herald.people.accounts import make_account
from herald.people.models import Role, User
from herald.time import clock

EMAIL, PASSWORD = "HERALD_ADMIN_EMAIL", "HERALD_ADMIN_PASSWORD"


class Command(BaseCommand):
    help = f"Make the first administrator, from {EMAIL} and {PASSWORD}, or by asking at the terminal."

    def handle(self, *args: Any, **options: Any) -> None:
        if User.objects.exists():
            return
        if os.environ.get(EMAIL) and os.environ.get(PASSWORD):
            try:
                self._make(os.environ[EMAIL], os.environ.get("HERALD_ADMIN_NAME", ""), os.environ[PASSWORD])
            except InvalidFields as error:
                raise CommandError(f"{EMAIL} or {PASSWORD} will not do: {_words(error)}") from None
        elif sys.stdin.isatty():
            self._ask()
        else:
            self.stdout.write(
                f"Nobody has an account yet. Set {EMAIL} and {PASSWORD} and start again, or run "
                "./herald manage first_administrator at a terminal."
            )

    def _ask(self) -> None:
        self.stdout.write("Nobody has an account yet. Who is the first administrator?")
        while True:
            email, name = input("E-mail address: ").strip(), input("Name, as the record shows it: ").strip()
            try:
                self._make(email, name, getpass("Password, ten characters or more: "))
            except InvalidFields as error:
                self.stdout.write(_words(error))
            else:
                return

    def _make(self, email: str, name: str, password: str) -> None:
        make_account(
            email=email, name=name, role=Role.ADMINISTRATOR, time_zone="UTC", password=password, now=clock.now()
        )
        self.stdout.write(f"{email} can sign in as administrator, and invites everybody else on the page People.")


def _words(error: InvalidFields) -> str:
    return " ".join(message for _, message in error.problems)
