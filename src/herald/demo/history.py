"""What happened at Larkfield before the demo begins, and what is under way as it does."""

import random
from datetime import datetime, time, timedelta
from itertools import pairwise

from herald.access.models import User
from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands.models import Occurrence, Schedule
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.demo.scenario import SEED
from herald.fleet.models import Device
from herald.groups.audience import audience_query
from herald.groups.models import Group
from herald.images.models import Image
from herald.record.services import record
from herald.rollouts import drafting, launching
from herald.rollouts.models import Ring, Rollout, RolloutState
from herald.rollouts.plans import keep_plan
from herald.rollouts.putting_back import put_back
from herald.rollouts.sentence import rollout_sentence
from herald_core.deliveries import Phase
from herald_core.rings.assignment import RingKind
from herald_core.timing.firings import daily_firings

#: from the offer to the last word of a device
_TAKES = timedelta(minutes=12)
_STEPS = (Phase.OFFERED, Phase.ACCEPTED, Phase.FETCHING, Phase.STAGED, Phase.INSTALLING, Phase.CONFIRMING)


def load_history(engineer: User, now: datetime) -> None:
    """One rollout that ended well, one that was put back, one that halted itself, one draft, and one that is running;
    the ring plans they were taken from, and the freeze that is to come."""
    _plans(engineer, now)
    _freeze(engineer, now)
    _finished(engineer, now)
    _put_back(engineer, now)
    _halted(engineer, now)
    _draft(engineer, now)
    _running(engineer, now)


def _group(name: str) -> Group:
    return Group.objects.get(name=name)


def _image(family: str, version: str) -> Image:
    return Image.objects.get(family=family, version=version)


