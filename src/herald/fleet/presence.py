"""Presence: how long ago a device was heard of, measured by its own interval."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db.models import (
    Aggregate,
    Case,
    Count,
    DateTimeField,
    DurationField,
    ExpressionWrapper,
    F,
    Max,
    Q,
    TextField,
    Value,
    When,
)
from django.db.models.functions import Greatest

ON_TIME_INTERVALS = 2
SILENT_INTERVALS = 10
SILENT_AFTER = timedelta(hours=24)
#: the admitted devices of `not_heard_for_long`, as a rule
SILENT_RULE = 'admission = admitted and presence any of (silent, "never seen")'
#: Now tells how many devices were heard from so long ago at most
HEARD_WITHIN = timedelta(minutes=30)


def heard_in_time(now: datetime, path: str = "") -> Q:
    """True of a device that is on time; false, never unknown, of any other. `path` leads to the device, as in
    "device__"."""
    interval = ExpressionWrapper(
        F(f"{path}check_in_interval_seconds") * Value(timedelta(seconds=ON_TIME_INTERVALS), DurationField()),
        DurationField(),
    )
    since = ExpressionWrapper(Value(now, DateTimeField()) - interval, DateTimeField())
    return Q(**{f"{path}last_check_in__isnull": False, f"{path}last_check_in__gte": since})


def not_heard_for_long(now: datetime, path: str = "") -> Q:
    """True of a device that is silent or was never seen; false, never unknown, of any other. `path` leads to the
    device, as in "device__"."""
    intervals = F(f"{path}check_in_interval_seconds") * Value(timedelta(seconds=SILENT_INTERVALS), DurationField())
    silent = Greatest(
        ExpressionWrapper(intervals, DurationField()),
        Value(SILENT_AFTER, DurationField()),
    )
    since = ExpressionWrapper(Value(now, DateTimeField()) - silent, DateTimeField())
    return Q(**{f"{path}last_check_in__isnull": True}) | Q(**{f"{path}last_check_in__lt": since})


def presence_expression(now: datetime) -> Case:
    """Presence as text: on time (within 2 intervals), late, silent (over 24 h or 10 intervals,
    whichever is longer), never seen."""
    return Case(
        When(last_check_in__isnull=True, then=Value("never seen")),
        When(heard_in_time(now), then=Value("on time")),
        When(not_heard_for_long(now), then=Value("silent")),
        default=Value("late"),
        output_field=TextField(),
    )


def presence_of(last_check_in: datetime | None, interval_seconds: int, now: datetime) -> str:
    """The same for one device in memory."""
    if last_check_in is None:
        return "never seen"
    interval = timedelta(seconds=interval_seconds)
    if last_check_in >= now - interval * ON_TIME_INTERVALS:
        return "on time"
    return "late" if last_check_in >= now - max(interval * SILENT_INTERVALS, SILENT_AFTER) else "silent"


#: a fleet with fewer devices that call is too small to be judged as a whole
FLEET_AT_LEAST = 20
#: devices that called within this time are expected to go on
EXPECTED_WITHIN = timedelta(days=7)
#: with fewer of them on time, the fleet as a whole is silent
FLEET_SILENT_BELOW = 0.1


@dataclass(frozen=True, kw_only=True)
class FleetSilence:
    """Nearly no device calls, although many did: more likely their way to the server than all of them."""

    expected: int
    heard: int
    since: datetime

    @property
    def words(self) -> str:
        """The silence in a sentence."""
        heard = f"only {self.heard}" if self.heard else "none"
        return (
            f"Of {self.expected:,} devices that call regularly {heard} has been heard from since {self.since:%H:%M} UTC"
        )


@dataclass(frozen=True)
class SiteCalls:
    """A site by its id and name: how many of its devices call regularly, how many of these are heard from in time, and
    when one called last."""

    site: int
    name: str
    expected: int
    heard: int
    latest: datetime

    @property
    def words(self) -> str:
        """Its silence in a sentence."""
        heard = f"only {self.heard}" if self.heard else "none"
        of = f"of {self.expected:,} devices that call regularly"
        return f"{self.name}: {of} {heard} has been heard from since {self.latest:%H:%M} UTC"


def fleet_silence(now: datetime, *, but: Q | None = None) -> FleetSilence | None:
    """Whether the fleet fell silent as a whole, `but` for some devices; None where it did not, or is too small to
    say."""
    from herald.fleet.models import Device  # the models' querysets import this module

    judged = Device.objects.exclude(but) if but is not None else Device.objects.all()
    return silence_in(judged.aggregate(**silence_counts(now)))


def silence_counts(now: datetime) -> dict[str, Aggregate]:
    """What must be counted over all devices to know whether they are silent as a whole; read by `silence_in`."""
    called = Q(admission="admitted", last_check_in__gt=now - EXPECTED_WITHIN)
    return {
        "expected": Count("id", filter=called),
        "heard": Count("id", filter=called & heard_in_time(now)),
        "latest": Max("last_check_in", filter=called),
    }


def silence_in(counts: Mapping[str, Any]) -> FleetSilence | None:
    """What the counts say; None where the fleet is not silent as a whole, or too small to say."""
    if counts["expected"] < FLEET_AT_LEAST or counts["heard"] >= counts["expected"] * FLEET_SILENT_BELOW:
        return None
    return FleetSilence(expected=counts["expected"], heard=counts["heard"], since=counts["latest"])
