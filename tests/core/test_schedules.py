"""Where a scheduled command stands."""

from datetime import UTC, datetime

import pytest

from herald_core.schedules import ScheduleSight, ScheduleStatus, schedule_status

NEXT = datetime(2026, 11, 24, 5, tzinfo=UTC)


@pytest.mark.parametrize(
    ("seen", "expected"),
    [
        (ScheduleSight(state="active", phases={"running": 2, "offered": 3, "waiting": 4}), ("moving", 2)),
        (ScheduleSight(state="active", phases={"offered": 3, "waiting": 4}), ("offered", 3)),
        (ScheduleSight(state="active", phases={"offered": 3, "running": 1}, unheard=4), ("unheard", 4)),
        (ScheduleSight(state="active", phases={"confirmed": 9, "waiting": 4}), ("waiting", 4)),
        (ScheduleSight(state="active", phases={"confirmed": 9}, reached=7, next_firing=NEXT), ("next", 7)),
        (ScheduleSight(state="active", phases={}, next_firing=NEXT), ("nobody", 0)),
        (ScheduleSight(state="active", phases={"confirmed": 9}, reached=7), ("done", 0)),
        (ScheduleSight(state="paused", phases={"running": 2, "waiting": 5}), ("paused", 2)),
        (ScheduleSight(state="ended", phases={"confirmed": 2}, next_firing=NEXT), ("ended", 0)),
        (ScheduleSight(state="active", phases={"running": 2}, quarantined=True), ("quarantined", 0)),
    ],
)
def test_what_is_said_is_so(seen: ScheduleSight, expected: tuple[str, int]) -> None:
    assert schedule_status(seen) == (ScheduleStatus(expected[0]), expected[1])
