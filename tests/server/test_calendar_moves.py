"""What does not fit in the calendar, one test for every kind, and moves: seen before, made, and taken back."""

from datetime import UTC, datetime, time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.agenda.conflicts import ConflictCode, conflicts_ahead
from herald.calendar.models import Freeze
from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands import compose
from herald.commands.models import Schedule, When
from herald.fleet.models import Device
from herald.groups.models import Group
from herald.record.models import RecordEntry
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.models import Rollout
from herald.rollouts.watch.stored_forecasts import store_forecasts
from herald.time import clock
from tests.factories import (
    NOW,
    client_as,
    launched,
    make_devices,
    make_draft,
    make_site,
    make_static,
    make_user,
    restart,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
DAY, HOUR = timedelta(days=1), timedelta(hours=1)


@pytest.fixture
def group() -> Group:
    return make_static("All of them", make_devices(4, site=make_site("West", "Europe/Lisbon")))


def at_night(group: Group, **fields: Any) -> Rollout:
    """A rollout from one to five in the night, of which nothing was offered yet."""
    return launched(make_draft(group, **{"window_start": time(1), "window_end": time(5), **fields}))


def nightly(group: Group, at: time = time(2, 30), *, now: datetime = NOW, **fields: Any) -> Schedule:
    draft = compose.ScheduleDraft(
        template=restart(), include=[group], when=When.REPEAT, rule="FREQ=DAILY", time_of_day=at, **fields
    )
    return compose.create_schedule(draft, actor=make_user(), now=now)


def found(client: APIClient) -> dict[str, Any]:
    rows = client.get("/api/v1/calendar/conflicts").json()
    assert len({r["key"] for r in rows}) == len(rows)
    return {r["code"]: r for r in rows}


def mends(client: APIClient, code: ConflictCode, place: int = 0) -> dict[str, Any]:
    """Press a fix: what was shown of it before, and that the conflict is gone after, and there again once undone."""
    conflict = found(client)[code]
    fix = {k: v for k, v in conflict["fixes"][place].items() if k != "words"}
    entries = RecordEntry.objects.count()
    seen = client.post("/api/v1/calendar/moves/preview", fix, format="json")
    assert seen.status_code == 200, seen.json()
    assert RecordEntry.objects.count() == entries, "a preview changes nothing"
    assert conflict["key"] in {c["key"] for c in seen.json()["fixed_conflicts"]}
    done = client.post("/api/v1/calendar/moves", fix, format="json")
    assert done.status_code == 200, done.json()
    assert code not in found(client)
    undo = {k: v for k, v in done.json()["undo"].items() if k != "words"}
    assert client.post("/api/v1/calendar/moves", undo, format="json").status_code == 200
    assert found(client)[code]["words"] == conflict["words"]
    result: dict[str, Any] = seen.json()
    return result


def test_nothing_planned_is_no_conflict(client: APIClient, group: Group) -> None:
    at_night(group)
    nightly(group, time(12))
    assert found(client) == {}


def test_a_firing_in_an_hour_that_a_clock_change_skips(client: APIClient) -> None:
    # clocks of Santiago are put forward in the night of 6 September; look from August
    group = make_static("South", make_devices(3, site=make_site("South", "America/Santiago")))
    august = datetime(2027, 8, 20, tzinfo=UTC)
    nightly(group, time(0, 30), now=august)
    conflict = {c.code: c for c in conflicts_ahead(now=august)}[ConflictCode.SKIPPED_HOUR]
    assert conflict.words == (
        "“Restart” would run on Sun 5 Sep at 00:30 in Santiago, an hour that the clock change skips. "
        "It runs at 01:00, for 3 devices."
    )
    assert [(m.words, m.change) for m in conflict.fixes] == [("Run it at 01:00 every time", {"time_of_day": "01:00"})]
    with clock.fixed(august):
        mends(client, ConflictCode.SKIPPED_HOUR)


def test_a_restart_while_installs_run(client: APIClient, group: Group) -> None:
    rollout = at_night(group)
    nightly(group)
    conflict = found(client)["during_installs"]
    assert conflict["devices"] == 4
    assert f"meets installs of Rollout {rollout.pk}" in conflict["words"]
    seen = mends(client, ConflictCode.DURING_INSTALLS)
    assert [(f["zone"], f["before"], f["after"]) for f in seen["firings"]] == [
        ("Europe/Lisbon", "2026-11-23T02:30:00Z", "2026-11-23T05:00:00Z")
    ]


def test_a_freeze_before_the_end(client: APIClient, group: Group) -> None:
    at_night(group, max_starts_per_hour=1, window_start=time(1), window_end=time(2))
    store_forecasts(now=NOW)
    draft = FreezeDraft(name="Harvest", starts_at=NOW + HOUR, ends_at=NOW + 9 * DAY, groups=[group])
    save_freeze(draft, actor=None, now=NOW)
    conflict = found(client)["before_end"]
    assert "“Harvest” begins on 23 Nov 03:00 UTC" in conflict["words"]
    assert "holds 4 devices that are not through" in conflict["words"]
    assert conflict["fixes"][0]["change"] == {"window_start": "23:00", "window_end": "04:00"}
    fix = {k: v for k, v in conflict["fixes"][0].items() if k != "words"}
    seen = client.post("/api/v1/calendar/moves/preview", fix, format="json").json()
    # the forecast is made anew for the hours that it would have: two installs fit in before the freeze, not four
    assert len(seen["rollouts"]) == 1
    assert Rollout.objects.get().window_start == time(1)


def test_a_window_that_a_clock_change_leaves_too_short(client: APIClient) -> None:
    group = make_static("South", make_devices(2, site=make_site("South", "America/Santiago")))
    begins = datetime(2027, 9, 1, tzinfo=UTC)
    rollout = at_night(group, window_start=time(0), window_end=time(1))
    Rollout.objects.update(launched_at=begins)
    conflict = {c.code: c for c in conflicts_ahead(now=begins)}[ConflictCode.SHORT_WINDOW]
    assert conflict.words == (
        f"On Sun 5 Sep the clock change leaves 0 min of the window of Rollout {rollout.pk} (Sill 5.2.1) in Santiago; "
        "an install takes 10 min. None of 2 devices begins there that day."
    )
    with clock.fixed(begins):
        mends(client, ConflictCode.SHORT_WINDOW)


def test_a_cap_of_sites_that_cannot_be_met_by_the_end(client: APIClient, group: Group) -> None:
    # one at once, ten minutes each, from one to half past: three a night, and one night only
    at_night(group, max_concurrent_per_site=1, window_end=time(1, 30), expires_after_hours=30)
    conflict = found(client)["site_cap"]
    assert "4 devices left at West, and at most 1 at once there: 3 of them fit in" in conflict["words"]
    assert conflict["fixes"][0]["change"] == {"max_concurrent_per_site": 2}
    mends(client, ConflictCode.SITE_CAP)


def test_two_rollouts_that_want_the_same_devices(client: APIClient, group: Group) -> None:
    first = launched(make_draft(group, starts_at=NOW + 5 * HOUR))
    second = launched(make_draft(make_static("Again", list(Device.objects.all())), first.changes.get().image))
    conflict = found(client)["wanted_twice"]
    assert (conflict["devices"], conflict["id"]) == (4, second.pk)
    assert f"Rollout {first.pk} goes first; Rollout {second.pk} waits for them." in conflict["words"]
    [fix] = conflict["fixes"]
    assert (fix["words"], fix["change"]) == (f"Let Rollout {second.pk} go first", {"order": [second.pk, first.pk]})
    move = {k: v for k, v in fix.items() if k != "words"}
    seen = client.post("/api/v1/calendar/moves/preview", move, format="json").json()
    # the second waits for the start of the first; once it goes first, it does not
    ends = {e["id"]: (e["before"]["median"], e["after"]["median"]) for e in seen["rollouts"]}
    assert ends.keys() == {first.pk, second.pk}
    undo = client.post("/api/v1/calendar/moves", move, format="json").json()["undo"]
    assert f"Rollout {second.pk} goes first" in found(client)["wanted_twice"]["words"]
    client.post("/api/v1/calendar/moves", {k: v for k, v in undo.items() if k != "words"}, format="json")
    assert found(client)["wanted_twice"]["words"] == conflict["words"]


def test_devices_that_are_never_awake_in_the_window(client: APIClient, group: Group) -> None:
    at_night(group)
    sleepers = list(Device.objects.order_by("id").values_list("pk", flat=True)[:2])
    Device.objects.filter(pk__in=sleepers).update(check_in_interval_seconds=6 * 3600)
    conflict = found(client)["never_awake"]
    assert (conflict["devices"], "every 6 h at the longest" in conflict["words"]) == (2, True)
    assert [f["words"] for f in conflict["fixes"]] == [
        "Open the window from 00:00 to 07:00",
        "Install at any hour",
    ]
    mends(client, ConflictCode.NEVER_AWAKE)
    mends(client, ConflictCode.NEVER_AWAKE, 1)


# -- moves -----------------------------------------------------------------------------------------


def test_a_freeze_that_is_moved_says_what_becomes_of_forecasts(client: APIClient, group: Group) -> None:
    rollout = launched(make_draft(group))
    tick_rollouts(now=NOW)
    draft = FreezeDraft(name="Harvest", starts_at=NOW + 9 * DAY, ends_at=NOW + 12 * DAY, groups=[group])
    freeze = save_freeze(draft, actor=None, now=NOW)
    move = {"kind": "freeze", "id": freeze.pk, "change": {"start_by": -9 * 24 * 60, "end_by": -9 * 24 * 60}}
    seen = client.post("/api/v1/calendar/moves/preview", move, format="json").json()
    assert seen["devices"] == 4
    [end] = seen["rollouts"]
    assert end["id"] == rollout.pk
    assert end["before"]["median"] < (NOW + DAY).isoformat()
    assert end["after"]["median"] > (NOW + 3 * DAY).isoformat()
    freeze.refresh_from_db()
    assert freeze.starts_at == NOW + 9 * DAY

    done = client.post("/api/v1/calendar/moves", move, format="json").json()
    freeze.refresh_from_db()
    assert (freeze.starts_at, freeze.ends_at) == (NOW, NOW + 3 * DAY)
    undo = {k: v for k, v in done["undo"].items() if k != "words"}
    client.post("/api/v1/calendar/moves", undo, format="json")
    freeze.refresh_from_db()
    assert (freeze.starts_at, freeze.ends_at) == (NOW + 9 * DAY, NOW + 12 * DAY)


def test_a_move_that_breaks_something_says_so_before(client: APIClient, group: Group) -> None:
    at_night(group)
    schedule = nightly(group, time(12))
    move = {"kind": "schedule", "id": schedule.pk, "change": {"time_of_day": "02:00"}}
    seen = client.post("/api/v1/calendar/moves/preview", move, format="json").json()
    assert [c["code"] for c in seen["new_conflicts"]] == ["during_installs"]
    assert seen["fixed_conflicts"] == []
    assert Schedule.objects.get(pk=schedule.pk).time_of_day == time(12)


def test_what_was_left_out_of_a_schedule_moves_with_it(client: APIClient, group: Group) -> None:
    schedule = nightly(group, time(12), excluded=["2026-11-24T12:00"])
    move = {"kind": "schedule", "id": schedule.pk, "change": {"time_of_day": "13:00"}}
    undo = client.post("/api/v1/calendar/moves", move, format="json").json()["undo"]
    schedule.refresh_from_db()
    assert (schedule.time_of_day, schedule.excluded) == (time(13), ["2026-11-24T13:00"])
    client.post("/api/v1/calendar/moves", {k: v for k, v in undo.items() if k != "words"}, format="json")
    schedule.refresh_from_db()
    assert (schedule.time_of_day, schedule.excluded) == (time(12), ["2026-11-24T12:00"])


@pytest.mark.parametrize(
    ("kind", "change", "status", "pointer"),
    [
        ("rollout", {"time_of_day": "02:00"}, 422, "/change"),
        ("rollout", {}, 422, "/change"),
        ("rollout", {"window_start": "02:00", "window_end": "02:05"}, 422, "/window_end"),
        ("rollout", {"order": [1, 1]}, 422, "/order"),
        ("schedule", {"window_start": "02:00"}, 422, "/change"),
        ("freeze", {"start_by": 30 * 24 * 60}, 422, "/ends_at"),
        ("freeze", {"start_by": "soon"}, 400, "/change/start_by"),
        ("planet", {"start_by": 1}, 400, "/kind"),
    ],
)
def test_what_cannot_be_moved_is_said_and_changes_nothing(
    client: APIClient, group: Group, kind: str, change: dict[str, Any], status: int, pointer: str
) -> None:
    ids = {
        "rollout": at_night(group).pk,
        "schedule": nightly(group).pk,
        "freeze": save_freeze(
            FreezeDraft(name="F", starts_at=NOW + DAY, ends_at=NOW + 2 * DAY, everywhere=True), actor=None, now=NOW
        ).pk,
    }
    entries = RecordEntry.objects.count()
    for call in ("moves/preview", "moves"):
        sent = {"kind": kind, "id": ids.get(kind, 1), "change": change}
        answer = client.post(f"/api/v1/calendar/{call}", sent, format="json")
        assert (answer.status_code in (status, 400, 422), answer.json()["errors"][0]["pointer"]) == (True, pointer)
    assert RecordEntry.objects.count() == entries


@pytest.mark.parametrize("kind", ["rollout", "schedule", "freeze"])
def test_what_is_gone_is_not_found(client: APIClient, kind: str) -> None:
    change: dict[str, Any] = {"time_of_day": "02:00"} if kind == "schedule" else {"start_by": 5}
    change = {"max_concurrent": 4} if kind == "rollout" else change
    answer = client.post("/api/v1/calendar/moves", {"kind": kind, "id": 99, "change": change}, format="json")
    assert answer.status_code == 404


def test_a_freeze_of_a_calendar_and_hours_in_a_rule_are_not_moved(client: APIClient, group: Group) -> None:
    by_rule = nightly(group)
    Schedule.objects.filter(pk=by_rule.pk).update(rule="FREQ=DAILY;BYHOUR=2,14")
    move = {"kind": "schedule", "id": by_rule.pk, "change": {"time_of_day": "03:00"}}
    assert client.post("/api/v1/calendar/moves", move, format="json").status_code == 409
    assert not Freeze.objects.exists()


def test_who_may_only_look_moves_nothing(group: Group) -> None:
    rollout = at_night(group)
    move = {"kind": "rollout", "id": rollout.pk, "change": {"max_concurrent": 9}}
    assert client_as("viewer").post("/api/v1/calendar/moves", move, format="json").status_code == 403
    assert client_as("viewer").get("/api/v1/calendar/conflicts").status_code == 200
