"""Sites that fell silent: one item for an uplink that is gone, not one for each device behind it."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.db.models import QuerySet

from herald.attention.models import Item, ItemKind
from herald.attention.services import close_item, open_item, put_off
from herald.clock.heartbeat import GATEWAY, heartbeats
from herald.fleet.models import Device
from herald.fleet.presence import SiteCalls, fleet_silence
from herald.outages.models import PlannedOutage
from herald.outages.services import expected_silent
from herald_core.rules.printer import value_text
from herald_core.text import in_words

#: a site with fewer devices that call is too small to be judged as a whole
AT_LEAST = 5
#: with a smaller share of them on time a site is silent, and with a larger one it is back
SILENT_BELOW, BACK_ABOVE = 0.1, 0.5
#: so many sites have items of their own; when more fall silent, they have one cause, and one item
MOST_APART = 3
NAMED = 3


def keep_silent_sites(planned: Sequence[PlannedOutage], *, now: datetime) -> list[SiteCalls]:
    """Open, change and close the items of sites that fell silent; those that are silent and were not planned to be.

    While the fleet as a whole is silent, that is said of the fleet, and no site is told of besides.
    """
    gateway = heartbeats().get(GATEWAY)
    since = gateway.back_at if gateway is not None else now
    asked: dict[str, Any] = {"reachable_since": since, "at_least": AT_LEAST, "below": BACK_ABOVE}
    quiet = {s.site: s for s in Device.objects.quiet_sites(now, **asked)}
    ends = {o.site_id: o.ends_at for o in planned if o.site_id is not None}
    of_groups = [o for o in planned if o.group_id is not None]
    if of_groups and quiet:
        others = Device.objects.exclude(expected_silent(of_groups)).quiet_sites(now, **asked)
        explained = quiet.keys() - {s.site for s in others}
        ends = dict.fromkeys(explained, max(o.ends_at for o in of_groups)) | ends
    apart = set(_open().filter(object_kind="site").values_list("object_id", flat=True))
    for site in sorted(apart - quiet.keys()):
        close_item(ItemKind.SITE_SILENT, object_kind="site", object_id=site, now=now)
        apart.discard(site)
    if apart or quiet:
        _keep(quiet, ends, apart, now)
    if not quiet:
        close_item(ItemKind.SITE_SILENT, now=now)
    return [s for s in quiet.values() if s.site in apart or _is_silent(s)]


def _keep(quiet: dict[int, SiteCalls], ends: dict[int, datetime], apart: set[int], now: datetime) -> None:
    for site in sorted(apart):
        _open_one(quiet[site], now)
        if site in ends:
            put_off(ItemKind.SITE_SILENT, object_kind="site", object_id=site, until=ends[site])
    if fleet_silence(now) is not None:
        return
    fallen = [s for pk, s in sorted(quiet.items()) if pk not in apart and pk not in ends and _is_silent(s)]
    together = _open().filter(object_kind="").exists()
    if not together and len(apart) + len(fallen) <= MOST_APART:
        for one in fallen:
            _open_one(one, now)
        return
    if not fallen:
        close_item(ItemKind.SITE_SILENT, now=now)
        return
    names = [s.name for s in fallen]
    more = [*names[:NAMED], f"{len(names) - NAMED} more"] if len(names) > NAMED + 1 else names
    latest = max(s.latest for s in fallen)
    open_item(
        ItemKind.SITE_SILENT,
        cause=f"{len(names)} sites at once, none heard from since {latest:%H:%M} UTC: {in_words(more)}",
        count=sum(s.expected - s.heard for s in fallen),
        rule=f"site any of ({', '.join(map(value_text, names[:1000]))}) and presence any of (late, silent)",
        now=now,
    )


def _open_one(one: SiteCalls, now: datetime) -> None:
    open_item(
        ItemKind.SITE_SILENT,
        cause=one.words,
        object_kind="site",
        object_id=one.site,
        count=one.expected - one.heard,
        rule=f"site = {value_text(one.name)} and presence any of (late, silent)",
        now=now,
    )


def _is_silent(one: SiteCalls) -> bool:
    return one.heard < one.expected * SILENT_BELOW


def _open() -> "QuerySet[Item]":
    return Item.objects.open().of_kinds([ItemKind.SITE_SILENT])
