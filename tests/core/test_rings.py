"""Rings: every device in one, even draws, gates, halting."""

import random
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.deliveries import Phase
from herald_core.rings.assignment import (
    RingKind,
    RingPlan,
    _codes,
    assign,
    detection_chance,
    devices_needed,
    distance,
    distances,
    even_draw,
    ring_sizes,
    shares,
)
from herald_core.rings.gates import GateSpec, RingCounts, certainty_above, halt_reason, read_gate

NOW = datetime(2026, 11, 23, tzinfo=UTC)
REST = RingPlan(kind=RingKind.REST)


def fleet(count: int, seed: int = 1) -> list[tuple[str, str]]:
    rng = random.Random(seed)
    models = ["400"] * 6 + ["400R"] * 3 + ["380"]
    return [(rng.choice(models), rng.choice(["cell", "cell", "sat"])) for _ in range(count)]


plans = st.lists(
    st.one_of(
        st.builds(
            RingPlan,
            kind=st.just(RingKind.GROUP),
            members=st.frozensets(st.integers(0, 60), max_size=30),
            share_pct=st.one_of(st.none(), st.floats(0.5, 100)),
        ),
        st.builds(RingPlan, kind=st.just(RingKind.SHARE), share_pct=st.floats(0.5, 100)),
        st.builds(RingPlan, kind=st.just(RingKind.NUMBER), number=st.integers(1, 40)),
        st.just(REST),
    ),
    min_size=1,
    max_size=5,
)


@given(st.integers(0, 60), plans, st.integers(0, 2**40))
def test_rings_partition_the_audience(count: int, rings: list[RingPlan], seed: int) -> None:
    strata = fleet(count)
    ring_of = assign(range(count), strata, rings, seed)
    assert len(ring_of) == count
    assert all(-1 <= r < len(rings) for r in ring_of)
    assert ring_of == assign(range(count), strata, rings, seed)
    if any(r.kind is RingKind.REST for r in rings):
        assert -1 not in ring_of
    for device, ring in enumerate(ring_of):
        earlier = rings[: ring if ring >= 0 else len(rings)]
        assert not any(r.kind is RingKind.GROUP and r.share_pct is None and device in r.members for r in earlier)
    assert sum(ring_sizes(ring_of, len(rings)).values()) == count


