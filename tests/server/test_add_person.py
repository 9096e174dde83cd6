"""The first account of an installation, made at the command line."""

import pytest
from django.core.management import CommandError, call_command

from herald.people.models import User
from herald.record.models import RecordEntry

pytestmark = pytest.mark.django_db
GOOD = "seven-quiet-lamps"


def add(monkeypatch: pytest.MonkeyPatch, email: str, password: str = GOOD, **options: str) -> None:
    monkeypatch.setenv("HERALD_NEW_PASSWORD", password)
    call_command("add_person", email, **options)


def test_an_account_is_made_and_the_record_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    add(monkeypatch, "Ada@Example.org", role="administrator", time_zone="Europe/Lisbon")
    user = User.objects.get()
    assert (user.email, user.name, user.role, user.time_zone) == (
        "ada@example.org",
        "ada@example.org",
        "administrator",
        "Europe/Lisbon",
    )
    assert user.check_password(GOOD)
    assert RecordEntry.objects.get().sentence == "Made the account ada@example.org, administrator, at the command line"


@pytest.mark.parametrize(
    ("email", "password", "options"),
    [
        ("ada@example.org", "12345678", {}),
        ("not an address", GOOD, {}),
        ("ada@example.org", GOOD, {"time_zone": "Atlantis/Deep"}),
        ("ada@example.org", GOOD, {"role": "king"}),
    ],
)
def test_what_cannot_be_is_refused_and_makes_nothing(
    monkeypatch: pytest.MonkeyPatch, email: str, password: str, options: dict[str, str]
) -> None:
    with pytest.raises(CommandError):
        add(monkeypatch, email, password, **options)
    assert not User.objects.exists()
    assert not RecordEntry.objects.exists()


def test_an_address_has_one_account(monkeypatch: pytest.MonkeyPatch) -> None:
    add(monkeypatch, "ada@example.org")
    with pytest.raises(CommandError, match="has an account already"):
        add(monkeypatch, "ADA@example.org")
    assert User.objects.count() == 1
