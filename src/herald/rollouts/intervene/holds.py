"""Holding devices of a rollout back, by name or by a rule, and releasing them; and common causes."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import transaction

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.services import device_ids
from herald.fleet.vocabulary import load_records, load_vocabulary
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.http.errors import Invalid, NobodyThere
from herald.people.models import User
from herald.rollouts.intervene.devices import check_open
from herald.rollouts.intervene.lifecycle import note
from herald.rollouts.models import Rollout
from herald_core.common_causes import Cause, find_common_causes
from herald_core.deliveries import NOT_CANCELLABLE, Phase
from herald_core.rules import to_text

CHUNK = 10_000


@dataclass(frozen=True, kw_only=True)
class HoldPreview:
    """What holding does: `waiting` are not offered, `recalled` offers are taken back, `finishing` are beyond recall."""

    waiting: int
    recalled: int
    finishing: int


def preview_hold(rollout: Rollout, *, rule: str, names: Sequence[str], now: datetime) -> HoldPreview:
    """What holding these devices would do.

    Raises:
        Invalid: neither or both a rule and devices are given. InvalidRule: the rule cannot be understood.
    """
    wanted = _target_deliveries(rollout, rule, names, now)
    return HoldPreview(
        waiting=wanted.filter(phase=Phase.WAITING.value, hold_reason="").count(),
        recalled=wanted.filter(phase=Phase.OFFERED.value).count(),
        finishing=wanted.filter(phase__in=[p.value for p in NOT_CANCELLABLE]).count(),
    )


def hold(
    rollout: Rollout, *, rule: str, names: Sequence[str], reason: str, actor: User | None, now: datetime
) -> HoldPreview:
    """Offer nothing to these devices until they are released.

    Raises:
        Invalid: no reason, or neither or both a rule and devices are given.
        Conflict: the rollout has ended. NobodyThere: none of the devices waits or is offered it.
    """
    if not reason.strip():
        raise Invalid("/reason", "Say why, for those who find the devices waiting.")
    with transaction.atomic():
        rollout = check_open(rollout)
        told = preview_hold(rollout, rule=rule, names=names, now=now)
        if not told.waiting + told.recalled:
            raise NobodyThere("None of these devices waits for this rollout.")
        wanted = _target_deliveries(rollout, rule, names, now)
        deliveries.recall(wanted, now=now, cause="held back")
        deliveries.hold(wanted.filter(phase=Phase.WAITING.value, hold_reason=""), reason=reason.strip()[:120])
        which = rule.strip() or ", ".join(names[:5])
        sentence = f"Holds {told.waiting + told.recalled} devices ({reason.strip()}): {which}"
        note(rollout, sentence[:300], actor=actor, now=now)
    return told


def release(rollout: Rollout, *, rule: str, names: Sequence[str], actor: User | None, now: datetime) -> int:
    """Let held devices go on; how many.

    Raises:
        Conflict: the rollout has ended. NobodyThere: none of the devices is held.
    """
    with transaction.atomic():
        rollout = check_open(rollout)
        released = deliveries.hold(_target_deliveries(rollout, rule, names, now).exclude(hold_reason=""), reason="")
        if not released:
            raise NobodyThere("None of these devices is held.")
        note(rollout, f"Released {released} devices", actor=actor, now=now)
    return released


def _target_deliveries(rollout: Rollout, rule: str, names: Sequence[str], now: datetime) -> Any:
    if bool(rule.strip()) == bool(names):
        raise Invalid("/rule", "Name devices, or a rule that matches them; `everything` is all of them.")
    of_rollout = Delivery.objects.of_rollout(rollout.pk)
    if names:
        return of_rollout.filter(device_id__any=device_ids(list(names), "/devices"))
    vocabulary = load_vocabulary()
    return of_rollout.filter(device__in=matching(read_rule(rule, vocabulary), vocabulary, now).order_by().values("pk"))


@dataclass(frozen=True, kw_only=True)
class CommonCause:
    """A cause as rule text, with the devices that wait, are not held and match it by the rule's own meaning."""

    rule: str
    cause: Cause
    waiting: int


@dataclass(frozen=True, kw_only=True)
class FailedWith:
    """An error word, and how many devices failed with it."""

    error: str
    devices: int


@dataclass(frozen=True, kw_only=True)
class CommonCauses:
    """What the failed share with each other and not with the confirmed."""

    failed: int
    confirmed: int
    #: the last error words of the failed, the commonest first
    errors: list[FailedWith]
    causes: list[CommonCause]


def common_causes(rollout: Rollout, *, now: datetime) -> CommonCauses:
    """What the failed devices of a rollout share; each is looked at with the version it had before."""
    tried = {
        device: (phase == Phase.FAILED.value, version)
        for device, phase, version in Delivery.objects.of_rollout(rollout.pk)
        .filter(phase__in=[Phase.FAILED.value, Phase.CONFIRMED.value])
        .values_list("device_id", "phase", "from_version")
    }
    vocabulary = load_vocabulary()
    ids, records = sorted(tried), []
    failed = sum(bad for bad, _ in tried.values())
    causes: list[Cause] = []
    if failed:
        for start in range(0, len(ids), CHUNK):
            found = load_records(ids[start : start + CHUNK], vocabulary, now)
            records += [{**found[i], "firmware": tried[i][1] or None} for i in ids[start : start + CHUNK]]
        causes = find_common_causes(records, [tried[i][0] for i in ids], [], vocabulary)
    rules = [to_text(c.node) for c in causes]
    return CommonCauses(
        failed=failed,
        confirmed=len(ids) - failed,
        errors=[FailedWith(error=e, devices=n) for e, n in Delivery.objects.last_errors(rollout.pk)],
        causes=[
            CommonCause(
                rule=rule,
                cause=cause,
                waiting=_target_deliveries(rollout, rule, (), now)
                .filter(phase=Phase.WAITING.value, hold_reason="")
                .count(),
            )
            for rule, cause in zip(rules, causes, strict=True)
        ],
    )