def test_a_share_of_a_group_is_of_its_members_that_are_left_and_the_rest_of_it_follows() -> None:
    members = frozenset(range(41))
    halves = [
        RingPlan(kind=RingKind.NUMBER, number=10),
        RingPlan(kind=RingKind.GROUP, members=members, share_pct=50),
        RingPlan(kind=RingKind.GROUP, members=members),
        REST,
    ]
    ring_of = assign(range(100), fleet(100), halves, 3, drawable=[n % 10 != 0 for n in range(100)])
    left = [n for n in members if ring_of[n] != 0]
    assert {ring_of[n] for n in left} == {1, 2} and ring_sizes(ring_of, 4)[1] == -(-len(left) // 2)
    assert all(ring_of[n] == 2 for n in left if n % 10 == 0), "who is not drawn is in the half that takes the rest"
    assert {n for n in range(100) if ring_of[n] in (1, 2)} <= members


def test_a_share_is_of_those_left_and_rounds_up() -> None:
    rings = [RingPlan(kind=RingKind.NUMBER, number=100), RingPlan(kind=RingKind.SHARE, share_pct=5), REST]
    sizes = ring_sizes(assign(range(1001), fleet(1001), rings, 7), 3)
    assert (sizes[0], sizes[1], sizes[2]) == (100, 46, 855)


def test_what_may_not_be_drawn_goes_to_the_rest() -> None:
    drawable = [i % 2 == 0 for i in range(100)]
    rings = [RingPlan(kind=RingKind.NUMBER, number=30), RingPlan(kind=RingKind.SHARE, share_pct=90), REST]
    ring_of = assign(range(100), fleet(100), rings, 3, drawable)
    assert all(drawable[i] for i, ring in enumerate(ring_of) if ring < 2)
    assert ring_sizes(ring_of, 3) == {0: 30, 1: 20, 2: 50, -1: 0}


def test_an_even_draw_is_nearer_to_the_pool_than_random_ones() -> None:
    codes = _codes(fleet(2000))
    pool = np.arange(2000)
    even, _ = distance(codes[even_draw(pool, codes, 100, np.random.default_rng(1))], codes)
    rng = np.random.default_rng(2)
    at_random = [distance(codes[rng.choice(2000, 100, replace=False)], codes)[0] for _ in range(100)]
    assert even <= float(np.median(at_random)) / 2


def test_drawing_all_or_none() -> None:
    codes, pool = _codes(fleet(10)), np.arange(10)
    assert len(even_draw(pool, codes, 0, np.random.default_rng(1))) == 0
    assert len(even_draw(pool, codes, 99, np.random.default_rng(1))) == 10


def test_shares_compare_a_ring_with_all() -> None:
    found = shares([("a",), ("a",), ("b",), ("b",)], [0, 0, 0, 1], 0, ["model"])
    assert {(s.value, round(s.in_ring, 2), s.in_all) for s in found} == {("a", 0.67, 0.5), ("b", 0.33, 0.5)}


def test_distances_are_of_each_ring_from_all() -> None:
    strata = [("a", "x"), ("a", "y"), ("b", "x"), ("b", "y")]
    assert distances(strata, [0, 1, 0, 1], 3) == [(0.5, 0.5), (0.5, 0.5), (0.0, 0.0)]
    assert distances(strata, [0, 1, 1, 0], 2) == [(0.0, 0.0), (0.0, 0.0)]


def test_the_chance_to_see_a_fault() -> None:
    assert detection_chance(149, 0.02) >= 0.95 > detection_chance(148, 0.02)
    assert devices_needed(0.02) == 149


SPEC = GateSpec(confirmed_share=0.95, failure_limit=0.02, soak=timedelta(hours=2))


def test_a_gate_opens_after_share_limit_and_soak() -> None:
    counts = RingCounts(size=100, in_play=100, confirmed=96, failed=1)
    first = read_gate(SPEC, counts, None, NOW)
    assert first.share_reached_at == NOW
    assert [c.name for c in first.criteria if not c.met] == ["soak"]
    assert not read_gate(SPEC, counts, NOW, NOW + timedelta(minutes=119)).met
    later = read_gate(SPEC, counts, first.share_reached_at, NOW + timedelta(hours=2))
    assert later.met


def test_as_many_as_were_allowed_may_be_unheard_of() -> None:
    spec = GateSpec(confirmed_share=0.5, failure_limit=0.02, soak=timedelta(0), max_unreached=4)
    for confirmed, met in ((96, True), (95, False)):
        reading = read_gate(spec, RingCounts(size=100, in_play=100, confirmed=confirmed, failed=0), NOW, NOW)
        assert next(c for c in reading.criteria if c.name == "unheard").met is met


def test_a_lost_share_starts_the_soak_anew() -> None:
    counts = RingCounts(size=100, in_play=100, confirmed=90, failed=0)
    assert read_gate(SPEC, counts, NOW - timedelta(hours=9), NOW).share_reached_at is None


def test_a_few_quick_ones_do_not_open_a_gate() -> None:
    counts = RingCounts(size=100, in_play=100, confirmed=5, failed=0)
    assert not read_gate(SPEC, counts, None, NOW).criteria[0].met


def test_a_ring_in_which_nothing_was_tried_waits_for_a_person() -> None:
    nobody = RingCounts.of_phases({})
    withdrawn = RingCounts.of_phases({"withdrawn": 4, "expired": 3, "superseded": 2})
    for counts in (nobody, withdrawn):
        reading = read_gate(GateSpec(confirmed_share=0.5, failure_limit=0.5, soak=timedelta(0)), counts, None, NOW)
        assert {c.name for c in reading.criteria if not c.met} >= {"tried", "confirmed"}
        assert not reading.met and reading.share_reached_at is None


def test_half_of_the_ring_must_have_been_tried_unless_it_says_how_many() -> None:
    of_ten = RingCounts.of_phases({"confirmed": 4, "withdrawn": 6})
    lax = {"confirmed_share": 0.9, "failure_limit": 0.5, "soak": timedelta(0)}
    assert not read_gate(GateSpec(**lax), of_ten, None, NOW).met  # type: ignore[arg-type]
    assert read_gate(GateSpec(**lax, min_tried=4), of_ten, None, NOW).met  # type: ignore[arg-type]
    assert read_gate(GateSpec(**lax), RingCounts.of_phases({"confirmed": 5, "withdrawn": 5}), None, NOW).met  # type: ignore[arg-type]
    assert [GateSpec(**lax).tried_needed(n) for n in (0, 1, 2, 3, 11)] == [1, 1, 1, 2, 6]  # type: ignore[arg-type]


endings = st.dictionaries(st.sampled_from([p.value for p in Phase]), st.integers(0, 30))


@given(endings, st.integers(0, 100), st.integers(1, 100), st.integers(0, 9))
def test_over_every_mix_of_endings_a_gate_opens_on_evidence_only(
    phases: dict[str, int], share: int, limit: int, lost: int
) -> None:
    lost = min(lost, phases.get("confirmed", 0))
    counts = RingCounts.of_phases(phases, lost=lost)
    spec = GateSpec(confirmed_share=max(0.01, share / 100), failure_limit=limit / 100, soak=timedelta(0))
    reading = read_gate(spec, counts, None, NOW)
    well, bad = phases.get("confirmed", 0) - lost, phases.get("failed", 0) + lost
    assert (counts.confirmed, counts.failed, counts.tried) == (well, bad, well + bad)
    if reading.met:
        assert well >= 1
        assert 2 * (well + bad) >= sum(phases.values())
        assert bad <= limit / 100 * (well + bad) + 1e-9
    nothing = {p: n for p, n in phases.items() if p not in ("confirmed", "failed")}
    assert not read_gate(spec, RingCounts.of_phases(nothing), None, NOW).met


@pytest.mark.parametrize(("failed", "tried", "halts"), [(1, 1, False), (2, 12, True), (2, 100, False), (8, 100, True)])
def test_halting_on_evidence(failed: int, tried: int, halts: bool) -> None:
    counts = RingCounts(size=200, in_play=200, confirmed=tried - failed, failed=failed)
    reason = halt_reason(counts, failure_limit=0.02, count_limit=None)
    assert (reason is not None) is halts
    if reason:
        assert f"{failed} of {tried} tried failed" in reason
        assert "2%" in reason


def test_halting_on_a_plain_count() -> None:
    counts = RingCounts(size=1000, in_play=1000, confirmed=900, failed=3)
    assert halt_reason(counts, failure_limit=0.5, count_limit=3) == "3 failed, and 3 was the limit"


def test_certainty_grows_with_failures_and_shrinks_with_successes() -> None:
    assert certainty_above(0.02, failed=3, tried=10) > certainty_above(0.02, failed=2, tried=10)
    assert certainty_above(0.02, failed=2, tried=400) < certainty_above(0.02, failed=2, tried=40)


def test_a_small_ring_is_even_though_it_has_fewer_devices_than_there_are_combinations() -> None:
    codes_of = np.random.default_rng(5)
    codes = np.stack([codes_of.integers(0, n, 1200) for n in (9, 3, 6, 5)], axis=1)
    pool = np.arange(len(codes))
    for seed in range(10):
        rng = np.random.default_rng(seed)
        even = even_draw(pool, codes, 60, rng)
        plain = rng.choice(len(pool), 60, replace=False)
        assert len(set(even.tolist())) == 60
        assert distance(codes[even], codes)[0] < 0.5 * distance(codes[plain], codes)[0]
