"""Conditions of the fleet that open attention items while they hold, and close them when they no longer do."""

from datetime import datetime

from herald.attention.models import ItemKind
from herald.attention.services import close_item, open_item
from herald.clock.heartbeat import GATEWAY, mark_back
from herald.fleet.models import Device
from herald.fleet.presence import fleet_silence

LOW_BATTERY_PCT = 20


def refresh_conditions(*, now: datetime) -> None:
    """Look at every condition, and open, change or close its item."""
    for kind, cause, count, rule in _counted(now):
        _keep(kind, cause, count, rule, now)
    silence = fleet_silence(now)
    if silence is None:
        close_item(ItemKind.FLEET_SILENT, now=now)
    else:
        mark_back(GATEWAY, now=now)  # what nobody could say is held against nobody
        open_item(ItemKind.FLEET_SILENT, cause=silence.words, count=silence.expected - silence.heard, now=now)


def _counted(now: datetime) -> list[tuple[ItemKind, str, int, str]]:
    """Kind, words, number of devices and the rule that lists them."""
    admitted = Device.objects.filter(admission="admitted")
    return [
        (
            ItemKind.SILENT,
            "Silent for over 24 h",
            Device.objects.silent(now).count(),
            'admission = admitted and presence any of (silent, "never seen")',
        ),
        (
            ItemKind.LOW_BATTERY,
            f"Battery below {LOW_BATTERY_PCT}%",
            admitted.low_battery(LOW_BATTERY_PCT).count(),
            f"admission = admitted and battery < {LOW_BATTERY_PCT}",
        ),
        (
            ItemKind.NO_FIRMWARE,
            "Report no firmware",
            admitted.filter(firmware__isnull=True).count(),
            "admission = admitted and firmware is missing",
        ),
        (
            ItemKind.AWAITING_ADMISSION,
            "Wait for admission",
            Device.objects.filter(admission="waiting").count(),
            "admission = waiting",
        ),
        (
            ItemKind.UNKNOWN_ZONE,
            "In a time zone that is not known, so no hours hold for them",
            Device.objects.in_unknown_zones().count(),
            "",
        ),
    ]


def _keep(kind: ItemKind, cause: str, count: int, rule: str, now: datetime) -> None:
    if count:
        open_item(kind, cause=cause, count=count, rule=rule, now=now)
    else:
        close_item(kind, now=now)
