"""What the clock counts for the calendar: when it is told, and when it is counted anew instead."""

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import msgspec
import pytest
from rest_framework.test import APIClient

from herald.agenda.keeping import REST_SECONDS, USABLE, keep_counts
from herald.agenda.models import KeptCounts
from herald.commands.turn import turn_schedules
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.groups.models import Group
from herald.limits.services import limit_person, read_limits
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.models import Rollout
from herald.time import clock
from tests.factories import NOW, launched, make_devices, make_draft, make_image, make_site, make_static, make_user
from tests.server.test_calendar import LISBON, asked, schedule

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
DAY, MINUTE = timedelta(days=1), timedelta(minutes=1)


@pytest.fixture
def west() -> Group:
    return make_static("Of the west", make_devices(3, site=make_site("West", LISBON)))


def told(client: APIClient, rows: str = "zone") -> Any:
    """The calendar's week, from whatever there is."""
    given = {"from": (NOW - DAY).isoformat(), "until": (NOW + 7 * DAY).isoformat(), "rows": rows}
    return client.get("/api/v1/calendar", given).json()


def in_rings(answer: Any) -> list[int]:
    return [sum(d["devices"] for d in ring["devices"]) for r in answer["rollouts"] for ring in r["rings"]]


def test_what_was_counted_is_told_with_its_moment(client: APIClient, west: Group) -> None:
    schedule(west)
    rest = keep_counts(now=NOW)
    assert rest >= REST_SECONDS
    make_devices(2, site=make_site("West", LISBON))
    with clock.fixed(NOW + MINUTE):
        answer = told(client)
    assert [r["devices"] for r in answer["rows"]] == [3], "two have come since"
    assert answer["counted_at"] == "2026-11-23T02:00:00Z"


def test_now_tells_of_when_its_devices_were_counted(client: APIClient, west: Group) -> None:
    schedule(west)

    def now() -> Any:
        answer = client.get("/api/v1/now").json()
        return {key: answer[key] for key in ("devices", "heard", "coming", "counted_at")}

    live = now()
    assert live["counted_at"] is None and live["heard"] == 3 and live["coming"]
    keep_counts(now=NOW)
    assert now() == {**live, "counted_at": "2026-11-23T02:00:00Z"}
    make_devices(2, site=make_site("West", LISBON))
    with clock.fixed(NOW + MINUTE):
        later = now()
        KeptCounts.objects.all().delete()
        anew = now()
    assert (later["devices"], later["heard"]) == (5, 3), "how many there are is always of this moment"
    assert (anew["devices"], anew["heard"], anew["counted_at"]) == (5, 5, None)


def test_what_another_release_did_not_count_is_counted_anew(client: APIClient, west: Group) -> None:
    keep_counts(now=NOW)
    for kept in KeptCounts.objects.all():
        written = msgspec.json.decode(bytes(kept.counts))
        del written["heard"]
        KeptCounts.objects.filter(pk=kept.pk).update(counts=msgspec.json.encode(written))
    make_devices(1, site=make_site("West", LISBON))
    assert client.get("/api/v1/now").json()["heard"] == 4


def test_what_is_old_is_not_told(client: APIClient, west: Group) -> None:
    keep_counts(now=NOW, real_now=datetime.now(UTC) - USABLE - MINUTE)
    Device.objects.filter(pk=Device.objects.earliest("id").pk).update(admission="retired")
    answer = told(client)
    assert ([r["devices"] for r in answer["rows"]], answer["counted_at"]) == ([2], None)


@pytest.mark.parametrize("written", [b"", b"[]", b'{"rings": 7}', b'{"devices": [[]], "over": "x"}'])
def test_what_another_release_wrote_otherwise_is_counted_anew(client: APIClient, west: Group, written: bytes) -> None:
    keep_counts(now=NOW)
    KeptCounts.objects.update(counts=written)
    answer = told(client)
    assert ([r["devices"] for r in answer["rows"]], answer["counted_at"]) == ([3], None)
    keep_counts(now=NOW)
    assert told(client)["counted_at"] is not None


