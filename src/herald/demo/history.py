"""What happened at Larkfield before the demo begins, and what is under way as it does."""

import random
from datetime import datetime, time, timedelta
from itertools import pairwise

from herald.access.models import User
from herald.commands.models import Occurrence, Schedule
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.demo.scenario import SEED
from herald.groups.audience import members_of
from herald.groups.models import Group
from herald.images.models import Image
from herald.record.services import record
from herald.rollouts import services
from herald.rollouts.models import Ring, Rollout, RolloutState
from herald.rollouts.sentence import rollout_sentence
from herald_core.deliveries import Phase
from herald_core.rings.assignment import RingKind
from herald_core.timing.firings import daily_firings

_STEPS = (Phase.OFFERED, Phase.ACCEPTED, Phase.FETCHING, Phase.STAGED, Phase.INSTALLING, Phase.CONFIRMING)


def load_history(engineer: User, now: datetime) -> None:
    """One rollout that ended well, one that halted itself, one draft, and one that is running."""
    _finished(engineer, now)
    _halted(engineer, now)
    _draft(engineer, now)
    _running(engineer, now)


def _group(name: str) -> Group:
    return Group.objects.get(name=name)


def _image(family: str, version: str) -> Image:
    return Image.objects.get(family=family, version=version)


def _rings(*, soak: int, early: str) -> list[services.RingDraft]:
    return [
        services.RingDraft(name="Pilot", kind=RingKind.GROUP, group=_group("Field-day pilot"), soak_minutes=soak // 4),
        services.RingDraft(name="Canary", kind=RingKind.SHARE, share_pct=5, soak_minutes=soak),
        services.RingDraft(name="Early", kind=RingKind.GROUP, group=_group(early), soak_minutes=soak),
        services.RingDraft(name="Everyone left", kind=RingKind.REST, soak_minutes=0),
    ]


def _finished(engineer: User, now: datetime) -> None:
    """Vane 1.13.0 three weeks ago: the devices that run it now were confirmed then."""
    image = _image("Vane", "1.13.0")
    launched = now - timedelta(days=23)
    rollout = _past(engineer, image, "Weather masts", launched)
    devices = list(
        _group("Weather masts").memberships.filter(device__firmware=image.version).values_list("device_id", flat=True)
    )
    _write(rollout, devices, launched, failed=2, last=Phase.CONFIRMED)
    rollout.state, rollout.ended_at = RolloutState.FINISHED, launched + timedelta(days=3, hours=4)
    rollout.save(update_fields=["state", "ended_at"])
    _sentence(rollout, rollout.ended_at, None, f"Finished: {len(devices) - 2} confirmed, 2 failed")


def _halted(engineer: User, now: datetime) -> None:
    """Drum 3.0.4 five days ago: its flash driver fails, and the rollout stopped itself."""
    image = _image("Drum", "3.0.4")
    launched = now - timedelta(days=5, hours=3)
    rollout = _past(engineer, image, "Pump drives", launched)
    devices = list(
        _group("Pump drives").memberships.filter(device__firmware="3.0.3").values_list("device_id", flat=True)
    )
    first = devices[: max(1, len(devices) // 20)]  # the first ring
    failed = -(-len(first) * 2 // 3)
    _write(rollout, devices, launched, failed=failed, last=Phase.WAITING, tried=len(first))
    rollout.state = RolloutState.HALTED
    rollout.reason = f"{failed} of {len(first)} tried failed; over 99.9% sure that the rate is above 2%"
    rollout.save(update_fields=["state", "reason"])
    Ring.objects.filter(rollout=rollout).update(share_reached_at=None, gate_met_at=None)
    Ring.objects.filter(rollout=rollout, position__gt=1).update(opened_at=None)
    _sentence(rollout, launched + timedelta(hours=2), None, f"Halted itself ({rollout.reason})")


def _past(engineer: User, image: Image, audience: str, launched: datetime) -> Rollout:
    draft = services.RolloutDraft(
        image=image,
        include=[_group(audience)],
        exclude=[_group("Bench and spares")],
        rings=_rings(soak=720, early="Thistle Bank"),
        window_start=time(1),
        window_end=time(4, 30),
        max_attempts=1,
    )
    rollout = services.save_draft(draft, actor=engineer, now=launched - timedelta(hours=1))
    rollout.launched_at, rollout.launched_by, rollout.state = launched, engineer, RolloutState.RUNNING
    rollout.save(update_fields=["launched_at", "launched_by", "state"])
    _sentence(rollout, launched, engineer, f"Launched: {rollout_sentence(rollout)}")
    return rollout


def _sentence(rollout: Rollout, at: datetime | None, actor: User | None, sentence: str) -> None:
    record(now=at or rollout.created_at, actor=actor, kind="rollout", object_id=rollout.pk, sentence=sentence)


def _write(
    rollout: Rollout, devices: list[int], launched: datetime, *, failed: int, last: Phase, tried: int | None = None
) -> None:
    """Deliveries with their events, ring by ring and night by night. Those after `tried` end as `last`."""
    rings = list(rollout.rings.all())
    rng = random.Random(f"{SEED} {rollout.pk}")
    sizes = [max(1, len(devices) // 20), max(1, len(devices) // 10), len(devices) // 3]
    tried = len(devices) if tried is None else tried
    rows, events = [], []
    for index, device in enumerate(devices):
        ring = next((i for i, n in enumerate(sizes) if index < sum(sizes[: i + 1])), 3)
        at = launched + timedelta(days=ring, minutes=rng.uniform(5, 200)) if index < tried else launched
        phase = last if index >= tried else Phase.FAILED if index < failed else Phase.CONFIRMED
        row = Delivery(
            device_id=device,
            kind="install",
            rollout=rollout,
            ring=rings[ring],
            image=rollout.image,
            phase=phase.value,
            phase_since=at,
            created_at=launched,
            not_before=launched,
            not_after=launched + timedelta(days=14),
            last_error="flash-verify" if phase is Phase.FAILED else "",
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
    services.save_draft(
        services.RolloutDraft(
            image=_image("Sill", "5.2.1"),
            include=[_group("Field gateways")],
            exclude=[_group("Bench and spares")],
            rings=_rings(soak=720, early="Amber Fold"),
            window_start=time(1),
            window_end=time(4, 30),
        ),
        actor=engineer,
        now=now,
    )


def _running(engineer: User, now: datetime) -> None:
    """Rill 2.8.0 at any hour, launched as the demo begins, so that something moves at once."""
    rollout = services.save_draft(
        services.RolloutDraft(
            image=_image("Rill", "2.8.0"),
            include=[_group("Valve controllers")],
            exclude=[_group("Bench and spares")],
            rings=[
                services.RingDraft(name="Canary", kind=RingKind.NUMBER, number=24, soak_minutes=120),
                services.RingDraft(
                    name="Oxbow Flats", kind=RingKind.GROUP, group=_group("Oxbow Flats"), soak_minutes=240
                ),
                services.RingDraft(name="Everyone left", kind=RingKind.REST, soak_minutes=0),
            ],
            failure_limit_pct=4,
            at_once=40,
            give_up_after_hours=72,
        ),
        actor=engineer,
        now=now,
    )
    Rollout.objects.filter(pk=rollout.pk).update(state=RolloutState.LAUNCHING, launched_by=engineer, seed=SEED)
    services.launch(rollout, now=now)


def load_past_firings(schedule: Schedule, now: datetime, *, days: int = 9) -> None:
    """The firings of a daily command before the demo began: nearly all confirmed, a few missed."""
    assert schedule.time_of_day is not None
    rng = random.Random(f"{SEED} firings")
    began = now - timedelta(days=days)
    Schedule.objects.filter(pk=schedule.pk).update(created_at=began)
    audience = members_of(schedule.include.all(), schedule.exclude.all()).filter(admission="admitted")
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
