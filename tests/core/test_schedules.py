"""Where a scheduled command stands."""

import pytest

from herald_core.schedules import ScheduleSight, ScheduleStatus, schedule_status


@pytest.mark.parametrize(
    ("seen", "expected"),
    [
        (ScheduleSight(state="active", phases={"running": 2, "offered": 3, "waiting": 4}), ("moving", 2)),
        (ScheduleSight(state="active", phases={"offered": 3, "waiting": 4}), ("offered", 3)),
        (ScheduleSight(state="active", phases={"offered": 3, "running": 1}, unheard=4), ("unheard", 4)),
        (ScheduleSight(state="active", phases={"confirmed": 9, "waiting": 4}), ("waiting", 4)),
        (ScheduleSight(state="active", phases={"confirmed": 9}, reached=7, fires_again=True), ("next", 7)),
        (ScheduleSight(state="active", phases={}, fires_again=True), ("nobody", 0)),
        (ScheduleSight(state="active", phases={"confirmed": 9}, reached=7), ("done", 0)),
        (ScheduleSight(state="paused", phases={"running": 2, "waiting": 5}), ("paused", 2)),
        (ScheduleSight(state="ended", phases={"confirmed": 2}, fires_again=True), ("ended", 0)),
        (ScheduleSight(state="active", phases={"running": 2}, quarantined=True), ("quarantined", 0)),
    ],
)
def test_what_is_said_is_so(seen: ScheduleSight, expected: tuple[str, int]) -> None:
    assert schedule_status(seen) == (ScheduleStatus(expected[0]), expected[1])
