"""Answers of a fleet, grouped: nobody is lost, and nothing is put together that differs."""

from hypothesis import given
from hypothesis import strategies as st

from herald_core.answers import MAX_GROUPS, MIN_DISTINCT, Outcome, Sort, grouped
from herald_core.deliveries import Phase

answers = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(10**9), 10**9),
    st.floats(-1e9, 1e9, allow_nan=False),
    st.text(max_size=12),
    st.sampled_from(["ok", "stale", "took 3 s", "took 12.5 s", "at 0x3fa0"]),
)


def done(device: int, answer: object) -> Outcome:
    return Outcome(device=device, phase="confirmed", answer=answer)


@given(
    st.lists(st.tuples(st.sampled_from(list(Phase)), answers, st.sampled_from(["", "busy", "no-answer"])), max_size=80)
)
def test_each_device_is_in_exactly_one_group(rows: list[tuple[Phase, object, str]]) -> None:
    outcomes = [Outcome(device=n, phase=p.value, answer=a, error=e) for n, (p, a, e) in enumerate(rows)]
    groups = grouped(outcomes)
    assert sorted(d for g in groups for d in g.devices) == list(range(len(rows)))
    assert len({g.key for g in groups}) == len(groups)


def test_equal_answers_are_together_and_the_commonest_come_first() -> None:
    groups = grouped([done(n, a) for n, a in enumerate(["ok", "stale", "ok", " ok ", True])])
    assert [(g.label, g.count) for g in groups] == [("ok", 3), ("stale", 1), ("yes", 1)]


def test_texts_that_differ_in_numbers_only_are_nearly_equal() -> None:
    groups = grouped([done(n, f"took {n}.5 s at 0x{n:04x}") for n in range(MIN_DISTINCT)] + [done(99, "did not move")])
    assert [(g.sort, g.label, g.count) for g in groups] == [
        (Sort.NEAR, "took # s at #", MIN_DISTINCT),
        (Sort.EQUAL, "did not move", 1),
    ]
    few = grouped([done(n, f"took {n} s") for n in range(MIN_DISTINCT - 1)])
    assert {g.sort for g in few} == {Sort.EQUAL}


@given(st.lists(st.floats(-1e6, 1e6, allow_nan=False), min_size=MIN_DISTINCT, max_size=300, unique=True))
def test_numbers_are_a_histogram_whose_bins_hold_what_they_say(values: list[float]) -> None:
    groups = grouped([done(n, v) for n, v in enumerate(values)])
    assert all(g.sort is Sort.NUMBER for g in groups) and sum(g.count for g in groups) == len(values)
    for group in groups:
        assert group.low is not None and group.high is not None
        assert all(group.low <= values[d] <= group.high for d in group.devices)


def test_few_different_numbers_are_answers_like_others() -> None:
    assert [(g.label, g.sort) for g in grouped([done(1, 3), done(2, 3), done(3, 4.25)])] == [
        ("3", Sort.EQUAL),
        ("4.25", Sort.EQUAL),
    ]


def test_what_is_no_answer_is_told_apart() -> None:
    phases = [("failed", "busy"), ("failed", ""), ("expired", ""), ("superseded", ""), ("running", ""), ("waiting", "")]
    outcomes = [Outcome(device=n, phase=p, error=e) for n, (p, e) in enumerate(phases)]
    found = [(g.sort, g.label, g.count) for g in grouped([*outcomes, done(9, None)])]
    assert found == [
        (Sort.DONE, "", 1),
        (Sort.FAILED, "busy", 1),
        (Sort.FAILED, "unspecified", 1),
        (Sort.MISSED, "", 1),
        (Sort.LEFT, "", 1),
        (Sort.OPEN, "", 2),
    ]


def test_the_rarest_answers_are_put_together() -> None:
    outcomes = [done(n, "".join(chr(97 + int(c)) for c in str(n))) for n in range(MAX_GROUPS * 2)]
    groups = grouped(outcomes)
    assert len(groups) == MAX_GROUPS and groups[-1].sort is Sort.OTHER and groups[-1].count == MAX_GROUPS + 1