@pytest.mark.parametrize("rows", ["zone", "site"])
def test_what_was_begun_since_is_counted_when_it_is_asked_for(client: APIClient, west: Group, rows: str) -> None:
    keep_counts(now=NOW)
    launched(make_draft(west))
    tick_rollouts(now=NOW)
    schedule(west)
    turn_schedules(now=NOW + 4 * 60 * MINUTE)
    with clock.fixed(NOW + 5 * 60 * MINUTE):
        answer = told(client, rows)
    assert answer["counted_at"] is not None
    assert in_rings(answer) == [3]
    [mine] = answer["schedules"]
    assert [(m["devices"], sum(m["phases"].values())) for r in mine["past"] for m in r["marks"]] == [(3, 3)]
    assert {m["devices"] for r in mine["planned"] for m in r["marks"]} == {3}


def test_a_command_that_is_changed_is_counted_for_whom_it_is_now(client: APIClient, west: Group) -> None:
    mine = schedule(west)
    keep_counts(now=NOW)
    mine.include.set([make_static("One", list(Device.objects.all()[:1]))])
    type(mine).objects.filter(pk=mine.pk).update(revision=mine.revision + 1)
    [found] = told(client)["schedules"]
    assert {m["devices"] for r in found["planned"] for m in r["marks"]} == {1}


def test_a_group_that_comes_into_use_has_a_row_at_once(client: APIClient, west: Group) -> None:
    keep_counts(now=NOW)
    schedule(west)
    answer = told(client, "group")
    assert [(r["name"], r["devices"]) for r in answer["rows"]] == [("Of the west", 3)]
    assert answer["counted_at"] is None


@pytest.mark.parametrize("rows", ["zone", "site", "group"])
def test_a_rollout_that_is_over_is_counted_once(
    client: APIClient, west: Group, rows: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    east = make_static("Of the east", make_devices(3, site=make_site("East", LISBON)))
    schedule(west, east)  # so that the groups stay rows
    ended, goes_on = (launched(make_draft(g, make_image(v))) for g, v in ((west, "5.2.1"), (east, "5.2.2")))
    tick_rollouts(now=NOW)
    keep_counts(now=NOW)
    Delivery.objects.filter(rollout=ended).update(phase="confirmed")
    Rollout.objects.filter(pk=ended.pk).update(state="finished", ended_at=NOW)
    asked_of: list[list[int]] = []
    counting: Callable[..., Any] = type(Delivery.objects.all()).counts_by_cell

    def counted(self: Any, rollout_ids: Any, *rest: Any) -> Any:
        asked_of.append(sorted(rollout_ids))
        return counting(self, rollout_ids, *rest)

    monkeypatch.setattr(type(Delivery.objects.all()), "counts_by_cell", counted)
    keep_counts(now=NOW + MINUTE)
    assert asked_of == [[ended.pk, goes_on.pk]] * 2, "it was not over when it was counted"
    asked_of.clear()
    keep_counts(now=NOW + 2 * MINUTE)
    assert asked_of == [[goes_on.pk]] * 2
    with clock.fixed(NOW + 3 * MINUTE):
        assert in_rings(asked(client, start=NOW - DAY, rows=rows)) == [3, 3]


def test_somebody_limited_is_told_of_theirs_and_not_of_what_was_counted(west: Group) -> None:
    make_devices(2, site=make_site("East", "Asia/Kolkata"))
    keep_counts(now=NOW)
    person = limit_person(make_user().pk, read_limits([], [make_site("West").pk]), actor=None, now=NOW)
    theirs = APIClient()
    theirs.force_authenticate(person)
    answer = told(theirs)
    assert [(r["key"], r["devices"]) for r in answer["rows"]] == [(LISBON, 3)]
    assert answer["counted_at"] is None
    assert KeptCounts.objects.count() == 3
