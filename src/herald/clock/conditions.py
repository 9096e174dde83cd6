"""Conditions of the fleet that open attention items while they hold, and close them when they no longer do."""

from collections.abc import Mapping
from datetime import datetime

from herald.attention.models import ItemKind
from herald.attention.services import close_item, open_item
from herald.clock.heartbeat import GATEWAY, mark_back
from herald.fleet.models import Device
from herald.fleet.presence import silence_in

LOW_BATTERY_PCT = 20


def refresh_conditions(*, now: datetime) -> None:
    """Look at every condition, and open, change or close its item."""
    counts = Device.objects.trouble_counts(now, battery_below=LOW_BATTERY_PCT)
    for kind, cause, count, rule in _listed(counts):
        _keep(kind, cause, count, rule, now)
    _keep_unknown_zones(now)
    silence = silence_in(counts)
    if silence is None:
        close_item(ItemKind.FLEET_SILENT, now=now)
    else:
        mark_back(GATEWAY, now=now)  # what nobody could say is held against nobody
        open_item(ItemKind.FLEET_SILENT, cause=silence.words, count=silence.expected - silence.heard, now=now)


def _listed(counts: Mapping[str, int]) -> list[tuple[ItemKind, str, int, str]]:
    """Kind, words, number of devices and the rule that lists them."""
    return [
        (
            ItemKind.SILENT,
            "Silent for over 24 h",
            counts["silent"],
            'admission = admitted and presence any of (silent, "never seen")',
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
