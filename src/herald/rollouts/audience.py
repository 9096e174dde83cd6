"""Who a rollout is for, and what preflight says of each of them."""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db.models import BooleanField, ExpressionWrapper, JSONField, QuerySet, TextField, Value
from django.db.models.functions import Coalesce

from herald.deliveries.models import Delivery
from herald.fleet.models import Device, DeviceModel, Site
from herald.fleet.presence import not_heard_for_long
from herald.groups.audience import members_of
from herald.groups.models import GroupMembership
from herald.images.models import Image
from herald.lookups import JsonMember, JsonText
from herald.rollouts.models import Ring, Rollout
from herald_core.preflight import TAKES_PART, Candidate, ImageNeeds, Outcome, Preflight
from herald_core.rings.assignment import RingKind, RingPlan, assign, ring_sizes, shares

#: The fields over which draws are even, in the order of `PlannedDevice.strata`.
STRATA = ("model", "uplink", "site", "from version")


@dataclass(frozen=True, slots=True)
class PlannedDevice:
    """A device of the audience with its outcome."""

    id: int
    outcome: Outcome
    firmware: str
    strata: tuple[str, str, str, str]


@dataclass(frozen=True, kw_only=True)
class Plan:
    """A rollout as it would be if it were launched now."""

    audience: int
    outcomes: Counter[Outcome]
    devices: list[PlannedDevice]
    #: index of each taking-part device's ring, in the order of `taking_part`; -1 for none
    ring_of: list[int]
    taking_part: list[PlannedDevice]
    rings: int

    @property
    def ring_counts(self) -> list[int]:
        sizes = ring_sizes(self.ring_of, self.rings)
        return [sizes[i] for i in range(self.rings)]

    @property
    def in_no_ring(self) -> int:
        return ring_sizes(self.ring_of, self.rings)[-1]

    @property
    def reached(self) -> int:
        """How many devices the launch would change."""
        return len(self.taking_part) - self.in_no_ring

    def shares_of(self, ring: int) -> list[dict[str, object]]:
        """How a ring looks beside all devices that take part."""
        return [s.__dict__ for s in shares([d.strata for d in self.taking_part], self.ring_of, ring, STRATA)]


def needs_of(image: Image) -> ImageNeeds:
    """What the image asks of a device, as the core looks at it."""
    return ImageNeeds(
        version=image.version,
        models=frozenset(m.pk for m in image.device_models.all()),
        hardware_revisions=frozenset(image.hardware_revisions),
        min_version=image.min_version,
        max_version=image.max_version,
        free_space_mb=image.free_space_mb,
        min_battery_pct=image.min_battery_pct,
    )


def plan(rollout: Rollout, rings: Sequence[Ring], *, now: datetime) -> Plan:
    """Preflight and rings of a rollout as things stand."""
    audience = members_of(rollout.include.all(), rollout.exclude.all())
    devices = list(_planned(audience, rollout, now))
    outcomes = Counter(d.outcome for d in devices)
    taking_part = [d for d in devices if d.outcome in TAKES_PART]
    ring_of = assign(
        [d.id for d in taking_part],
        [d.strata for d in taking_part],
        ring_plans(rings),
        rollout.seed,
        drawable=[d.outcome is not Outcome.LATE for d in taking_part],
    )
    return Plan(
        audience=len(devices),
        outcomes=outcomes,
        devices=devices,
        ring_of=ring_of,
        taking_part=taking_part,
        rings=len(rings),
    )


def ring_plans(rings: Sequence[Ring]) -> list[RingPlan]:
    """Rings as the core assigns them, with the members that groups have now."""
    return [
        RingPlan(
            kind=RingKind(r.kind),
            members=frozenset(GroupMembership.objects.of_group(r.group_id).device_ids()) if r.group_id else frozenset(),
            share_pct=r.share_pct or 0.0,
            number=r.number or 0,
        )
        for r in rings
    ]


def _planned(audience: "QuerySet[Device]", rollout: Rollout, now: datetime) -> Iterator[PlannedDevice]:
    needs = needs_of(rollout.image)
    outcome_of = Preflight(needs).outcome
    in_hand = set(Delivery.objects.in_hand().values_list("device_id", flat=True))
    models = dict(DeviceModel.objects.values_list("id", "name"))
    sites = dict(Site.objects.values_list("id", "name"))
    for pk, model, hw, key, admission, silent, space, battery, power, firmware, uplink, site in _rows(
        audience, needs, now
    ).iterator(chunk_size=10_000):
        candidate = Candidate(
            pk, model, hw, key, admission, silent, _number(space), _number(battery), power == "mains", pk in in_hand
        )
        strata = (models[model], uplink, sites.get(site, "none"), firmware or "none")
        yield PlannedDevice(pk, outcome_of(candidate), firmware or "", strata)


def _rows(audience: "QuerySet[Device]", needs: ImageNeeds, now: datetime) -> "QuerySet[Any, Any]":
    """What preflight looks at. The database decides who is silent, and facts that the image does not
    ask for are not read: both for the time that reading 100,000 of them takes."""

    def fact(key: str, wanted: bool) -> Any:
        return JsonMember("facts", Value(key)) if wanted else Value(None, JSONField())

    return (
        audience.order_by("id")
        .annotate(
            silent=ExpressionWrapper(not_heard_for_long(now), BooleanField()),
            space=fact("free_space_mb", needs.free_space_mb is not None),
            battery=fact("battery", needs.min_battery_pct is not None),
            power=JsonText("facts", Value("power")),
            uplink=Coalesce(JsonText("facts", Value("uplink")), Value("unknown"), output_field=TextField()),
        )
        .values_list(
            "id",
            "model_id",
            "hardware_revision",
            "firmware_key",
            "admission",
            "silent",
            "space",
            "battery",
            "power",
            "firmware",
            "uplink",
            "site_id",
        )
    )


def _number(value: object) -> float | None:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None
