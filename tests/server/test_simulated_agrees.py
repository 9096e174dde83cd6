"""The server and the simulated rollout of the core, on the same devices, end alike; sums hold at each turn."""

import itertools
from dataclasses import replace
from datetime import UTC, datetime, time, timedelta
from typing import Any

import pytest
from django.db import transaction
from django.db.models import Count
from hypothesis import given, settings
from hypothesis import strategies as st

from herald.calendar.services import FreezeDraft, save_freeze
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.fleet.capabilities import RangeDraft, set_capabilities
from herald.fleet.models import Device, Site
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.gates import phase_counts
from herald.rollouts.intervene import lifecycle
from herald_core.capabilities import Capability
from herald_core.capacity import Caps
from herald_core.deliveries import ACTIVE, FETCHES, Event, Phase, Report, failure
from herald_core.rings.assignment import RingKind
from herald_core.rings.gates import GateSpec
from herald_core.simulation.fleet import Attempt, Behaviour, SimDevice, make_fleet
from herald_core.simulation.rollout import SimFreeze, SimPlan, SimRollout
from herald_core.timing.spread import is_due_at
from herald_core.timing.windows import EVERY_DAY, Window, open_until, opening_at
from tests.factories import (
    launched,
    make_device,
    make_draft,
    make_image,
    make_model,
    make_site,
    make_static,
    make_user,
    ring,
)

pytestmark = pytest.mark.django_db
TURN = timedelta(minutes=20)
ACTS = ("pause", "resume", "resume", "approve", "approve")
ZONES = ("Australia/Adelaide", "Asia/Kolkata", "Europe/Lisbon", "America/Santiago")
#: in and around clock changes of both hemispheres
STARTS = (
    datetime(2026, 4, 4, 9, 0, tzinfo=UTC),
    datetime(2026, 3, 28, 20, 0, tzinfo=UTC),
    datetime(2026, 9, 5, 21, 0, tzinfo=UTC),
    datetime(2026, 11, 23, 2, 0, tzinfo=UTC),
)


