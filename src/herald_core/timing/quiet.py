"""When somebody wants to be written to: at once, once a day, and not in their quiet hours."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from enum import StrEnum

from herald_core.timing.clocks import instant, zone


class MailWhen(StrEnum):
    """How somebody takes what is not urgent."""

    AT_ONCE = "at-once"
    DAILY = "daily"
    NEVER = "never"


@dataclass(frozen=True, kw_only=True)
class Wishes:
    """By a person's own clock: how they take mail, at what time the daily one comes, and from when until when they want
    quiet (over midnight, where `quiet_from` is the later; never, where one is None)."""

    zone: str = "UTC"
    when: MailWhen = MailWhen.AT_ONCE
    daily_at: time = time(8)
    quiet_from: time | None = None
    quiet_until: time | None = None


def mail_due(now: datetime, wishes: Wishes, *, urgent: bool) -> datetime | None:
    """When a mail about something that happened `now` is to go; None for never. What is urgent goes at once, whatever
    is wished."""
    if urgent:
        return now
    match wishes.when:
        case MailWhen.NEVER:
            return None
        case MailWhen.DAILY:
            return next_at(now, wishes.daily_at, wishes.zone)
        case MailWhen.AT_ONCE:
            return _quiet_end(now, wishes) or now


def next_at(now: datetime, at: time, zone_name: str, *, days: Collection[int] = range(7)) -> datetime:
    """The next instant after `now` at which it is that time in a zone, on one of these days of the week (0 is Monday;
    at least one); the jump, where the clock jumps over it."""
    day = now.astimezone(zone(zone_name)).date()
    while True:
        moment = instant(datetime.combine(day, at), zone_name)[0]
        if moment > now and day.weekday() in days:
            return moment.astimezone(UTC)
        day += timedelta(days=1)


def _quiet_end(now: datetime, wishes: Wishes) -> datetime | None:
    """When the quiet hours in which `now` lies end; None outside of them."""
    begin, end = wishes.quiet_from, wishes.quiet_until
    if begin is None or end is None or begin == end:
        return None
    here = now.astimezone(zone(wishes.zone)).time()
    is_quiet = begin <= here < end if begin < end else here >= begin or here < end
    return next_at(now, end, wishes.zone) if is_quiet else None
