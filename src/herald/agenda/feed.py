"""The calendar as other programs read it: events by row, numbered as they change, called off when they go."""

import hashlib
import secrets
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any

from django.db import transaction
from icalendar import Calendar, Event

from herald.agenda.firings import Planned, planned
from herald.agenda.freezes import freezes_within
from herald.agenda.models import Feed, FeedEvent, FeedPart
from herald.agenda.rollouts import RolloutPlan, rollouts_within
from herald.agenda.rows import RowKind, Rows
from herald.calendar.icalendars import freeze_event, write_calendar
from herald.commands.models import Schedule
from herald.db.limits import limits_of
from herald.deliveries.waiting import counted
from herald.http.errors import Invalid, NotFound
from herald.people.models import User
from herald.record.models import Kind
from herald.record.services import record
from herald.rollouts.models import RolloutState
from herald.rollouts.watch.sentence import title_of
from herald_core.timing.clocks import city, instant, zone
from herald_core.timing.firings import firings_within
from herald_core.timing.recurrence import Recurrence, until_of
from herald_core.timing.windows import DEVICE_CLOCK, openings

BEHIND, AHEAD = timedelta(days=7), timedelta(days=42)
#: so far ahead a clock change may move a firing
SHIFTED_AHEAD = timedelta(days=400)
#: an event that was called off is told so for so long
TOLD_FOR = timedelta(days=60)
#: a firing without a spread, and a gate that is due, are drawn so long
SHORTEST = timedelta(minutes=5)
MOST_FEEDS = 20
_STAMPS = ("DTSTAMP", "SEQUENCE", "LAST-MODIFIED")
_DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")


@dataclass(frozen=True, kw_only=True)
class FeedDraft:
    """A feed as its owner chose it."""

    name: str
    parts: Sequence[str]
    rows: RowKind = RowKind.ZONE
    keys: Sequence[str] = ()


def make_feed(draft: FeedDraft, *, owner: User, now: datetime) -> tuple[Feed, str]:
    """A new feed of one's own, and the secret of its address, which is told only once.

    Raises:
        Invalid: it would hold nothing, its name is taken, or its rows are not known.
    """
    if not draft.parts:
        raise Invalid("/parts", "Choose what it holds: hours, gates, firings or freezes.")
    if Feed.objects.filter(owner=owner, name=draft.name).exists():
        raise Invalid("/name", f"You have a feed named “{draft.name}” already.")
    if Feed.objects.filter(owner=owner).count() >= MOST_FEEDS:
        raise Invalid("/name", f"You have {MOST_FEEDS} feeds; delete one that nobody reads.")
    unknown = sorted(set(draft.keys) - Rows(draft.rows).keys)
    if unknown:
        raise Invalid("/keys", f"There is no row “{unknown[0]}”; the calendar lists them.")
    secret = secrets.token_urlsafe(32)
    with transaction.atomic():
        feed = Feed.objects.create(
            owner=owner,
            name=draft.name,
            secret_hash=_hash(secret),
            parts=sorted(set(draft.parts)),
            rows=draft.rows.value,
            keys=sorted(set(draft.keys)),
            created_at=now,
        )
        sentence = f"Made a calendar feed of their own: {feed.name}"
        record(now=now, actor=owner, kind=Kind.CALENDAR, object_id=feed.pk, sentence=sentence)
    return feed, secret


def revoke_feed(feed: Feed, *, actor: User, now: datetime) -> None:
    """Delete a feed: its address answers nothing from now on."""
    with transaction.atomic():
        sentence = f"Deleted the calendar feed {feed.name}"
        record(now=now, actor=actor, kind=Kind.CALENDAR, object_id=feed.pk, sentence=sentence)
        feed.delete()


def read_feed(secret: str, *, now: datetime) -> bytes:
    """The calendar at a secret address.

    Raises:
        NotFound: there is no such feed, or its owner's account is shut.
    """
    with transaction.atomic():
        feed = Feed.objects.select_for_update(of=("self",)).filter(secret_hash=_hash(secret), owner__is_active=True)
        found = feed.select_related("owner").first()
        if found is None:
            raise NotFound("There is no calendar at this address.")
        Feed.objects.filter(pk=found.pk).update(last_read_at=now)
        with limits_of(found.owner_id if found.owner.is_limited else None):
            events = _told(found, list(_events(found, now)), now)
    years = (date(now.year - 1, 1, 1), date(now.year + 2, 12, 31))
    return write_calendar(f"Brisk Herald: {found.name}", events, years=years)


