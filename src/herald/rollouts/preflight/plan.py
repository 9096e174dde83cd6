"""Who a rollout is for, and what preflight says of each of them."""

from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from django.db.models import BooleanField, ExpressionWrapper, QuerySet, TextField, Value
from django.db.models.functions import Coalesce

from herald.calendar.services import devices_held, freezes_between
from herald.db.expressions import JsonNumber, JsonText
from herald.deliveries.models import Delivery
from herald.fleet.capabilities import supported_now
from herald.fleet.models import Device, DeviceModel, Site
from herald.fleet.presence import not_heard_for_long
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.audience import audience_query
from herald.groups.models import GroupMembership
from herald.groups.rule_queries import to_condition
from herald.groups.rules import read_rule
from herald.images.builds import upgrades_now
from herald.rollouts.models import Ring, Rollout
from herald_core.capabilities import Capability
from herald_core.changes import ChangeTable
from herald_core.preflight import TAKES_PART, UNITS, Candidate, Outcome, Preflight, Shortfall, shortfall_words
from herald_core.rings.assignment import RingKind, RingPlan, assign, distances, ring_sizes, shares
from herald_core.upgrades import Build, Upgrades
from herald_core.versions import version_key_or_none

#: The fields over which draws are even, in the order of `PlannedDevice.strata`.
STRATA = ("model", "uplink", "site", "from version")
#: Of these nothing can be learnt soon, so none is drawn for a share or a number.
NOT_DRAWN = frozenset({Outcome.LATE, Outcome.OUTRANKED})


class PlannedDevice(NamedTuple):
    """A device of the audience with its outcome, and the images it gets one after another, the target last."""

    id: int
    outcome: Outcome
    firmware: str
    strata: tuple[str, str, str, str]
    steps: tuple[Build, ...] = ()
    #: what the rollout would make use of, and the device's firmware has not
    lacks: frozenset[Capability] = frozenset()
    #: what it has too little of, where that leaves it out
    shortfall: Shortfall | None = None


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
    def targets(self) -> set[int]:
        """The images that devices taking part are to get, on the way and in the end."""
        return {step.id for device in self.taking_part for step in device.steps}

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

    @property
    def lacking(self) -> Counter[Capability]:
        """How many of those that take part have not got a capability that the rollout makes use of."""
        return Counter(f for d in self.taking_part for f in d.lacks)

    def behind(self, count: str) -> list[PlannedDevice]:
        """The devices behind a count: of an outcome, or of a capability that is lacking."""
        return [d for d in self.devices if count == d.outcome or (count in d.lacks and d.outcome in TAKES_PART)]

    def amounts(self, outcome: Outcome) -> str:
        """What the devices of an outcome need and have, where too little of something is what it says."""
        found = [d.shortfall for d in self.devices if d.outcome is outcome and d.shortfall] if outcome in UNITS else []
        return shortfall_words(outcome, found)

    @property
    def distances(self) -> list[tuple[float, float]]:
        """How far each ring is from all devices that take part: the largest difference of shares, and the largest
        total variation of a field."""
        return distances([d.strata for d in self.taking_part], self.ring_of, self.rings)

    def shares_of(self, ring: int) -> list[dict[str, object]]:
        """How a ring looks beside all devices that take part."""
        return [s.__dict__ for s in shares([d.strata for d in self.taking_part], self.ring_of, ring, STRATA)]


def audience_of(rollout: Rollout, now: datetime) -> "QuerySet[Device]":
    """The devices of the groups that the rollout's rule matches; of a rollout that puts another back, those that the
    other changed.

    Raises:
        InvalidRule: what the rule names is no more.
    """
    if rollout.rolls_back_id is None:
        return narrowed(rollout, audience_query(rollout), now)
    changed = Delivery.objects.of_rollout(rollout.rolls_back_id).filter(phase="confirmed").exclude(from_version="")
    return Device.objects.filter(pk__in=changed.values("device_id"))


def narrowed(rollout: Rollout, devices: "QuerySet[Device]", now: datetime) -> "QuerySet[Device]":
    """Those of the devices that the rollout's rule matches; all where it has none.

    Raises:
        InvalidRule: what the rule names is no more.
    """
    if not rollout.rule_filter:
        return devices
    vocabulary = load_vocabulary()
    return devices.filter(to_condition(read_rule(rollout.rule_filter, vocabulary), vocabulary, now))


def capabilities_used(rollout: Rollout) -> frozenset[Capability]:
    """What the rollout asks of devices besides the install."""
    used = {Capability.FILES_AHEAD: rollout.prefetch, Capability.NOTICE: bool(rollout.notice)}
    return frozenset(f for f, asked in used.items() if asked)


def upgrades_for(rollout: Rollout, now: datetime) -> Upgrades:
    """The upgrade graphs that the rollout's devices may go by."""
    return upgrades_now(now.date(), [c.image_id for c in rollout.changes.all() if c.image_id])


