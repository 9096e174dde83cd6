"""Verbs on the calendars that freezes are read from."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import structlog
from django.db import transaction

from herald.calendar.icalendars import MOST_BYTES, CalendarError, CalendarEvent, ReadCalendar, read_calendar
from herald.calendar.models import UTC_CLOCK, CalendarSource, Freeze
from herald.calendar.services import check_holds
from herald.fleet.models import Site
from herald.groups.models import Group
from herald.http.errors import Conflict, Invalid
from herald.http.outbound import FetchError, fetch, in_turn
from herald.live.notify import notify
from herald.people.models import User
from herald.record.models import Kind
from herald.record.services import record
from herald_core.text import in_words
from herald_core.timing.clocks import is_zone

ACCEPT = "text/calendar, text/plain;q=0.5"
log = structlog.get_logger(__name__)


@dataclass(frozen=True, kw_only=True)
class SourceDraft:
    """A calendar as it is written down: an address that is read again and again, or the text of a file."""

    name: str
    url: str = ""
    text: str = ""
    time_zone: str = UTC_CLOCK
    read_every_minutes: int = 60
    everywhere: bool = False
    groups: Sequence[Group] = ()
    sites: Sequence[Site] = ()


@dataclass(frozen=True, kw_only=True)
class SourceChanges:
    """What reading a calendar does to the freezes that were read from it before."""

    new: Sequence[CalendarEvent]
    changed: Sequence[CalendarEvent]
    same: int
    gone: Sequence[Freeze]

    @property
    def words(self) -> str:
        parts = [(len(self.new), "new"), (len(self.changed), "changed"), (len(self.gone), "gone")]
        return in_words([f"{n} {word}" for n, word in parts if n]) or "nothing changed"


def read_draft(draft: SourceDraft, *, now: datetime) -> ReadCalendar:
    """What stands in the calendar now. Fetches it where it is an address.

    Raises:
        Invalid: it cannot be read, with why.
    """
    if bool(draft.url) == bool(draft.text):
        raise Invalid("/url", "Give the address of a calendar, or a file.")
    if not is_zone(draft.time_zone):
        raise Invalid("/time_zone", f"There is no time zone “{draft.time_zone}”; they are named like Europe/Lisbon.")
    try:
        data = _at(draft.url) if draft.url else draft.text.encode()
        return read_calendar(data, time_zone=draft.time_zone, now=now)
    except (FetchError, CalendarError) as error:
        raise Invalid("/url" if draft.url else "/text", str(error)) from error


def _at(url: str) -> bytes:
    """The calendar at an address; FetchError says why there is none."""
    return fetch(url, most_bytes=MOST_BYTES, accept=ACCEPT).body


def changes_by(source: CalendarSource | None, events: Sequence[CalendarEvent], *, now: datetime) -> SourceChanges:
    """What reading these events would change. What is over stays: it was held."""
    known = {f.source_uid: f for f in Freeze.objects.filter(source=source)} if source else {}
    new = [e for e in events if e.uid not in known]
    changed = [e for e in events if e.uid in known and not _agrees(known[e.uid], e)]
    there = {e.uid for e in events}
    gone = [f for uid, f in known.items() if uid not in there and f.ends_at > now]
    return SourceChanges(new=new, changed=changed, same=len(events) - len(new) - len(changed), gone=gone)


def save_source(
    draft: SourceDraft, *, actor: User, now: datetime, source: CalendarSource | None = None
) -> CalendarSource:
    """Write a calendar down, new or in place of what `source` was, with the freezes that stand in it.

    Raises:
        Invalid: it cannot be read, holds nobody, or its name is taken.
    """
    name = draft.name.strip()
    if CalendarSource.objects.filter(name=name).exclude(pk=source and source.pk).exists():
        raise Invalid("/name", f"There is a calendar named “{name}” already.")
    check_holds(draft.everywhere, draft.groups, draft.sites)
    read = read_draft(draft, now=now)
    with transaction.atomic():
        verb = "Changed" if source else "Added"
        source = CalendarSource.objects.select_for_update().get(pk=source.pk) if source else CalendarSource()
        source.created_by = source.created_by or actor
        source.name, source.url, source.time_zone = name, draft.url, draft.time_zone
        source.read_every_minutes, source.everywhere = draft.read_every_minutes, draft.everywhere
        source.tried_at = source.read_at = now
        source.last_error = ""
        source.save()
        source.groups.set(draft.groups)
        source.sites.set(draft.sites)
        ahead = Freeze.objects.filter(source=source, ends_at__gt=now)
        ahead.update(everywhere=draft.everywhere)
        for freeze in ahead:
            freeze.groups.set(draft.groups)
            freeze.sites.set(draft.sites)
        changes = _apply(source, read.events, now=now)
        sentence = f"{verb} the calendar {name}: freezes {changes.words}"
        record(now=now, actor=actor, kind=Kind.CALENDAR, object_id=source.pk, sentence=sentence)
    return source


def read_again(source: CalendarSource, *, actor: User | None, now: datetime) -> CalendarSource:
    """Read an address again, and note how that went. An address that cannot be read changes no freeze.

    Raises:
        Conflict: it is a file.
    """
    if not source.url:
        raise Conflict(f"“{source.name}” came as a file; bring the file again to change what was read from it.")
    error = ""
    try:
        events = read_calendar(_at(source.url), time_zone=source.time_zone, now=now).events
    except (FetchError, CalendarError) as failed:
        error, events = str(failed), ()
    with transaction.atomic():
        kept: CalendarSource | None = CalendarSource.objects.select_for_update().filter(pk=source.pk).first()
        if kept is None or kept.url != source.url:
            return source  # removed or changed while it was read
        kept.tried_at, kept.last_error = now, error[:300]
        if not error:
            kept.read_at = now
            changes = _apply(kept, events, now=now)
            if changes.new or changes.changed or changes.gone:
                sentence = f"Read the calendar {kept.name} again: freezes {changes.words}"
                record(now=now, actor=actor, kind=Kind.CALENDAR, object_id=kept.pk, sentence=sentence)
        kept.save()
        notify("freezes")
    return kept


def read_due(*, now: datetime) -> int:
    """Read the addresses that are due, one after another; how many are. One that fails keeps no other waiting for
    longer than its own time limit, and what is left after a while is read in the next turn."""
    due = list(CalendarSource.objects.due(now))
    for source in in_turn(due):
        try:
            read_again(source, actor=None, now=now)
        except Exception:
            log.exception("calendar_not_read", source=source.pk)
            message = "The server failed as it read this; its log says how."
            CalendarSource.objects.filter(pk=source.pk).update(tried_at=now, last_error=message)
    return len(due)


def delete_source(source: CalendarSource, *, actor: User, now: datetime) -> None:
    """Take a calendar away, with the freezes that were read from it."""
    with transaction.atomic():
        ahead = Freeze.objects.filter(source=source, ends_at__gt=now).count()
        sentence = f"Removed the calendar {source.name}, and with it {ahead} freezes that were not over"
        record(now=now, actor=actor, kind=Kind.CALENDAR, object_id=source.pk, sentence=sentence)
        source.delete()
        notify("freezes")


def _agrees(freeze: Freeze, event: CalendarEvent) -> bool:
    told = (freeze.name, freeze.why, freeze.starts_at, freeze.ends_at)
    return told == (event.name, event.why, event.starts_at, event.ends_at)


def _apply(source: CalendarSource, events: Sequence[CalendarEvent], *, now: datetime) -> SourceChanges:
    """Make the freezes of a source what its events say."""
    changes = changes_by(source, events, now=now)
    known = {f.source_uid: f for f in Freeze.objects.filter(source=source)} if changes.changed else {}
    groups, sites = list(source.groups.all()), list(source.sites.all())
    for event in [*changes.new, *changes.changed]:
        freeze = known.get(event.uid)
        made = freeze or Freeze(source=source, source_uid=event.uid, created_by=source.created_by, revision=0)
        made.name, made.why, made.time_zone = event.name, event.why, source.time_zone
        made.starts_at, made.ends_at = event.starts_at, event.ends_at
        made.everywhere = source.everywhere
        made.revision += 1
        made.save()
        if freeze is None:
            made.groups.set(groups)
            made.sites.set(sites)
    Freeze.objects.filter(pk__in=[f.pk for f in changes.gone]).delete()
    notify("freezes")
    return changes