def _rings(*, soak: int, early: str) -> list[drafting.RingDraft]:
    return [
        drafting.RingDraft(name="Pilot", kind=RingKind.GROUP, group=_group("Field-day pilot"), soak_minutes=soak // 4),
        drafting.RingDraft(name="Canary", kind=RingKind.SHARE, share_pct=5, soak_minutes=soak),
        drafting.RingDraft(name="Early", kind=RingKind.GROUP, group=_group(early), soak_minutes=soak),
        drafting.RingDraft(name="Everyone left", kind=RingKind.REST, soak_minutes=0),
    ]


def _plans(engineer: User, now: datetime) -> None:
    weeks_ago = now - timedelta(weeks=8)
    careful = [
        {"name": "Pilot", "kind": "group", "group_id": _group("Field-day pilot").pk, "soak_minutes": 180},
        {"name": "Canary", "kind": "share", "share_pct": 5, "soak_minutes": 720, "needs_approval": True},
        {"name": "Early", "kind": "share", "share_pct": 25, "soak_minutes": 720},
        {"name": "Everyone left", "kind": "rest", "soak_minutes": 0},
    ]
    quick = [
        {"name": "First few", "kind": "number", "number": 12, "soak_minutes": 60},
        {"name": "Everyone left", "kind": "rest", "soak_minutes": 0},
    ]
    keep_plan("Quick fix", [_whole(r) for r in quick], actor=engineer, now=weeks_ago)
    keep_plan("Careful", [_whole(r) for r in careful[1:]], actor=engineer, now=weeks_ago)
    keep_plan("Careful", [_whole(r) for r in careful], actor=engineer, now=now - timedelta(weeks=5))


def _whole(ring: dict[str, object]) -> dict[str, object]:
    """A ring with every field that the API gives it."""
    nothing = {
        "group_id": None,
        "share_pct": None,
        "number": None,
        "confirmed_pct": 95.0,
        "most_unheard": None,
        "min_tried": None,
    }
    return {**nothing, "needs_approval": False, **ring}


def _freeze(engineer: User, now: datetime) -> None:
    begins = (now + timedelta(days=9)).replace(hour=3, minute=0, second=0, microsecond=0)
    save_freeze(
        FreezeDraft(
            name="Harvest at Oxbow Flats",
            why="Pumps and gateways run day and night",
            starts_at=begins,
            ends_at=begins + timedelta(days=12),
            groups=[_group("Oxbow Flats")],
        ),
        actor=engineer,
        now=now - timedelta(days=30),
    )


def _put_back(engineer: User, now: datetime) -> None:
    """Sill 5.2.0 went to some twelve days ago and lost the radio's calibration; a day later they got 5.1.4 back."""
    launched = now - timedelta(days=12)
    rollout = _past(engineer, _image("Sill", "5.2.0"), "Field gateways", launched)
    members = _group("Field gateways").memberships.filter(device__firmware="5.1.4").order_by("device__name")
    devices = list(members.values_list("device_id", flat=True)[:60])
    _write(rollout, _image("Sill", "5.2.0"), devices, launched, failed=0, last=Phase.CONFIRMED, before="5.1.4")
    rollout.state, rollout.reason = RolloutState.STOPPED, "stopped by hand"
    rollout.ended_at = launched + timedelta(hours=30)
    rollout.save(update_fields=["state", "reason", "ended_at"])
    back = put_back(rollout, actor=engineer, now=rollout.ended_at)
    back.launched_at = back.created_at + timedelta(minutes=20)
    back.launched_by, back.state = engineer, RolloutState.FINISHED
    back.ended_at = back.launched_at + timedelta(hours=26)
    back.save()
    image = _image("Sill", "5.1.4")
    _write(back, image, devices, back.launched_at, failed=0, last=Phase.CONFIRMED, before="5.2.0")
    Ring.objects.filter(rollout__in=[rollout, back]).update(opened_at=back.launched_at)
    _sentence(back, back.launched_at, engineer, f"Launched to {len(devices)} devices: {rollout_sentence(back)}")
    _sentence(back, back.ended_at, None, f"Finished: {len(devices)} confirmed")


def _finished(engineer: User, now: datetime) -> None:
    """Vane 1.13.0 three weeks ago: the devices that run it now were confirmed then."""
    image = _image("Vane", "1.13.0")
    launched = now - timedelta(days=23)
    rollout = _past(engineer, image, "Weather masts", launched)
    masts = _group("Weather masts").memberships.order_by("device__name")
    devices = list(masts.filter(device__firmware=image.version).values_list("device_id", flat=True))
    failed = list(masts.filter(device__firmware="1.12.0").values_list("device_id", flat=True)[:2])
    _write(rollout, image, devices + failed, launched, failed=len(failed), last=Phase.CONFIRMED, before="1.12.0")
    rollout.state, rollout.ended_at = RolloutState.FINISHED, launched + timedelta(days=3, hours=4)
    rollout.save(update_fields=["state", "ended_at"])
    _sentence(rollout, rollout.ended_at, None, f"Finished: {len(devices)} confirmed, {len(failed)} failed")


def _halted(engineer: User, now: datetime) -> None:
    """Drum 3.0.4 five days ago: its flash driver fails, and the rollout stopped itself."""
    image = _image("Drum", "3.0.4")
    launched = now - timedelta(days=5, hours=3)
    rollout = _past(engineer, image, "Pump drives", launched)
    devices = list(
        _group("Pump drives")
        .memberships.filter(device__firmware="3.0.3")
        .order_by("device__name")
        .values_list("device_id", flat=True)
    )
    first = devices[: _pilots(devices)]
    failed = -(-len(first) * 2 // 3)
    _write(rollout, image, devices, launched, failed=failed, last=Phase.WAITING, tried=len(first))
    confirmed = Device.objects.filter(pk__in=first[failed:])
    confirmed.update(firmware=image.version, firmware_key=image.version_key)
    rollout.state = RolloutState.HALTED
    rollout.reason = f"{failed} of {len(first)} tried failed; over 99.9% sure that the rate is above 2%"
    rollout.halted_at = launched + timedelta(hours=2)
    rollout.save(update_fields=["state", "reason", "halted_at"])
    Ring.objects.filter(rollout=rollout).update(share_reached_at=None, gate_met_at=None)
    Ring.objects.filter(rollout=rollout, position__gt=1).update(opened_at=None)
    _sentence(rollout, launched + timedelta(hours=2), None, f"Halted itself ({rollout.reason})")


def _past(engineer: User, image: Image, audience: str, launched: datetime) -> Rollout:
    draft = drafting.RolloutDraft(
        changes=drafting.to(image),
        include=[_group(audience)],
        exclude=[_group("Bench and spares")],
        rings=_rings(soak=720, early="Thistle Bank"),
        window_start=time(1),
        window_end=time(4, 30),
        max_attempts=1,
    )
    rollout = drafting.save_draft(draft, actor=engineer, now=launched - timedelta(hours=1))
    rollout.launched_at, rollout.launched_by, rollout.state = launched, engineer, RolloutState.RUNNING
    rollout.rank = rollout.pk
    rollout.save(update_fields=["launched_at", "launched_by", "state", "rank"])
    _sentence(rollout, launched, engineer, f"Launched: {rollout_sentence(rollout)}")
    return rollout


def _pilots(devices: list[int]) -> int:
    """How many are in the first ring."""
    return max(3, len(devices) // 20)


def _sentence(rollout: Rollout, at: datetime | None, actor: User | None, sentence: str) -> None:
    record(now=at or rollout.created_at, actor=actor, kind="rollout", object_id=rollout.pk, sentence=sentence)


def _write(
    rollout: Rollout,
    image: Image,
    devices: list[int],
    launched: datetime,
    *,
    failed: int,
    last: Phase,
    tried: int | None = None,
    before: str = "",
) -> None:
    """Deliveries with their events, ring by ring and night by night. Those after `tried` end as `last`."""
    rings = list(rollout.rings.all())
    rng = random.Random(f"{SEED} {rollout.pk}")
    sizes = [_pilots(devices), max(1, len(devices) // 10), len(devices) // 3]
    tried = len(devices) if tried is None else tried
    rows, events = [], []
    for index, device in enumerate(devices):
        ring = (
            next((i for i, n in enumerate(sizes) if index < sum(sizes[: i + 1])), 3) if len(rings) > 2 else index // 12
        )
        ring = min(ring, len(rings) - 1)
        at = launched + timedelta(days=ring, minutes=rng.uniform(5, 200)) if index < tried else launched
        # those of a rollout that halted fail at once; of one that went through, among the last
        bad = index < failed if tried < len(devices) else index >= len(devices) - failed
        phase = last if index >= tried else Phase.FAILED if bad else Phase.CONFIRMED
        row = Delivery(
            device_id=device,
            kind="install",
            rollout=rollout,
            ring=rings[ring],
            image=image,
            target=image,
            phase=phase.value,
            phase_since=at,
            offered_at=at - _TAKES if phase in (Phase.CONFIRMED, Phase.FAILED) else None,
            heard_at=at if phase in (Phase.CONFIRMED, Phase.FAILED) else None,
            created_at=launched,
            not_before=launched,
            not_after=launched + timedelta(days=14),
            from_version=before,
            last_error="flash-verify" if phase is Phase.FAILED else "",
            last_error_text="read back other bytes than were written" if phase is Phase.FAILED else "",
        )
        rows.append(row)
        events.append((row, at, phase))
    Delivery.objects.bulk_create(rows)
    DeliveryEvent.objects.bulk_create([e for row, at, phase in events for e in _story(row, at, phase)])
    for position, ring_row in enumerate(rings):
        opened = launched + timedelta(days=position)
        met = opened + timedelta(hours=16)
        Ring.objects.filter(pk=ring_row.pk).update(
            opened_at=opened, share_reached_at=opened + timedelta(hours=4), gate_met_at=met
        )


def _story(row: Delivery, end: datetime, phase: Phase) -> list[DeliveryEvent]:
    """The events that led to a closed delivery, a few minutes apart."""
    if phase is Phase.WAITING:
        return []
    path = [Phase.WAITING, *(_STEPS if phase is Phase.CONFIRMED else _STEPS[:-1]), phase]
    pairs = list(pairwise(path))
    cause = {
        Phase.FAILED: "flash-verify",
        Phase.CONFIRMED: "reports the version and good health",
        Phase.OFFERED: "offered",
    }
    return [
        _event(row, end - timedelta(minutes=2 * (len(pairs) - 1 - i)), a, b, cause.get(b, f"reported {b.value}"))
        for i, (a, b) in enumerate(pairs)
    ]


def _event(row: Delivery, at: datetime, a: Phase, b: Phase, cause: str) -> DeliveryEvent:
    return DeliveryEvent(delivery=row, at=at, from_phase=a.value, to_phase=b.value, attempt=1, cause=cause)


def _draft(engineer: User, now: datetime) -> None:
    drafting.save_draft(
        drafting.RolloutDraft(
            changes=drafting.to(_image("Sill", "5.2.1")),
            include=[_group("Field gateways")],
            exclude=[_group("Bench and spares")],
            rings=_rings(soak=720, early="Amber Fold"),
            window_start=time(1),
            window_end=time(4, 30),
            spread_minutes=20,
        ),
        actor=engineer,
        now=now,
    )


def _running(engineer: User, now: datetime) -> None:
    """Rill 2.8.0 at any hour, launched as the demo begins, so that something moves at once."""
    rollout = drafting.save_draft(
        drafting.RolloutDraft(
            changes=drafting.to(_image("Rill", "2.8.0")),
            include=[_group("Valve controllers")],
            exclude=[_group("Bench and spares")],
            rings=[
                drafting.RingDraft(name="Canary", kind=RingKind.NUMBER, number=24, soak_minutes=120),
                drafting.RingDraft(
                    name="Oxbow Flats", kind=RingKind.GROUP, group=_group("Oxbow Flats"), soak_minutes=240
                ),
                drafting.RingDraft(name="Everyone left", kind=RingKind.REST, soak_minutes=0),
            ],
            failure_limit_pct=4,
            at_once=40,
            give_up_after_hours=72,
        ),
        actor=engineer,
        now=now,
    )
    Rollout.objects.filter(pk=rollout.pk).update(state=RolloutState.LAUNCHING, launched_by=engineer, seed=SEED)
    launching.launch(rollout, now=now)


def load_past_firings(schedule: Schedule, now: datetime, *, days: int = 9) -> None:
    """The firings of a daily command before the demo began: nearly all confirmed, a few missed."""
    assert schedule.time_of_day is not None
    rng = random.Random(f"{SEED} firings")
    began = now - timedelta(days=days)
    Schedule.objects.filter(pk=schedule.pk).update(created_at=began)
    audience = audience_query(schedule).filter(admission="admitted")
    by_zone: dict[str, list[int]] = {}
    for device, zone in audience.values_list("id", "time_zone"):
        by_zone.setdefault(zone, []).append(device)
    rows = []
    for zone, devices in by_zone.items():
        for firing in daily_firings(schedule.time_of_day, zone, after=began):
            gives_up = firing.at + timedelta(minutes=schedule.give_up_minutes)
            if gives_up >= now:
                break
            occurrence = Occurrence.objects.create(
                schedule=schedule, zone=zone, fires_at=firing.at, gives_up_at=gives_up, audience=len(devices)
            )
            rows += [_answer(rng, d, occurrence) for d in devices]
    Delivery.objects.bulk_create(rows, batch_size=5000)


def _answer(rng: random.Random, device: int, occurrence: Occurrence) -> Delivery:
    missed = rng.random() < 0.03
    at = occurrence.gives_up_at if missed else occurrence.fires_at + timedelta(minutes=rng.uniform(1, 32))
    return Delivery(
        device_id=device,
        kind="command",
        occurrence=occurrence,
        phase=(Phase.EXPIRED if missed else Phase.CONFIRMED).value,
        phase_since=at,
        created_at=occurrence.fires_at,
        not_before=occurrence.fires_at,
        not_after=occurrence.gives_up_at,
        results={} if missed else {"answer": "ok", "seconds": round(rng.uniform(30, 90))},
    )
