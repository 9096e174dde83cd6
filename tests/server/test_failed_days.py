"""On how many devices something failed, day by day."""

from datetime import date, datetime, time, timedelta
from typing import Any

import pytest

from herald.commands import retention
from herald.commands.tallies import tally_ended
from herald.commands.turn import turn_schedules
from herald.deliveries.models import Delivery
from herald.rollouts.models import Rollout
from herald.time import clock
from tests.factories import NOW, client_as, launched, make_devices, make_draft, make_image, make_static
from tests.server.test_calendar import schedule

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
DAY, HOUR = timedelta(days=1), timedelta(hours=1)
TODAY = NOW.date()


def failed(days: int = 30, now: datetime = NOW) -> Any:
    with clock.fixed(now):
        return client_as("viewer").get(f"/api/v1/fleet-over-time?days={days}").json()["failed"]


def by_day(**given: Any) -> dict[date, tuple[int, int]]:
    return {date.fromisoformat(d["day"]): (d["installs"], d["commands"]) for d in failed(**given)}


def fail(deliveries: Any, at: datetime) -> None:
    deliveries.update(phase="failed", phase_since=at)


def rollout_to(count: int, name: str = "Some", version: str = "5.2.1") -> Rollout:
    return launched(make_draft(make_static(name, make_devices(count)), make_image(version), name=f"Of {name}"))


def test_days_on_which_nothing_failed_are_left_out() -> None:
    rollout_to(2)
    assert failed() == []


def test_devices_are_counted_on_the_day_on_which_it_failed_by_utc() -> None:
    rollout = rollout_to(3)
    first, second, third = Delivery.objects.order_by("id").values_list("pk", flat=True)
    midnight = NOW.replace(hour=0, minute=0)
    fail(Delivery.objects.filter(pk=first), midnight - timedelta(seconds=1))
    fail(Delivery.objects.filter(pk__in=[second, third]), midnight)
    found = failed()
    assert by_day() == {TODAY - DAY: (1, 0), TODAY: (2, 0)}
    named = {"kind": "rollout", "id": rollout.pk, "title": "Of Some"}
    assert [d["of"] for d in found] == [[{**named, "devices": 1}], [{**named, "devices": 2}]]
    assert [d["others"] for d in found] == [0, 0]


def test_only_as_far_back_as_is_asked_for_and_the_first_day_is_whole() -> None:
    rollout_to(2)
    old, older = Delivery.objects.values_list("pk", flat=True)
    fail(Delivery.objects.filter(pk=old), (NOW - 7 * DAY).replace(hour=0, minute=1))
    fail(Delivery.objects.filter(pk=older), (NOW - 8 * DAY).replace(hour=23))
    assert by_day(days=7) == {TODAY - 7 * DAY: (1, 0)}
    assert len(by_day()) == 2


def test_what_is_tried_again_or_missed_did_not_fail() -> None:
    rollout_to(3)
    again, missed, failing = Delivery.objects.values_list("pk", flat=True)
    fail(Delivery.objects.all(), NOW)
    Delivery.objects.filter(pk=again).update(phase="waiting")
    Delivery.objects.filter(pk=missed).update(phase="expired")
    assert by_day() == {TODAY: (1, 0)}
    Delivery.objects.filter(pk=failing).update(phase="confirmed", late=True)
    assert by_day() == {}


def test_those_with_most_failures_are_named_and_the_others_counted() -> None:
    rollouts = [rollout_to(n, f"Group {n}", f"5.2.{n}") for n in range(1, 8)]
    fail(Delivery.objects.all(), NOW)
    [day] = failed()
    most = zip(rollouts[:1:-1], (7, 6, 5, 4, 3), strict=True)
    assert [(o["id"], o["devices"]) for o in day["of"]] == [(r.pk, n) for r, n in most]
    assert (day["installs"], day["others"]) == (28, 2)


def test_answers_that_were_deleted_by_age_still_count() -> None:
    group = make_static("Some", make_devices(4))
    mine = schedule(group, rule="FREQ=DAILY;COUNT=1", name="Nightly", expires_after_minutes=60)
    turn_schedules(now=NOW + 4 * HOUR)
    ids = list(Delivery.objects.order_by("id").values_list("pk", flat=True))
    fail(Delivery.objects.filter(pk__in=ids[:3]), NOW + 4 * HOUR)
    Delivery.objects.filter(pk__in=ids[3:]).update(phase="confirmed")
    later = NOW + 20 * DAY
    tally_ended(now=later)
    type(mine).objects.filter(pk=mine.pk).update(state="ended")
    before = failed(now=later)
    assert [(d["day"], d["commands"], d["of"]) for d in before] == [
        ("2026-11-23", 3, [{"kind": "schedule", "id": mine.pk, "title": "Nightly", "devices": 3}])
    ]
    told: list[int] = []
    while retention.delete_answers(later, 2, lambda _, rows: told.append(len(rows))):
        assert failed(now=later) == before, "half of them are deleted, and it says the same"
    assert Delivery.objects.count() == 0 and told
    assert failed(now=later) == before


def test_a_firing_counts_by_the_day_and_its_command_is_named_where_it_has_no_name() -> None:
    schedule(make_static("Some", make_devices(1)), time_of_day=time(5, 30))
    turn_schedules(now=NOW + 4 * HOUR)
    fail(Delivery.objects.all(), NOW + DAY)
    [day] = failed(now=NOW + 2 * DAY)
    assert (day["day"], day["installs"], day["commands"]) == ("2026-11-24", 0, 1)
    assert [o["title"] for o in day["of"]] == ["Restart"]
