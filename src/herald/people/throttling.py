"""Failed sign-ins slow down whoever makes them, and never lock an account: nobody can shut out the person on call.

They are counted in the database, for all server processes together, by account *and* address, and by address over all
accounts. After a few the next try has to wait, for twice as long each time, for a minute at most. Whoever is limited to
some devices sees none of these counts, and is counted all the same.
"""

from datetime import UTC, datetime, timedelta

from django.db.models import F

from herald.db.limits import beyond_limits
from herald.http.errors import Invalid
from herald.people.models import FailedSignIn

#: so many failures are anybody's slip; an address that many people share may have more
FREE_OF_ACCOUNT, FREE_OF_ADDRESS = 5, 30
FIRST_WAIT, LONGEST_WAIT = timedelta(seconds=1), timedelta(minutes=1)
#: failures are forgotten so long after the last one
FORGOTTEN_AFTER = timedelta(minutes=30)


class NotProved(Invalid):
    """A password, code or passkey does not show that whoever sits at an open session is who signed in."""


def wait_before(email: str, address: str, *, real_now: datetime | None = None) -> timedelta:
    """How long this account has to wait at this address before it may try again; nothing for most."""
    now = real_now or datetime.now(UTC)
    longest = timedelta(0)
    with beyond_limits():
        rows = {r.key: r for r in FailedSignIn.objects.filter(key__in=_keys(email, address))}
    for key, free in zip(_keys(email, address), (FREE_OF_ACCOUNT, FREE_OF_ADDRESS), strict=True):
        row = rows.get(key)
        if row is not None and row.failures >= free and now - row.last_at < FORGOTTEN_AFTER:
            wait = min(LONGEST_WAIT, FIRST_WAIT * 2 ** min(row.failures - free, 10))
            longest = max(longest, row.last_at + wait - now)
    return longest


def note_failure(email: str, address: str, *, real_now: datetime | None = None) -> None:
    """Count a failed sign-in."""
    now = real_now or datetime.now(UTC)
    with beyond_limits():
        FailedSignIn.objects.filter(last_at__lt=now - FORGOTTEN_AFTER).delete()
        for key in _keys(email, address):
            if not FailedSignIn.objects.filter(key=key).update(failures=F("failures") + 1, last_at=now):
                first = FailedSignIn(key=key, failures=1, last_at=now)
                FailedSignIn.objects.bulk_create([first], ignore_conflicts=True)


def note_success(email: str, address: str) -> None:
    """Forget the failures of an account at an address, as its person is there now."""
    with beyond_limits():
        FailedSignIn.objects.filter(key=_keys(email, address)[0]).delete()


def _keys(email: str, address: str) -> tuple[str, str]:
    return f"{address} {email.lower()[:254]}", address
