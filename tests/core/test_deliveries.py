"""The lifecycle of a delivery."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.deliveries import (
    ACTIVE,
    CLOSED,
    NO_COUNTER,
    NOT_CANCELLABLE,
    OPEN,
    REPORTABLE,
    TRANSITIONS,
    ActiveOrder,
    Event,
    InvalidTransition,
    Kind,
    Phase,
    Report,
    advance,
    failure,
    retry_pause,
    sources,
    steps_of_report,
    steps_of_state,
)

NOW = datetime(2026, 11, 23, 3, tzinfo=UTC)


def order(phase: Phase = Phase.OFFERED, **change: object) -> ActiveOrder:
    fields = {"kind": Kind.INSTALL, "phase": phase, "attempt": 1, "max_attempts": 2, "counter": 5}
    return ActiveOrder(**{**fields, "target_version": "5.2.1", "phase_since": NOW, **change})  # type: ignore[arg-type]


def report(phase: str, counter: int = 6, attempt: int = 1, error: str = "") -> Report:
    return Report(attempt=attempt, counter=counter, phase=phase, error=error)


def test_a_closed_delivery_never_changes_but_by_hand_by_who_comes_back_and_by_who_proves_well() -> None:
    reopened = {
        (Phase.FAILED, Event.RETRY_MANUALLY),
        (Phase.EXPIRED, Event.RETRY_MANUALLY),
        (Phase.WITHDRAWN, Event.READMIT),
    }
    late = {(Phase.FAILED, Event.CONFIRM_LATE), (Phase.EXPIRED, Event.CONFIRM_LATE)}
    for phase in CLOSED:
        for event in Event:
            if (phase, event) in reopened:
                assert advance(phase, event) is Phase.WAITING
                continue
            if (phase, event) in late:
                assert advance(phase, event) is Phase.CONFIRMED
                continue
            with pytest.raises(InvalidTransition):
                advance(phase, event)


def test_every_open_phase_can_fail_and_the_server_never_interrupts_an_install() -> None:
    assert set(sources(Event.FAIL)) == set(OPEN)
    for event in (Event.WITHDRAW, Event.EXPIRE, Event.SUPERSEDE):
        assert not set(sources(event)) & set(NOT_CANCELLABLE)


def test_progress_never_goes_back() -> None:
    for (phase, event), to in TRANSITIONS.items():
        if phase in ACTIVE and to in ACTIVE:
            assert ACTIVE.index(to) > ACTIVE.index(phase), (phase, event)


def test_only_confirming_or_running_leads_to_confirmed() -> None:
    assert set(sources(Event.CONFIRM)) == {Phase.CONFIRMING, Phase.RUNNING}
    assert sources(Event.FIND_DONE) == (Phase.WAITING,)


@pytest.mark.parametrize(
    "stale", [report("fetching", counter=5), report("fetching", counter=2), report("failed", attempt=2)]
)
def test_a_report_that_is_old_repeated_or_of_another_attempt_changes_nothing(stale: Report) -> None:
    assert steps_of_report(order(), stale) == []


def test_reports_move_forward_and_may_skip() -> None:
    assert [s.to for s in steps_of_report(order(), report("accepted"))] == [Phase.ACCEPTED]
    assert [s.to for s in steps_of_report(order(), report("staged"))] == [Phase.STAGED]
    assert steps_of_report(order(Phase.INSTALLING), report("fetching")) == []


def test_an_install_is_never_confirmed_by_the_devices_word() -> None:
    assert steps_of_report(order(Phase.CONFIRMING), report("done")) == []
    assert steps_of_report(order(), report("running")) != []  # the phase itself is legal


def test_a_command_is_confirmed_by_its_result() -> None:
    steps = steps_of_report(order(Phase.ACCEPTED, kind=Kind.COMMAND), report("done"))
    assert [s.to for s in steps] == [Phase.RUNNING, Phase.CONFIRMED]
    assert steps_of_report(order(kind=Kind.COMMAND), report("installing")) == []


def test_failure_is_retried_until_the_last_attempt() -> None:
    assert steps_of_report(order(), report("failed", error="bad-hash"))[0].event is Event.RETRY
    last = steps_of_report(order(attempt=2), report("failed", attempt=2, error="bad-hash"))[0]
    assert (last.event, last.to, last.cause) == (Event.FAIL, Phase.FAILED, "bad-hash")


def test_what_will_not_change_by_itself_is_not_tried_again() -> None:
    assert failure(order(), "no-space").event is Event.FAIL


def test_nobody_is_to_blame_for_a_closed_window() -> None:
    assert failure(order(attempt=2), "too-late").event is Event.RETRY


def test_confirmed_only_on_version_health_and_soak() -> None:
    soaking = order(Phase.CONFIRMING, soak=timedelta(minutes=10))
    assert steps_of_state(soaking, firmware="5.2.1", healthy=True, now=NOW + timedelta(minutes=9)) == []
    done = steps_of_state(soaking, firmware="5.2.1.0", healthy=True, now=NOW + timedelta(minutes=10))
    assert [s.to for s in done] == [Phase.CONFIRMED]
    ill = steps_of_state(soaking, firmware="5.2.1", healthy=False, now=NOW + timedelta(minutes=10))
    assert ill[0].cause == "unhealthy"


def test_a_device_back_on_the_old_version_failed() -> None:
    steps = steps_of_state(order(Phase.CONFIRMING, attempt=2), firmware="5.1.4", healthy=True, now=NOW)
    assert (steps[0].to, steps[0].cause) == (Phase.FAILED, "wrong-version")
    assert "5.1.4" in steps[0].detail


def test_a_lost_report_of_coming_back_is_made_up_for() -> None:
    steps = steps_of_state(order(Phase.INSTALLING), firmware="5.2.1", healthy=True, now=NOW)
    assert [s.to for s in steps] == [Phase.CONFIRMING, Phase.CONFIRMED]
    assert steps_of_state(order(Phase.INSTALLING), firmware="5.1.4", healthy=True, now=NOW) == []


def test_pauses_double_up_to_six_hours() -> None:
    first = timedelta(minutes=10)
    assert [retry_pause(first, n) for n in (1, 2, 3)] == [first, first * 2, first * 4]
    assert retry_pause(first, 60) == timedelta(hours=6)


reports = st.builds(
    Report,
    attempt=st.integers(1, 3),
    counter=st.integers(0, 30),
    phase=st.sampled_from(REPORTABLE),
    error=st.sampled_from(["", "bad-hash", "too-late"]),
)


@given(st.sampled_from(list(Kind)), st.lists(reports, max_size=12))
def test_whatever_is_reported_every_step_is_in_the_table(kind: Kind, said: list[Report]) -> None:
    current = order(kind=kind)
    for each in said:
        steps = steps_of_report(current, each)
        assert steps == steps_of_report(current, each)
        for step in steps:
            assert TRANSITIONS[current.phase, step.event] is step.to
            current = ActiveOrder(**{**current.__dict__, "phase": step.to, "counter": each.counter})
        if current.phase not in ACTIVE:
            return


def test_a_file_asked_for_alone_goes_back_to_waiting_and_only_then() -> None:
    order = ActiveOrder(kind=Kind.INSTALL, phase=Phase.FETCHING, attempt=1, max_attempts=2, counter=3, fetch_only=True)
    report = Report(attempt=1, counter=4, phase="staged")
    assert [s.to for s in steps_of_report(order, report)] == [Phase.STAGED, Phase.WAITING]
    assert steps_of_report(order, Report(attempt=1, counter=3, phase="staged")) == []
    whole = ActiveOrder(kind=Kind.INSTALL, phase=Phase.FETCHING, attempt=1, max_attempts=2, counter=3)
    assert [s.to for s in steps_of_report(whole, report)] == [Phase.STAGED]
    assert [p for p in Phase if (p, Event.STORE_FILE) in TRANSITIONS] == [Phase.STAGED]


@pytest.mark.parametrize("phase", ACTIVE)
def test_the_wanted_version_in_good_health_confirms_from_any_phase_in_hand(phase: Phase) -> None:
    steps = steps_of_state(order(phase), firmware="v5.2.1", healthy=True, now=NOW)
    assert steps[-1].to is Phase.CONFIRMED
    assert [s.to for s in steps[:-1]] == ([] if phase is Phase.CONFIRMING else [Phase.CONFIRMING])


@pytest.mark.parametrize("phase", [p for p in ACTIVE if p is not Phase.CONFIRMING])
def test_another_version_or_none_says_nothing_before_the_device_came_back(phase: Phase) -> None:
    for firmware in ("5.1.0", None, ""):
        assert steps_of_state(order(phase), firmware=firmware, healthy=True, now=NOW) == []


def test_the_wanted_version_with_a_fault_is_left_to_its_install_until_that_has_begun() -> None:
    assert steps_of_state(order(Phase.FETCHING), firmware="5.2.1", healthy=False, now=NOW) == []
    ill = steps_of_state(order(Phase.INSTALLING, attempt=2), firmware="5.2.1", healthy=False, now=NOW)
    assert [s.to for s in ill] == [Phase.CONFIRMING, Phase.FAILED]


def test_the_first_report_may_count_from_zero() -> None:
    fresh = order(counter=NO_COUNTER)
    assert [s.to for s in steps_of_report(fresh, report("accepted", counter=0))] == [Phase.ACCEPTED]
    assert steps_of_report(order(counter=0), report("fetching", counter=0)) == []


def test_a_counter_begins_anew_with_each_boot_that_has_a_name() -> None:
    counted = order(Phase.FETCHING, counter=40, boot="a")
    again = Report(attempt=1, counter=1, phase="installing", boot="b")
    assert [s.to for s in steps_of_report(counted, again)] == [Phase.INSTALLING]
    for old in (Report(attempt=1, counter=40, phase="installing", boot="a"), report("installing", counter=3)):
        assert steps_of_report(counted, old) == []
    assert steps_of_report(counted, Report(attempt=2, counter=1, phase="installing", boot="b")) == []