def forget_told(owner: User) -> None:
    """Forget what a person's feeds have told: what is called off would be told with its name, and may be no more of
    theirs to see."""
    FeedEvent.objects.filter(feed__owner=owner).delete()


def _hash(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def _events(feed: Feed, now: datetime) -> Iterator[Event]:
    """Everything that the feed is about, as it is planned now."""
    rows = Rows(RowKind(feed.rows))
    keys = set(feed.keys) or rows.keys
    parts = set(feed.parts)
    if FeedPart.FIRINGS in parts:
        for plan in planned(list(Schedule.objects.planned()), rows, start=now, end=now + AHEAD):
            yield from _firing_events(plan, keys, now)
    if parts & {FeedPart.WINDOWS, FeedPart.GATES}:
        for rollout in rollouts_within(rows, start=now - BEHIND, end=now + AHEAD, now=now):
            if FeedPart.WINDOWS in parts:
                yield from _window_events(rollout, keys, now)
            if FeedPart.GATES in parts:
                yield from _gate_events(rollout, keys)
    if FeedPart.FREEZES in parts:
        told = set()
        for freeze in freezes_within(rows, start=now - BEHIND, end=now + SHIFTED_AHEAD):
            if freeze.time.pk not in told and (keys & freeze.devices.keys()):
                told.add(freeze.time.pk)
                yield freeze_event(freeze.time.freeze, now=now)


def _firing_events(plan: Planned, keys: set[str], now: datetime) -> Iterator[Event]:
    """A command once for each clock by which it fires, with its rule."""
    schedule, devices = plan.schedule, defaultdict[str, int](int)
    for (key, zone_name), n in plan.cells.items():
        if key in keys:
            devices[zone_name if schedule.clock == DEVICE_CLOCK else schedule.clock] += n
    recurrence = schedule.recurrence
    if recurrence is None:
        return
    lasts = max(SHORTEST, timedelta(minutes=schedule.spread_minutes))
    # what repeats begins with a time of its rule, also where that one is left out
    first = next(Recurrence(start=recurrence.start, rule=recurrence.rule).times(), None)
    for zone_name, n in sorted(devices.items()):
        if first is None or not n:
            continue
        clock = zone(zone_name)
        event = Event()
        event.add("UID", f"firing-{schedule.pk}-{zone_name.replace('/', '-')}@brisk-herald")
        event.add("SUMMARY", f"{schedule.title}, {city(zone_name)}: {counted(n)}")
        event.add("DTSTART", first.replace(tzinfo=clock))
        event.add("DURATION", lasts)
        if recurrence.rule:
            event.add("RRULE", _rule_of(recurrence.rule, zone_name))
        for left_out in sorted(recurrence.excluded):
            event.add("EXDATE", left_out.replace(tzinfo=clock))
        moved = firings_within(recurrence, [zone_name], start=now, end=now + SHIFTED_AHEAD)[zone_name]
        for firing in (f for f in moved if f.shift == "skipped"):
            # other programs leave out a time that its clock skips; this command runs right after it
            event.add("RDATE", firing.at.astimezone(clock))
        yield event


def _rule_of(rule: str, zone_name: str) -> dict[str, str | list[str] | datetime]:
    """A rule as it is read beside a start with a zone: its end is by universal time then (RFC 5545, 3.3.10)."""
    parts: dict[str, str | list[str] | datetime] = {}
    for part in rule.split(";"):
        name, value = part.split("=", 1)
        if name == "UNTIL":
            parts[name] = instant(until_of(value), zone_name)[0]
        else:
            parts[name] = value.split(",")
    return parts


def _window_events(plan: RolloutPlan, keys: set[str], now: datetime) -> Iterator[Event]:
    """The hours of a running rollout, once for each clock of the devices that are left."""
    rollout, window = plan.rollout, plan.rollout.window
    if rollout.state != RolloutState.RUNNING:
        return
    devices: dict[str, int] = defaultdict(int)
    for (key, zone_name), n in plan.left.items():
        if key in keys:
            devices[zone_name] += n
    begins = rollout.begins_at
    until = plan.forecast.high if plan.forecast and plan.forecast.high else rollout.expires_at
    # a forecast moves by minutes all the time, and an event is told anew each time that it changes
    until = until.replace(minute=0, second=0, microsecond=0) + timedelta(hours=1)
    for zone_name, n in sorted(devices.items()):
        event = Event()
        event.add("UID", f"window-{rollout.pk}-{zone_name.replace('/', '-')}@brisk-herald")
        event.add("SUMMARY", f"{title_of(rollout)}, {city(zone_name)}: {counted(n)} left")
        if window is None:
            event.add("DTSTART", begins.astimezone(UTC))
            event.add("DTEND", max(until, now + SHORTEST).astimezone(UTC))
            yield event
            continue
        spans = openings(window, zone_name, start=begins, end=begins + timedelta(days=15))
        if not spans:
            continue
        clock = zone(window.zone_of(zone_name))
        event.add("DTSTART", spans[0][0].astimezone(clock))
        event.add("DTEND", spans[0][1].astimezone(clock))
        rule: dict[str, object] = {"FREQ": "WEEKLY", "UNTIL": until.astimezone(UTC)}
        rule["BYDAY"] = [_DAYS[d] for d in sorted(window.days)]
        event.add("RRULE", rule)
        yield event


def _gate_events(plan: RolloutPlan, keys: set[str]) -> Iterator[Event]:
    """When the gates of a rollout are expected to be due."""
    if plan.rollout.state != RolloutState.RUNNING:
        return
    for span in plan.rings[:-1]:
        if span.ring.gate_met_at or span.through_at is None or not keys & span.devices.keys():
            continue
        event = Event()
        event.add("UID", f"gate-{span.ring.pk}@brisk-herald")
        title = title_of(plan.rollout)
        approval = ", needs an approval" if span.ring.needs_approval and not span.ring.approved_at else ""
        event.add("SUMMARY", f"Gate after ring {span.ring.position}, {span.ring.name}: {title}{approval}")
        due = span.through_at.replace(minute=span.through_at.minute // 15 * 15, second=0, microsecond=0)
        event.add("DTSTART", due.astimezone(UTC))
        event.add("DURATION", 3 * SHORTEST)
        if span.through_low and span.through_high:
            low, high = (m.astimezone(UTC) for m in (span.through_low, span.through_high))
            event.add("DESCRIPTION", f"Expected between {low:%-d %b %H:%M} and {high:%-d %b %H:%M} UTC")
        yield event


def _told(feed: Feed, events: Sequence[Event], now: datetime) -> list[Event]:
    """The events with their numbers, and those that were told before and are called off now."""
    known = {e.uid: e for e in FeedEvent.objects.filter(feed=feed)}
    told = []
    for event in events:
        uid = str(event["UID"])
        digest, text = _digest(event), event.to_ical().decode()
        kept = known.pop(uid, None) or FeedEvent(feed=feed, uid=uid)
        if kept.pk is None or kept.digest != digest or kept.cancelled_at is not None:
            kept.sequence = 0 if kept.pk is None else kept.sequence + 1
            kept.digest, kept.text, kept.ends_at, kept.cancelled_at = digest, text, _end_of(event), None
            kept.save()
        told.append(_stamped(event, kept.sequence, now))
    for kept in known.values():
        if kept.cancelled_at is None and kept.ends_at is not None and kept.ends_at <= now:
            kept.delete()  # it was, and nothing of it is called off
            continue
        if kept.cancelled_at is None:
            kept.cancelled_at, kept.sequence = now, kept.sequence + 1
            kept.save()
        if now - kept.cancelled_at > TOLD_FOR:
            kept.delete()
            continue
        event = _read(kept.text)
        event["STATUS"] = "CANCELLED"
        told.append(_stamped(event, kept.sequence, now))
    return told


def _digest(event: Event) -> str:
    bare = event.copy(recursive=True)
    for name in _STAMPS:
        bare.pop(name, None)
    return hashlib.sha256(bare.to_ical()).hexdigest()


def _stamped(event: Event, sequence: int, now: datetime) -> Event:
    for name in ("DTSTAMP", "SEQUENCE"):
        event.pop(name, None)
    event.add("DTSTAMP", now.astimezone(UTC))
    event.add("SEQUENCE", sequence)
    return event


def _read(text: str) -> Event:
    read = Calendar.from_ical(text)
    assert isinstance(read, Event)
    return read


def _end_of(event: Event) -> datetime | None:
    """When an event is over; None where it repeats without an end."""
    if "RRULE" in event:
        rule: Any = event["RRULE"]
        until: datetime | list[datetime] | None = rule.get("UNTIL")
        return until[0] if isinstance(until, list) else until
    ends: Any = event.end
    return None if ends is None else ends.astimezone(UTC)
