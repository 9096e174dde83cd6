"""The delivery's lifecycle as a machine: any order of events, and the table always holds."""

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from herald_core.deliveries import (
    ACTIVE,
    CLOSED,
    OPEN,
    RECALLABLE,
    TRANSITIONS,
    ActiveOrder,
    Event,
    InvalidTransition,
    Kind,
    Phase,
    Report,
    advance,
    failure,
    steps_of_report,
    steps_of_state,
)
from tests.core.strategies import NOW


class Delivery(RuleBasedStateMachine):
    """One install, pushed about by server and device."""

    def __init__(self) -> None:
        super().__init__()
        self.phase = Phase.WAITING
        self.attempt = 1
        self.counter = 0
        self.ended_as: Phase | None = None

    def order(self) -> ActiveOrder:
        return ActiveOrder(
            kind=Kind.INSTALL,
            phase=self.phase,
            attempt=self.attempt,
            max_attempts=3,
            counter=self.counter,
            target_version="2.0",
            phase_since=NOW,
        )

    def take(self, steps: list) -> None:  # type: ignore[type-arg]  # steps of the core
        for step in steps:
            assert TRANSITIONS[self.phase, step.event] is step.to
            self.phase = step.to
            if step.event is Event.RETRY:
                self.attempt, self.counter = self.attempt + 1, 0

    @rule(event=st.sampled_from(list(Event)))
    def the_server_acts(self, event: Event) -> None:
        before = self.phase
        server = (Event.OFFER, Event.RECALL, Event.WITHDRAW, Event.EXPIRE, Event.SUPERSEDE)
        if event not in server:
            return
        try:
            self.phase = advance(self.phase, event)
        except InvalidTransition as refused:
            assert (refused.phase, refused.event) == (before, event)
            assert self.phase is before

    @precondition(lambda self: self.phase in ACTIVE)
    @rule(
        phase=st.sampled_from(
            ["accepted", "fetching", "staged", "installing", "confirming", "failed", "done", "running"]
        ),
        ahead=st.integers(-2, 3),
        attempt=st.integers(0, 1),
    )
    def the_device_reports(self, phase: str, ahead: int, attempt: int) -> None:
        report = Report(attempt=self.attempt - attempt, counter=self.counter + ahead, phase=phase, error="bad")
        steps = steps_of_report(self.order(), report)
        if attempt or ahead <= 0:
            assert steps == []
            return
        self.counter = report.counter
        self.take(steps)

    @precondition(lambda self: self.phase in ACTIVE)
    @rule(firmware=st.sampled_from(["1.0", "2.0", "v2.0.0", None]), healthy=st.booleans())
    def the_device_calls(self, firmware: str | None, healthy: bool) -> None:
        steps = steps_of_state(self.order(), firmware=firmware, healthy=healthy, now=NOW)
        self.take(steps)
        if self.phase is Phase.CONFIRMED:
            assert firmware in ("2.0", "v2.0.0") and healthy

    @precondition(lambda self: self.phase in ACTIVE)
    @rule()
    def it_is_not_heard_of(self) -> None:
        self.take([failure(self.order(), "no-answer")])

    @invariant()
    def what_is_closed_stays_closed(self) -> None:
        if self.ended_as is not None:
            assert self.phase is self.ended_as
        if self.phase in CLOSED:
            self.ended_as = self.phase

    @invariant()
    def attempts_are_bounded(self) -> None:
        assert self.attempt <= 3

    @invariant()
    def open_and_closed_are_all_there_is(self) -> None:
        assert (self.phase in OPEN) != (self.phase in CLOSED)
        assert set(RECALLABLE) <= set(OPEN)


Delivery.TestCase.settings = settings(max_examples=150, stateful_step_count=30, deadline=None)
TestDelivery = Delivery.TestCase
