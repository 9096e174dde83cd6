"""Make an account from the command line: the first one, before anybody can sign in."""

import os
from argparse import ArgumentParser
from getpass import getpass
from typing import Any

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError
from django.db import transaction

from herald.people.models import Role, User
from herald.record.models import Kind
from herald.record.services import record
from herald.time import clock
from herald_core.timing.clocks import is_zone


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
        if not is_zone(options["time_zone"]):
            raise CommandError(f"There is no time zone {options['time_zone']}. Name one like Europe/Lisbon.")
        password = os.environ.get("HERALD_NEW_PASSWORD") or getpass(f"Password for {email}: ")
        user = User(email=email, name=options["name"] or email, role=options["role"], time_zone=options["time_zone"])
        try:
            validate_password(password, user)
            user.set_password(password)
            user.full_clean()
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from None
        with transaction.atomic():
            user.save()
            sentence = f"Made the account {email}, {user.get_role_display().lower()}, at the command line"
            record(now=clock.now(), actor=None, kind=Kind.USER, object_id=user.pk, sentence=sentence)
        self.stdout.write(f"{email} can sign in as {user.get_role_display().lower()}.")