class Server:
    """Drives the real engine turn by turn with devices that behave as the simulated ones do."""

    def __init__(self, plan: SimPlan, devices: list[SimDevice], behaviour: Behaviour, start: datetime) -> None:
        self.plan, self.behaviour, self.start = plan, behaviour, start
        old = "5.0.9"  # which cannot fetch files ahead
        limit = RangeDraft(capability=Capability.FILES_AHEAD, from_version="5.1.0")
        set_capabilities(make_model(), [limit], actor=None, now=start)
        self.firmware = {d.id: "5.1.0" if d.able_ahead else old for d in devices}
        rows = {
            d.id: make_device(
                site=make_site(f"Site {d.site}"),
                time_zone=d.zone,
                check_in_interval_seconds=int(d.interval.total_seconds()),
                last_check_in=None,
                firmware=self.firmware[d.id],
            )
            for d in devices
        }
        self.ids = {row.pk: sim for sim, row in rows.items()}
        for number, limit in plan.caps.uplinks.items():
            Site.objects.filter(name=f"Site {number}").update(transfers_at_once=limit)
        self.rows = list(rows.values())
        groups = [
            make_static(f"ring {r}", [rows[d.id] for d in devices if d.ring == r]) for r in range(len(plan.rings))
        ]
        marked = make_static("marked", [rows[d.id] for d in devices if d.group])
        for number, freeze in enumerate(plan.freezes):
            whom: dict[str, Any] = {"everywhere": True} if freeze.everywhere else {"groups": [marked]}
            draft = FreezeDraft(name=f"F{number}", starts_at=freeze.start, ends_at=freeze.end, **whom)
            save_freeze(draft, actor=None, now=start)
        rings = [
            ring(
                f"R{i}",
                RingKind.GROUP,
                group=groups[i],
                confirmed_pct=spec.confirmed_share * 100,
                soak_minutes=int(spec.soak.total_seconds() // 60),
                needs_approval=spec.needs_approval,
            )
            for i, spec in enumerate(plan.rings)
        ]
        hours: dict[str, Any] = {}
        if plan.window:
            days = sorted(plan.window.days) if plan.window.days != EVERY_DAY else []
            hours = {"window_start": plan.window.start, "window_end": plan.window.end, "window_days": days}
        staging = {"prefetch_start": plan.staging.start, "prefetch_end": plan.staging.end} if plan.staging else {}
        image = make_image(expected_minutes=plan.minutes, soak_minutes=int(plan.soak.total_seconds() // 60))
        draft_of = make_draft(
            make_static("all", list(rows.values())),
            image,
            rings=rings,
            max_concurrent=plan.caps.max_concurrent,
            max_concurrent_per_site=plan.caps.per_site,
            max_starts_per_hour=plan.caps.per_hour,
            spread_minutes=int(plan.spread.total_seconds() // 60),
            max_attempts=plan.max_attempts,
            failure_limit_pct=plan.failure_limit * 100,
            failure_count_limit=plan.count_limit,
            expires_after_hours=int(plan.give_up.total_seconds() // 3600),
            prefetch=plan.prefetch,
            **hours,
            **staging,
        )
        Device.objects.update(last_check_in=start - timedelta(minutes=1))  # launched as known, silent from then on
        self.rollout = launched(draft_of, start)
        self.approver = make_user()
        self.devices = [replace(d, place=self.rollout.spread_position_of(rows[d.id].pk)) for d in devices]
        self.by_id = {d.id: d for d in self.devices}
        self.acts = sorted(plan.acts)
        self.next: dict[int, tuple[datetime, str]] = {}
        self.last_call: dict[int, datetime] = {}

    def turn(self, now: datetime) -> None:
        """What people and devices did since the last turn, then the clock's own work."""
        while self.acts and self.acts[0][0] <= now:
            self._act(self.acts.pop(0)[1], now)
        self._hear(now)
        for row in self.rows:
            regular = self.by_id[self.ids[row.pk]].call_before(self.start, now)
            row.last_check_in = max([c for c in (regular, self.last_call.get(row.pk)) if c], default=None)
        Device.objects.bulk_update(self.rows, ["last_check_in"])
        deliveries.expire(now=now)
        deliveries.recall_lapsed(now=now)
        tick_rollouts(now=now)
        for offered in Delivery.objects.filter(phase="offered").select_related("device"):
            if offered.phase_since == now:
                sim_device = self.by_id[self.ids[offered.device_id]]
                self.next[offered.device_id] = (sim_device.call_after(self.start, now), "call")
        self.check(now)

    def _act(self, act: str, now: datetime) -> None:
        self.rollout.refresh_from_db()
        if act == "pause" and self.rollout.state == "running":
            lifecycle.pause(self.rollout, actor=None, now=now)
        elif act == "resume" and self.rollout.state in ("paused", "halted"):
            lifecycle.resume(self.rollout, actor=None, now=now)
        elif act == "approve" and self.rollout.state in ("running", "paused", "halted"):
            shut = self.rollout.rings.filter(opened_at__isnull=False, gate_met_at=None, needs_approval=True)
            for gate in shut.filter(approved_at=None):
                lifecycle.approve_gate(self.rollout, position=gate.position, actor=self.approver, now=now)

    def _hear(self, now: datetime) -> None:
        while due := sorted((at, pk) for pk, (at, _) in self.next.items() if at <= now):
            at, pk = due[0]
            _, what = self.next.pop(pk)
            delivery = Delivery.objects.select_related("image").filter(device_id=pk, phase__in=ACTIVE).first()
            if delivery is not None and self._stands(delivery, what):
                self.last_call[pk] = at
                self._do(delivery, what, at)

    def _stands(self, delivery: Delivery, what: str) -> bool:
        """Whether the device still has the order that it was about to go on with."""
        wanted = {"call": Phase.OFFERED, "fetched": Phase.FETCHING, "installed": Phase.INSTALLING}
        return Phase(delivery.phase) is wanted.get(what, Phase.CONFIRMING)

    def _do(self, delivery: Delivery, what: str, at: datetime) -> None:
        sim = self.by_id[self.ids[delivery.device_id]]
        attempt: Attempt = self.behaviour.attempt(sim.id, delivery.attempt)
        if delivery.file_stored_at:
            attempt = attempt.with_file()
        one = Delivery.objects.filter(pk=delivery.pk)
        if what == "call":
            if delivery.offer_until and delivery.offer_until > at:
                deliveries.move(one, Event.FETCH, now=at, cause="reported fetching")
                self.next[delivery.device_id] = (at + attempt.fetch, "fetched")
        elif what == "fetched" and delivery.fetch_only and attempt.error != "bad-hash":
            report = Report(attempt=delivery.attempt, counter=delivery.report_counter + 1, phase="staged")
            change = deliveries.evaluate_report(delivery, report, firmware=self.firmware[sim.id], healthy=True, now=at)
            deliveries.apply_changes([change], now=at)
        elif what == "fetched":
            late = delivery.offer_until is not None and at > delivery.offer_until
            if attempt.error == "bad-hash" or late:
                self._fail(delivery, attempt.error if attempt.error == "bad-hash" else "too-late", at)
            else:
                deliveries.move(one, Event.INSTALL, now=at, cause="reported installing")
                if not attempt.lost:
                    self.next[delivery.device_id] = (at + attempt.install, "installed")
        elif what == "installed" and attempt.error:
            self._fail(delivery, attempt.error, at)
        else:
            change = deliveries.evaluate_report(delivery, None, firmware="5.2.1", healthy=True, now=at)
            deliveries.apply_changes([change], now=at)
            if not change.steps or change.steps[-1].to is Phase.CONFIRMING:
                self.next[delivery.device_id] = (at + min(sim.interval, self.plan.soak), "soaks")

    def _fail(self, delivery: Delivery, cause: str, at: datetime) -> None:
        step = failure(deliveries.as_in_hand(delivery), cause)
        deliveries.apply_changes([deliveries.Change(delivery=delivery, steps=[step])], now=at)

    def check(self, now: datetime) -> None:
        """What must hold at every turn."""
        counts = phase_counts([self.rollout.pk])[self.rollout.pk]
        assert sum(n for ring_phases in counts.values() for n in ring_phases.values()) == len(self.devices)
        offered_now = list(
            DeliveryEvent.objects.filter(to_phase="offered", at=now).select_related(
                "delivery__device", "delivery__ring"
            )
        )
        for event in offered_now:
            sim = self.by_id[self.ids[event.delivery.device_id]]
            if "file" in event.cause:
                assert self.plan.prefetch and sim.able_ahead
                assert open_until(self.plan.staging, sim.zone, now) is not None
            else:
                assert open_until(self.plan.window, sim.zone, now) is not None
            for freeze in self.plan.freezes:
                assert not ((freeze.everywhere or sim.group) and freeze.start <= now < freeze.end)
            opened = event.delivery.ring.opened_at
            assert opened is not None and opened <= now
        self._check_gates()
        self._check_caps(offered_now, now)
        in_hand = sum(n for ring_phases in counts.values() for p, n in ring_phases.items() if p in ACTIVE)
        assert not offered_now or in_hand <= self.plan.caps.max_concurrent
        assert not Delivery.objects.values("device").annotate(n=Count("ring", distinct=True)).filter(n__gt=1).exists()

    def _check_gates(self) -> None:
        """No ring is open before the gate before it was met, and where it asks for that, approved."""
        rings = list(self.rollout.rings.order_by("position"))
        for before, after in itertools.pairwise(rings):
            if after.opened_at is not None:
                assert before.gate_met_at is not None and before.gate_met_at <= after.opened_at
                assert before.approved_at is not None or not before.needs_approval

    def _check_caps(self, offered_now: list[DeliveryEvent], now: datetime) -> None:
        """What was offered at this turn keeps to the caps of site, uplink and hour, and to the spread."""
        caps = self.plan.caps
        for site in {e.delivery.device.site for e in offered_now}:
            there = Delivery.objects.filter(device__site=site)
            number = int(site.name.removeprefix("Site "))
            assert caps.per_site is None or there.filter(phase__in=ACTIVE).count() <= caps.per_site
            limit = caps.uplinks.get(number)
            assert limit is None or there.filter(phase__in=FETCHES).count() <= limit
        if caps.per_hour is not None:
            started = Delivery.objects.filter(offered_at__gt=now - timedelta(hours=1)).count()
            assert started <= caps.per_hour
        for event in offered_now:
            delivery = event.delivery
            opening = opening_at(self.plan.window, delivery.device.time_zone, now)
            if "file" not in event.cause and opening is not None:
                latest = opening[1] - timedelta(minutes=self.plan.minutes) if self.plan.window else None
                begins = max(opening[0], delivery.ring.opened_at)
                assert is_due_at(delivery.spread_position, self.plan.spread, begins=begins, latest=latest) <= now

    def phases(self) -> dict[int, Phase]:
        found = Delivery.objects.of_rollout(self.rollout.pk).values_list("device_id", "phase")
        return {self.ids[device]: Phase(phase) for device, phase in found}


def minutes(low: int, high: int) -> st.SearchStrategy[timedelta]:
    return st.integers(low, high).map(lambda m: timedelta(minutes=m))


@st.composite
def plans(draw: st.DrawFn, start: datetime) -> SimPlan:
    window = None
    if draw(st.booleans()):
        begins = draw(st.integers(0, 23))
        length = draw(st.integers(1, 8))
        window = Window(start=time(begins), end=time((begins + length) % 24, 30))
    freezes = []
    for _ in range(draw(st.integers(0, 2))):
        begins_at = start + draw(minutes(0, 2000))
        freezes.append(
            SimFreeze(start=begins_at, end=begins_at + draw(minutes(30, 900)), everywhere=draw(st.booleans()))
        )
    acts = [(start + draw(minutes(1, 1500)), draw(st.sampled_from(ACTS))) for _ in range(5)]
    prefetch = window is not None and draw(st.booleans())
    staging = None
    if prefetch and draw(st.booleans()):
        begins = draw(st.integers(0, 23))
        staging = Window(start=time(begins), end=time((begins + draw(st.integers(2, 12))) % 24, 10))
    return SimPlan(
        prefetch=prefetch,
        staging=staging,
        rings=[
            GateSpec(
                confirmed_share=draw(st.sampled_from([0.5, 0.9])),
                failure_limit=0.3,
                soak=draw(minutes(0, 90)),
                needs_approval=draw(st.sampled_from([False, False, True])),
            )
            for _ in range(draw(st.integers(1, 3)))
        ],
        window=window,
        freezes=freezes,
        caps=Caps(
            max_concurrent=draw(st.integers(1, 9)),
            per_site=draw(st.sampled_from([None, None, 1, 2])),
            per_hour=draw(st.sampled_from([None, None, 1, 4])),
            uplinks=draw(st.dictionaries(st.integers(0, 2), st.integers(1, 3), max_size=2)),
        ),
        spread=draw(st.sampled_from([timedelta(0), timedelta(minutes=45), timedelta(hours=7)])),
        max_attempts=draw(st.integers(1, 3)),
        soak=draw(minutes(0, 40)),
        failure_limit=0.3,
        count_limit=draw(st.sampled_from([None, 3])),
        give_up=timedelta(hours=draw(st.integers(20, 60))),
        acts=acts,
    )


@st.composite
def fleets(draw: st.DrawFn, rings: int) -> list[SimDevice]:
    return [
        SimDevice(
            id=number,
            zone=draw(st.sampled_from(ZONES)),
            ring=draw(st.integers(0, rings - 1)),
            interval=(interval := timedelta(seconds=draw(st.sampled_from([600, 900, 1800, 7200])))),
            offset=timedelta(seconds=draw(st.integers(0, int(interval.total_seconds()) - 1))),
            group=draw(st.booleans()),
            silent_for=timedelta(hours=draw(st.sampled_from([0, 0, 0, 5, 30]))),
            able_ahead=draw(st.sampled_from([True, True, False])),
            site=draw(st.integers(0, 2)),
        )
        for number in range(1, draw(st.integers(1, 9)) + 1)
    ]


@settings(max_examples=8, deadline=None)
@given(data=st.data())
def test_both_engines_end_alike_and_sums_hold_at_every_turn(data: st.DataObject) -> None:
    start = data.draw(st.sampled_from(STARTS))
    plan = data.draw(plans(start))
    devices = data.draw(fleets(len(plan.rings)))
    behaviour = Behaviour(
        seed=data.draw(st.integers(0, 999)),
        minutes=plan.minutes,
        failure_rate=data.draw(st.sampled_from([0.0, 0.1, 0.5])),
        spoiled_rate=data.draw(st.sampled_from([0.0, 0.2])),
        lost_rate=data.draw(st.sampled_from([0.0, 0.2])),
    )
    with transaction.atomic():
        server = Server(plan, devices, behaviour, start)
        simulated = SimRollout(plan, server.devices, behaviour, start, TURN)
        ended = simulated.play(start + timedelta(hours=36), watch=server.turn)
        assert server.phases() == ended.phases
        server.rollout.refresh_from_db()
        assert server.rollout.state == ended.state
        opened = [r.opened_at for r in server.rollout.rings.all()]
        assert opened == ended.opened
        transaction.set_rollback(True)


def test_sums_hold_at_every_tick_of_a_month() -> None:
    """A rollout that installs on Sundays only, around a clock change, with files ahead, a freeze and a pause."""
    start = datetime(2026, 10, 5, 12, tzinfo=UTC)
    month = timedelta(days=30)
    plan = SimPlan(
        rings=[
            GateSpec(confirmed_share=0.6, failure_limit=0.9, soak=timedelta(hours=5)),
            GateSpec(confirmed_share=0.6, failure_limit=0.9, soak=timedelta(days=2)),
            GateSpec(confirmed_share=0.6, failure_limit=0.9, soak=timedelta(0)),
        ],
        window=Window(start=time(1), end=time(4), days=frozenset({6})),
        prefetch=True,
        staging=Window(start=time(8), end=time(20)),
        freezes=[SimFreeze(start=start + timedelta(days=12), end=start + timedelta(days=14), everywhere=False)],
        caps=Caps(max_concurrent=2),
        spread=timedelta(minutes=40),
        max_attempts=2,
        failure_limit=0.9,
        give_up=timedelta(days=28),
        acts=[(start + timedelta(days=4), "pause"), (start + timedelta(days=5), "resume")],
    )
    devices = make_fleet(12, zones=ZONES, rings=(0.2, 0.3, 0.5), seed=4, silent_share=0.1)
    behaviour = Behaviour(seed=7, failure_rate=0.15, spoiled_rate=0.1, lost_rate=0.05)
    server = Server(plan, devices, behaviour, start)
    ticks: list[datetime] = []

    def tick(now: datetime) -> None:
        server.turn(now)  # which checks the sums and the rules
        ticks.append(now)

    simulated = SimRollout(plan, server.devices, behaviour, start, timedelta(hours=2))
    ended = simulated.play(start + month, watch=tick)
    assert server.phases() == ended.phases
    assert ticks[-1] - start >= timedelta(days=14) and len(ticks) >= 14 * 12
    assert set(ended.phases.values()) <= {Phase.CONFIRMED, Phase.FAILED, Phase.EXPIRED}