def table_of(rollout: Rollout, upgrades: Upgrades) -> ChangeTable | None:
    """The change table; none for a rollout that puts another back."""
    if rollout.rolls_back_id is not None:
        return None
    return ChangeTable([c.as_change for c in rollout.changes.all()], upgrades)


def plan(rollout: Rollout, rings: Sequence[Ring], *, now: datetime) -> Plan:
    """Preflight and rings of a rollout now."""
    devices = list(planned(rollout, audience_of(rollout, now), now))
    outcomes = Counter(d.outcome for d in devices)
    taking_part = [d for d in devices if d.outcome in TAKES_PART]
    ring_of = assign(
        [d.id for d in taking_part],
        [d.strata for d in taking_part],
        ring_plans(rings),
        rollout.seed,
        drawable=[d.outcome not in NOT_DRAWN for d in taking_part],
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
            share_pct=r.share_pct,
            number=r.number or 0,
        )
        for r in rings
    ]


@dataclass(frozen=True, slots=True)
class _PreflightContext:
    """What is known of devices besides their own rows, by their ids."""

    in_hand: frozenset[int]
    #: the newest version, as its key, that another open rollout brings
    coming: Mapping[int, str]
    outranked: frozenset[int]
    before: Mapping[int, str | None]
    taken_out: frozenset[int]
    frozen: Collection[int]


def planned(rollout: Rollout, audience: "QuerySet[Device]", now: datetime) -> Iterator[PlannedDevice]:
    """What becomes of each of these devices in the rollout, in the order of their ids."""
    upgrades = upgrades_for(rollout, now)
    table = table_of(rollout, upgrades)
    route = Preflight(upgrades, table, downgrades=rollout.downgrades).route
    around = _around(rollout, audience, now)
    builds = upgrades.builds.values()
    used, supported = capabilities_used(rollout), supported_now()
    if not supported.limits(used):
        used = frozenset()
    asks_space = any(b.free_space_mb is not None for b in builds)
    asks_charge = any(b.min_battery_pct is not None for b in builds)
    models = dict(DeviceModel.objects.values_list("id", "name"))
    sites = dict(Site.objects.values_list("id", "name"))
    rows = _rows(audience, now, space=asks_space, charge=asks_charge)
    for pk, model, hw, key, admission, silent, space, battery, power, firmware, uplink, site in rows:
        found = route(
            Candidate(
                pk,
                model,
                hw,
                key,
                uplink,
                admission,
                silent,
                space,
                battery,
                power == "mains",
                pk in around.in_hand,
                around.before.get(pk),
                pk in around.taken_out,
                around.coming.get(pk),
                pk in around.outranked,
                pk in around.frozen,
            )
        )
        strata = (models[model], uplink, sites.get(site, "none"), firmware or "none")
        lacks = supported.lacks(model, key) & used if used else used
        yield PlannedDevice(pk, found.outcome, firmware or "", strata, found.steps, lacks, found.shortfall)


def _around(rollout: Rollout, audience: "QuerySet[Device]", now: datetime) -> _PreflightContext:
    starts = max(now, rollout.starts_at or now)
    freezes = [] if rollout.ignores_freezes else freezes_between(starts, starts + timedelta(seconds=1))
    coming: dict[int, str] = {}
    outranked = set()
    others = Delivery.objects.open_in_others(rollout.pk).filter(device__in=audience.order_by().values("pk"))
    for device, key, rank in others.values_list("device_id", "target__version_key", "rollout__rank"):
        coming[device] = max(coming.get(device, ""), key)
        # whoever asks may not see the other rollout, nor its rank: it is counted on to go first
        if rollout.launched_at is None or rank is None or rank < rollout.rank:
            outranked.add(device)
    before = {}
    if rollout.rolls_back_id is not None:
        steps = Delivery.objects.first_steps(rollout.rolls_back_id).values_list("device_id", "from_version")
        before = {device: version_key_or_none(version) for device, version in steps}
    return _PreflightContext(
        in_hand=frozenset(Delivery.objects.in_hand().exclude(rollout=rollout.pk).values_list("device_id", flat=True)),
        coming=coming,
        outranked=frozenset(outranked),
        before=before,
        taken_out=frozenset(rollout.taken_out.values_list("device_id", flat=True)),
        frozen=devices_held(freezes) if freezes else frozenset(),
    )


def _rows(audience: "QuerySet[Device]", now: datetime, *, space: bool, charge: bool) -> "QuerySet[Any, Any]":
    """What preflight looks at. The database decides who is silent, and facts that no image asks for are not
    read: both for the time that reading 100,000 of them takes."""

    def fact(key: str, wanted: bool) -> Any:
        return JsonNumber("facts", Value(key)) if wanted else Value(None, TextField())

    return (
        audience.order_by("id")
        .annotate(
            silent=ExpressionWrapper(not_heard_for_long(now), BooleanField()),
            space=fact("free_space_mb", space),
            battery=fact("battery", charge),
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
