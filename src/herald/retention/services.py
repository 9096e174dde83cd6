"""How long things are kept: shown with what it takes and what would go, and set by administrators."""

from dataclasses import dataclass
from datetime import datetime

from django.db import connection, transaction

from herald.http.errors import Conflict, InvalidFields, NotFound
from herald.people.models import User
from herald.record.models import Kind as Subject
from herald.record.services import record
from herald.retention.kinds import KINDS, Kind, limit_of
from herald.retention.models import KeptKind

MOST_DAYS = 36_500


@dataclass(frozen=True, kw_only=True)
class Shown:
    """A kind as it stands. `bytes` is what its tables take on disk; other kinds may stand in the same ones."""

    kind: Kind
    kept: KeptKind
    oldest: datetime | None
    bytes: int


def shown_kinds() -> list[Shown]:
    """All kinds, in their order."""
    return [_shown(kind) for kind in KINDS.values()]


def shown(key: str) -> Shown:
    """One kind.

    Raises:
        NotFound: there is no such kind.
    """
    return _shown(_kind(key))


def goes_with(key: str, days: int, *, now: datetime) -> tuple[int, str]:
    """How many of a kind would be deleted if it were kept for so many days: as a number, and in words.

    Raises:
        NotFound, InvalidFields: as `set_kept`.
    """
    kind = _kind(key)
    _check(kind, days)
    count = kind.count(limit_of(days, now))
    return count, kind.counted(count)


def set_kept(
    key: str, *, days: int | None, archives: bool, confirmed: int | None, actor: User, now: datetime
) -> KeptKind:
    """Say for how many days a kind is kept, None for ever, and whether it is written to files before it goes.

    Raises:
        NotFound: there is no such kind. InvalidFields: fewer days than the program needs, or too many.
        Conflict: rows would go, and `confirmed` is not how many; its `deletes` says how many.
    """
    kind = _kind(key)
    _check(kind, days)
    with transaction.atomic():
        KeptKind.objects.get_or_create(key=key, defaults={"days": None})
        kept = KeptKind.objects.select_for_update().get(key=key)
        if days is not None and (kept.days is None or days < kept.days):
            goes = kind.count(limit_of(days, now))
            if goes and goes != confirmed:
                words = f"This deletes {kind.counted(goes)}. Send deletes: {goes} to agree to that."
                raise Conflict(words, deletes=goes)
        before = {"days": kept.days, "archives": kept.archives}
        after = {"days": days, "archives": archives}
        if before == after:
            return kept
        kept.days, kept.archives, kept.changed_by, kept.changed_at = days, archives, actor, now
        kept.save(update_fields=["days", "archives", "changed_by", "changed_at"])
        how_long = f"for {days} days" if days is not None else "for ever"
        files = ", then written to files" if archives and days is not None else ""
        sentence = f"{kind.name}: kept {how_long}{files}"
        record(now=now, actor=actor, kind=Subject.RETENTION, object_id=0, sentence=sentence, before=before, after=after)
    return kept


def _kind(key: str) -> Kind:
    if key not in KINDS:
        raise NotFound(f"There is nothing called “{key}” that is kept for a time. There are: {', '.join(KINDS)}.")
    return KINDS[key]


def _check(kind: Kind, days: int | None) -> None:
    if days is not None and not kind.least <= days <= MOST_DAYS:
        words = f"The program itself needs {kind.least} days of them; give {kind.least} to {MOST_DAYS:,}, or for ever."
        raise InvalidFields([("/days", words)])


def _shown(kind: Kind) -> Shown:
    kept = KeptKind.objects.select_related("changed_by").filter(key=kind.key).first()
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT sum(pg_total_relation_size(name::regclass)) FROM unnest(%s::text[]) name", [[*kind.tables]]
        )
        size = int(cursor.fetchone()[0])
    return Shown(kind=kind, kept=kept or KeptKind(key=kind.key, days=None), oldest=kind.oldest(), bytes=size)
