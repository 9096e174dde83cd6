"""A turn that takes long leaves rings to open and offers to make for the next, but never a halt."""

from datetime import timedelta
from itertools import pairwise

import pytest

from herald.deliveries.models import Delivery
from herald.images.models import Image
from herald.rollouts.engine import tick
from herald.rollouts.models import Ring, Rollout
from herald_core.rings.assignment import RingKind
from tests.factories import NOW, launched, make_devices, make_draft, make_image, make_static, ring

pytestmark = pytest.mark.django_db
MINUTE = timedelta(minutes=1)


def two_rings(name: str, image: Image, **fields: object) -> Rollout:
    """An open rollout whose first ring is through, and whose second has two devices."""
    rings = [ring("First", RingKind.NUMBER, number=1), ring("Rest")]
    rollout = launched(make_draft(make_static(name, make_devices(3)), image, rings=rings, **fields))
    Delivery.objects.filter(rollout=rollout, ring__position=1).update(phase="confirmed")
    return rollout


def three(**fields: object) -> list[Rollout]:
    image = make_image()
    return [two_rings(name, image, **fields) for name in ("A", "B", "C")]


def second_rings_open() -> int:
    return Ring.objects.filter(position=2, opened_at__isnull=False).count()


def offered() -> dict[int, int]:
    rows = Delivery.objects.filter(phase="offered").values_list("rollout_id", flat=True)
    return {r: list(rows).count(r) for r in rows}


def test_a_slow_turn_opens_one_ring_and_the_next_turns_the_others(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tick, "TURN_BUDGET_SECONDS", 0.0)
    three(spread_minutes=0)
    tick.tick_rollouts(now=NOW)  # the first rings, which need no look at their devices, take their turns too
    before = Ring.objects.filter(opened_at__isnull=False).count()
    assert before < 6
    for number in range(1, 8):
        tick.tick_rollouts(now=NOW + number * MINUTE)
        now_open = Ring.objects.filter(opened_at__isnull=False).count()
        assert now_open - before <= 1
        before = now_open
    assert second_rings_open() == 3


def test_slow_turns_offer_for_one_rollout_after_the_other(monkeypatch: pytest.MonkeyPatch) -> None:
    rollouts = three(spread_minutes=0)
    monkeypatch.setattr(tick, "TURN_BUDGET_SECONDS", 0.0)
    told = []
    for number in range(12):
        tick.tick_rollouts(now=NOW + number * MINUTE)
        told.append(sum(offered().values()))
    assert offered() == {r.pk: 2 for r in rollouts}
    assert max(b - a for a, b in pairwise(told)) == 2  # of one rollout


def test_a_slow_turn_halts_all_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    rollouts = three()
    tick.tick_rollouts(now=NOW)
    monkeypatch.setattr(tick, "TURN_BUDGET_SECONDS", 0.0)
    Delivery.objects.filter(ring__position=2).update(phase="failed")
    tick.tick_rollouts(now=NOW + MINUTE)
    assert set(Rollout.objects.filter(pk__in=[r.pk for r in rollouts]).values_list("state", flat=True)) == {"halted"}


def test_a_quick_turn_does_it_all_at_once() -> None:
    rollouts = three(spread_minutes=0)
    tick.tick_rollouts(now=NOW)
    assert second_rings_open() == 3
    assert offered() == {r.pk: 2 for r in rollouts}
