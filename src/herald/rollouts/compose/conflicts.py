"""What else wants the devices of a draft, and what will happen: other rollouts, freezes, schedules."""

from datetime import datetime
from typing import TYPE_CHECKING

from herald.calendar.services import freezes_between, held_by
from herald.deliveries.conflicts import AudienceConflict, conflicts_with_others, register_conflict_finder
from herald.deliveries.models import Delivery
from herald.rollouts.models import Rollout
from herald.rollouts.preflight.plan import audience_of
from herald.rollouts.watch.sentence import short_words

if TYPE_CHECKING:
    from django.db.models import QuerySet

    from herald.fleet.models import Device


@register_conflict_finder
def open_rollouts(devices: "QuerySet[Device]", now: datetime) -> list[AudienceConflict]:
    """Open rollouts that have something to send to these devices, for what is planned beside them."""
    wanted = Delivery.objects.open_in_others(None).filter(device__in=devices.values("pk"))
    found = []
    for other in Rollout.objects.moving():
        if count := wanted.filter(rollout=other).count():
            name = f"Rollout {other.pk} of {short_words(other)} ({other.get_state_display().lower()})"
            what = "a device that is busy with one waits with the other"
            found.append(AudienceConflict(kind="rollout", id=other.pk, name=name, devices=count, what=what))
    return found


def conflicts_of(rollout: Rollout, *, now: datetime) -> list[AudienceConflict]:
    """What a draft meets, were it launched now."""
    devices = audience_of(rollout, now).order_by()
    others = [c for c in conflicts_with_others(devices, now) if c.kind != "rollout"]  # told in its own way
    return [*_rollouts(rollout, devices), *_freezes(rollout, devices, now), *others]


def _rollouts(rollout: Rollout, devices: "QuerySet[Device]") -> list[AudienceConflict]:
    wanted = Delivery.objects.open_in_others(rollout.pk).filter(device__in=devices.values("pk"))
    found = []
    for other in Rollout.objects.moving():
        if count := wanted.filter(rollout=other).count():
            what = "it goes first; where this one brings a newer version of the same kind, this takes its place"
            name = f"Rollout {other.pk} of {short_words(other)} ({other.get_state_display().lower()})"
            found.append(AudienceConflict(kind="rollout", id=other.pk, name=name, devices=count, what=what))
    return found


def _freezes(rollout: Rollout, devices: "QuerySet[Device]", now: datetime) -> list[AudienceConflict]:
    starts = max(now, rollout.starts_at or now)
    until = rollout.end_for(starts)
    found = []
    for freeze in freezes_between(starts, until):
        if count := devices.filter(held_by(freeze)).count():
            held = f"nothing is installed from {freeze.starts_at:%-d %b %H:%M} to {freeze.ends_at:%-d %b %H:%M} UTC"
            what = f"gone on in, as said: {rollout.freeze_override_reason}" if rollout.ignores_freezes else held
            found.append(
                AudienceConflict(kind="freeze", id=freeze.pk, name=f"Freeze “{freeze.name}”", devices=count, what=what)
            )
    return found
