"""Conditions of the fleet that open attention items while they hold, and close them when they no longer do."""

from collections.abc import Mapping, Sequence
from datetime import datetime

from django.db.models import Q

from herald.attention.models import ItemKind
from herald.attention.services import close_item, open_item
from herald.clock.heartbeat import GATEWAY, mark_back
from herald.clock.silent_sites import keep_silent_sites
from herald.fleet.models import Device
from herald.fleet.presence import SILENT_RULE, SiteCalls, fleet_silence, silence_in
from herald.outages.models import PlannedOutage
from herald.outages.services import expected_silent, other_than, outages_now
from herald.people.standing_in import end_expired

LOW_BATTERY_PCT = 20


def refresh_conditions(*, now: datetime) -> None:
    """Look at every condition, and open, change or close its item."""
    end_expired(now=now)
    planned = outages_now(now)
    silent_sites = keep_silent_sites(planned, now=now)
    explained, rest_of_rule = _explained(planned, silent_sites)
    counts = Device.objects.trouble_counts(now, battery_below=LOW_BATTERY_PCT, but=explained)
    for kind, cause, count, rule in _listed(counts, rest_of_rule):
        _keep(kind, cause, count, rule, now)
    _keep_unknown_zones(now)
    silence = silence_in(counts)
    if silence is not None:
        mark_back(GATEWAY, now=now)  # what nobody could say is held against nobody
    unplanned = fleet_silence(now, but=expected_silent(planned)) if silence is not None and planned else silence
    if unplanned is None:
        close_item(ItemKind.FLEET_SILENT, now=now)
    else:
        open_item(ItemKind.FLEET_SILENT, cause=unplanned.words, count=unplanned.expected - unplanned.heard, now=now)


def _explained(planned: Sequence[PlannedOutage], silent: Sequence[SiteCalls]) -> tuple[Q | None, str]:
    """The devices whose silence something else tells of, and how a rule leaves them out."""
    sites = {o.site.name for o in planned if o.site} | {s.name for s in silent}
    groups = {o.group.name for o in planned if o.group}
    if not sites and not groups:
        return None, ""
    found = expected_silent(planned) | Q(site__in=[s.site for s in silent])
    return found, other_than(sorted(sites), sorted(groups))


def _listed(counts: Mapping[str, int], rest_of_rule: str) -> list[tuple[ItemKind, str, int, str]]:
    """Kind, words, number of devices and the rule that lists them."""
    return [
        (
            ItemKind.SILENT,
            "Silent for over 24 h",
            counts["silent"],
            f"{SILENT_RULE}{rest_of_rule}",
        ),
        (
            ItemKind.LOW_BATTERY,
            f"Battery below {LOW_BATTERY_PCT}%",
            counts["low_battery"],
            f"admission = admitted and battery < {LOW_BATTERY_PCT}",
        ),
        (
            ItemKind.NO_FIRMWARE,
            "Report no firmware",
            counts["no_firmware"],
            "admission = admitted and firmware is missing",
        ),
        (
            ItemKind.AWAITING_ADMISSION,
            "Wait for admission",
            counts["waiting"],
            "admission = waiting",
        ),
    ]


def _keep_unknown_zones(now: datetime) -> None:
    cause = "In a time zone that is not known, so no hours hold for them"
    _keep(ItemKind.UNKNOWN_ZONE, cause, Device.objects.in_unknown_zones(), "", now)


def _keep(kind: ItemKind, cause: str, count: int, rule: str, now: datetime) -> None:
    if count:
        open_item(kind, cause=cause, count=count, rule=rule, now=now)
    else:
        close_item(kind, now=now)
