"""Make an account from the command line, where nobody can sign in to invite somebody."""

import os
from argparse import ArgumentParser
from getpass import getpass
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from herald.http.errors import InvalidFields
from herald.people.accounts import make_account
from herald.people.models import Role
from herald.time import clock


class Command(BaseCommand):
    help = "Make an account. The password is asked for, or taken from HERALD_NEW_PASSWORD."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("email")
        parser.add_argument("--name", default="", help="as the record shows it; the e-mail address, if left out")
        parser.add_argument("--role", default=Role.OPERATOR.value, help=f"one of {', '.join(Role.values)}")
        parser.add_argument("--time-zone", default="UTC")

    def handle(self, *args: Any, **options: Any) -> None:
        email: str = options["email"].lower()
        if options["role"] not in Role.values:
            raise CommandError(f"There is no role {options['role']}; choose one of {', '.join(Role.values)}.")
        try:
            user = make_account(
                email=email,
                name=options["name"],
                role=Role(options["role"]),
                time_zone=options["time_zone"],
                password=os.environ.get("HERALD_NEW_PASSWORD") or getpass(f"Password for {email}: "),
                now=clock.now(),
            )
        except InvalidFields as error:
            raise CommandError(" ".join(message for _, message in error.problems)) from None
        self.stdout.write(f"{email} can sign in as {user.get_role_display().lower()}.")
