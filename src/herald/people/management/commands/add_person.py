"""Make an account from the command line: the first one, before anybody can sign in."""

import os
from argparse import ArgumentParser
from getpass import getpass
from typing import Any

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError

from herald.people.models import Role, User


class Command(BaseCommand):
    help = "Make an account. The password is asked for, or taken from HERALD_NEW_PASSWORD."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("email")
        parser.add_argument("--name", default="", help="as the record shows it; the e-mail address, if left out")
        parser.add_argument("--role", choices=Role.values, default=Role.OPERATOR.value)
        parser.add_argument("--time-zone", default="UTC")

    def handle(self, *args: Any, **options: Any) -> None:
        email: str = options["email"].lower()
        if User.objects.filter(email=email).exists():
            raise CommandError(f"{email} has an account already.")
        password = os.environ.get("HERALD_NEW_PASSWORD") or getpass(f"Password for {email}: ")
        user = User(email=email, name=options["name"] or email, role=options["role"], time_zone=options["time_zone"])
        try:
            validate_password(password, user)
            user.set_password(password)
            user.full_clean()
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from None
        user.save()
        self.stdout.write(f"{email} can sign in as {user.get_role_display().lower()}.")
