"""The calendar: windows, rings, firings and freezes in rows of zones, sites and groups, and the load they are."""

from datetime import UTC, datetime, time, timedelta
from typing import Any

import pytest
from django.db import transaction
from rest_framework.test import APIClient

from herald.agenda.keeping import keep_counts
from herald.agenda.load import Bars
from herald.agenda.models import KeptCounts
from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands import compose
from herald.commands.models import CommandTemplate, Schedule, When
from herald.commands.tallies import tally_ended
from herald.commands.turn import turn_schedules
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.groups.models import Group, GroupMembership
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.watch.stored_forecasts import store_forecasts
from herald.time import clock
from herald_core.rings.assignment import RingKind
from tests.factories import NOW, launched, make_devices, make_draft, make_site, make_static, make_user, restart, ring

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
DAY, HOUR = timedelta(days=1), timedelta(hours=1)
LISBON, KOLKATA = "Europe/Lisbon", "Asia/Kolkata"


@pytest.fixture
def two_sites() -> tuple[Group, Group]:
    """Three devices by the clock of Lisbon, two by that of Kolkata, a group of each site."""
    west = make_devices(3, site=make_site("West", LISBON))
    east = make_devices(2, site=make_site("East", KOLKATA))
    return make_static("Of the west", west), make_static("Of the east", east)


def schedule(*groups: Group, template: CommandTemplate | None = None, **fields: Any) -> Schedule:
    rule = {"rule": "FREQ=DAILY", "time_of_day": time(5, 30), "spread_minutes": 20, "when": When.REPEAT}
    draft = compose.ScheduleDraft(template=template or restart(), include=list(groups), **{**rule, **fields})
    return compose.create_schedule(draft, actor=make_user(), now=NOW)


def asked(client: APIClient, start: datetime = NOW, end: datetime = NOW + 7 * DAY, rows: str = "zone") -> Any:
    """What the calendar says; the same, whether it is counted now or was counted by the clock."""
    given = {"from": start.isoformat(), "until": end.isoformat(), "rows": rows}
    told = []
    for count in (KeptCounts.objects.all().delete, lambda: keep_counts(now=clock.now())):
        count()
        answer = client.get("/api/v1/calendar", given)
        assert answer.status_code == 200, answer.content
        told.append(sorted_rows(answer.json()))
    counted, kept = told
    assert counted.pop("counted_at") is None
    assert datetime.fromisoformat(kept.pop("counted_at")) == clock.now()
    assert kept == counted
    return kept


def sorted_rows(told: Any) -> Any:
    """An answer in which the rows of each part stand in the order of their keys."""
    if isinstance(told, dict):
        return {name: sorted_rows(value) for name, value in told.items()}
    if isinstance(told, list):
        parts = [sorted_rows(value) for value in told]
        return (
            sorted(parts, key=lambda p: p["row"])
            if parts and isinstance(parts[0], dict) and "row" in parts[0]
            else parts
        )
    return told


def by_row(rows: list[dict[str, Any]]) -> dict[str, Any]:
    return {r["row"]: r for r in rows}


def test_rows_are_zones_sites_or_the_groups_that_something_is_for(
    client: APIClient, two_sites: tuple[Group, Group]
) -> None:
    west, _ = two_sites
    assert [(r["key"], r["devices"]) for r in asked(client)["rows"]] == [(LISBON, 3), (KOLKATA, 2)]
    sites = asked(client, rows="site")["rows"]
    assert [(r["name"], r["zone"], r["devices"]) for r in sites] == [("West", LISBON, 3), ("East", KOLKATA, 2)]
    assert asked(client, rows="group")["rows"] == []
    schedule(west)
    groups = asked(client, rows="group")["rows"]
    assert [(r["name"], r["key"], r["zones"], r["devices"]) for r in groups] == [("Of the west", str(west.pk), 1, 3)]


def test_nothing_is_a_calendar_with_nothing_in_it(client: APIClient) -> None:
    found = asked(client)
    assert [found[part] for part in ("rows", "rollouts", "schedules", "freezes", "sites")] == [[], [], [], [], []]
    assert all(bar["installs"] == bar["commands"] == 0 for bar in found["load"])
    assert len(found["load"]) == 7 * 24


def test_firings_are_at_the_time_of_each_rows_own_clock(client: APIClient, two_sites: tuple[Group, Group]) -> None:
    mine = schedule(*two_sites)
    found = asked(client)["schedules"]
    assert [s["id"] for s in found] == [mine.pk]
    planned = by_row(found[0]["planned"])
    assert {row: (p["times"], p["devices"]) for row, p in planned.items()} == {LISBON: (7, 3), KOLKATA: (7, 2)}
    first = planned[LISBON]["marks"][0]
    # 23 November 02:00 UTC: half past five is still to come in Lisbon, and two hours past in Kolkata
    assert (first["at"], first["ends_at"]) == ("2026-11-23T05:30:00Z", "2026-11-23T05:50:00Z")
    assert planned[KOLKATA]["marks"][0]["at"] == "2026-11-24T00:00:00Z"
    assert found[0]["past"] == []


def test_a_named_clock_fires_for_every_row_at_once(client: APIClient, two_sites: tuple[Group, Group]) -> None:
    schedule(*two_sites, clock=KOLKATA)
    planned = by_row(asked(client)["schedules"][0]["planned"])
    assert planned[LISBON]["marks"][0]["at"] == planned[KOLKATA]["marks"][0]["at"] == "2026-11-24T00:00:00Z"


def test_what_was_left_out_of_a_schedule_is_left_out_of_the_calendar(
    client: APIClient, two_sites: tuple[Group, Group]
) -> None:
    west, _ = two_sites
    left_out = datetime(2026, 11, 24, 5, 30)  # noqa: DTZ001  a local time
    schedule(west, excluded=[f"{left_out:%Y-%m-%dT%H:%M}"])
    marks = by_row(asked(client)["schedules"][0]["planned"])[LISBON]["marks"]
    assert [m["at"][:10] for m in marks[:2]] == ["2026-11-23", "2026-11-25"]


def test_what_fires_all_day_is_said_and_not_drawn(client: APIClient, two_sites: tuple[Group, Group]) -> None:
    schedule(two_sites[0], rule="FREQ=HOURLY", spread_minutes=5, expires_after_minutes=30)
    row = by_row(asked(client)["schedules"][0]["planned"])[LISBON]
    assert (row["times"], row["devices"], row["marks"]) == (165, 3, [])  # from 05:30 on
    assert len(by_row(asked(client, end=NOW + DAY)["schedules"][0]["planned"])[LISBON]["marks"]) == 21


def test_what_fired_stands_before_now_with_how_it_went(client: APIClient, two_sites: tuple[Group, Group]) -> None:
    mine = schedule(*two_sites)
    fired = datetime(2026, 11, 23, 5, 31, tzinfo=UTC)
    turn_schedules(now=fired)
    Delivery.objects.filter(pk=Delivery.objects.earliest("id").pk).update(phase="confirmed")
    found = asked(client, start=NOW - 3 * DAY)["schedules"][0]
    # at 02:00, by which the answer is given, it has not fired: what was written later is not shown as planned and past
    assert found["past"] == []
    with clock.fixed(fired + HOUR):
        found = asked(client, start=NOW - 3 * DAY)["schedules"][0]
    past = by_row(found["past"])[LISBON]["marks"]
    assert [(m["at"], m["devices"], m["phases"].get("confirmed")) for m in past] == [("2026-11-23T05:30:00Z", 3, 1)]
    assert by_row(found["planned"])[LISBON]["marks"][0]["at"] == "2026-11-24T05:30:00Z"
    Schedule.objects.filter(pk=mine.pk).update(state="ended")
    with clock.fixed(fired + HOUR):
        found = asked(client, start=NOW - 3 * DAY)["schedules"][0]
    assert (len(found["past"]), found["planned"]) == (1, [])


@pytest.mark.parametrize("rows", ["zone", "site", "group"])
def test_what_is_kept_of_a_firing_that_is_over_is_what_counting_says(
    client: APIClient, two_sites: tuple[Group, Group], rows: str
) -> None:
    both = make_static("Of both", list(Device.objects.all()))
    schedule(*two_sites, both, rule="FREQ=DAILY;COUNT=1", time_of_day=time(12), expires_after_minutes=60)
    for fired in (datetime(2026, 11, 23, 6, 31, tzinfo=UTC), datetime(2026, 11, 23, 12, 1, tzinfo=UTC)):
        turn_schedules(now=fired)
    later = NOW + 2 * DAY
    assert tally_ended(now=later) == 0, "devices of it still wait"
    done = list(Delivery.objects.order_by("id").values_list("pk", flat=True))
    Delivery.objects.filter(pk__in=done[:2]).update(phase="confirmed")
    Delivery.objects.filter(pk__in=done[2:]).update(phase="expired", phase_since=later)

    def past() -> Any:
        with clock.fixed(later):
            return asked(client, rows=rows)["schedules"][0]["past"]

    counted = past()
    assert sum(m["devices"] for r in counted for m in r["marks"]) == (10 if rows == "group" else 5)
    assert tally_ended(now=later) == 2
    assert tally_ended(now=later) == 0
    assert past() == counted
    with transaction.atomic():  # what was is told of the groups that the devices were in then
        GroupMembership.objects.filter(device=Delivery.objects.get(pk=done[0]).device_id).delete()
        assert past() == counted
        transaction.set_rollback(True)
    # a device that was given up comes back and proves well: what is kept is not what is shown
    Delivery.objects.filter(pk=done[2]).update(phase="confirmed", late=True, phase_since=later + HOUR)
    phases = [m["phases"] for r in past() for m in r["marks"]]
    assert sum(p.get("confirmed", 0) for p in phases) == (6 if rows == "group" else 3)


def test_a_rollout_stands_with_its_hours_and_rings(client: APIClient, two_sites: tuple[Group, Group]) -> None:
    west, east = two_sites
    rollout = launched(
        make_draft(
            west,
            include=[west, east],
            window_start=time(1),
            window_end=time(5),
            rings=[ring("First", RingKind.NUMBER, number=1), ring("Rest")],
        )
    )
    tick_rollouts(now=NOW)
    found = asked(client)["rollouts"]
    assert [(r["id"], r["left"], r["forecast_at"]) for r in found] == [(rollout.pk, 5, None)]
    windows = by_row(found[0]["windows"])
    # in Lisbon it is open at two; in Kolkata half past seven, so that it opens the next night
    assert windows[LISBON]["spans"][0] == {"starts_at": "2026-11-23T01:00:00Z", "ends_at": "2026-11-23T05:00:00Z"}
    assert windows[KOLKATA]["spans"][0]["starts_at"] == "2026-11-23T19:30:00Z"
    assert [(r["name"], r["is_open"], r["through_at"]) for r in found[0]["rings"]] == [
        ("First", True, None),
        ("Rest", False, None),
    ]
    store_forecasts(now=NOW)
    told = asked(client)["rollouts"][0]
    assert told["forecast_at"] is not None
    first, rest = told["rings"]
    assert first["through_low"] <= first["through_at"] <= first["through_high"]
    assert rest["opens_at"] >= first["through_low"]
    assert sum(d["devices"] for r in told["rings"] for d in r["devices"]) == 5
    assert by_row(told["windows"])[LISBON]["spans"][-1]["starts_at"] <= rest["through_high"]
    lifecycle.pause(rollout, actor=None, now=NOW)
    held = asked(client)["rollouts"][0]
    assert held["windows"] == [], "nothing is offered while it is paused"
    assert (held["forecast_at"], held["rings"][1]["opens_at"]) == (None, None), "and nobody knows when it goes on"


def test_the_load_is_what_the_forecasts_and_the_commands_say(client: APIClient, two_sites: tuple[Group, Group]) -> None:
    west, _ = two_sites
    launched(make_draft(west, max_concurrent=1))
    tick_rollouts(now=NOW)
    store_forecasts(now=NOW)
    schedule(*two_sites)
    gentle = CommandTemplate.objects.get(key="report")
    schedule(*two_sites, template=gentle, time_of_day=time(12))
    found = asked(client, end=NOW + DAY)
    assert found["bar_hours"] == 1
    assert sum(b["installs"] for b in found["load"]) == pytest.approx(3, abs=0.5)
    # each device restarts once in a day; a report takes none out of service
    assert sum(b["commands"] for b in found["load"]) == pytest.approx(5, abs=0.01)
    assert [(s["name"], s["under_way"], s["waiting"]) for s in found["sites"]] == [("West", 1, 2)]
    assert asked(client, end=NOW + 90 * DAY)["bar_hours"] == 12


def test_freezes_stand_in_the_rows_that_they_hold(client: APIClient, two_sites: tuple[Group, Group]) -> None:
    west, east = two_sites
    for name, fields in (("Harvest", {"groups": [west]}), ("All", {"everywhere": True})):
        draft = FreezeDraft(name=name, starts_at=NOW + DAY, ends_at=NOW + 3 * DAY, **fields)  # type: ignore[arg-type]
        save_freeze(draft, actor=None, now=NOW)
    again = FreezeDraft(
        name="Yearly", starts_at=NOW - 364 * DAY, ends_at=NOW - 360 * DAY, repeats_yearly=True, groups=[east]
    )
    save_freeze(again, actor=None, now=NOW)
    found = {f["name"]: {d["row"]: d["devices"] for d in f["devices"]} for f in asked(client)["freezes"]}
    assert found == {"Harvest": {LISBON: 3}, "All": {LISBON: 3, KOLKATA: 2}, "Yearly": {KOLKATA: 2}}
    groups = {f["name"]: f["devices"] for f in asked(client, rows="group")["freezes"]}
    assert groups["Harvest"] == [{"row": str(west.pk), "devices": 3}]
    sites = {f["name"]: len(f["devices"]) for f in asked(client, rows="site")["freezes"]}
    assert sites == {"Harvest": 1, "All": 2, "Yearly": 1}


def test_what_began_before_the_first_bar_counts_from_there() -> None:
    bars = Bars(NOW, NOW + 3 * HOUR)
    half_an_hour = timedelta(minutes=30)
    spread = bars.of_spans([(NOW - HOUR, 40), (NOW + 2 * HOUR + half_an_hour, 8)], 2 * HOUR)
    assert list(spread) == [20, 0, 2], "half of the first is over, and a quarter of the last comes within the bars"
    hours = bars.of_hours([(NOW - HOUR, [5, 6, 7]), (NOW - HOUR, [0, 0, 0, 1]), (NOW + half_an_hour, [4])])
    assert list(hours) == pytest.approx([8, 9, 1])


@pytest.mark.parametrize(
    ("given", "pointer"),
    [
        ({"from": "soon"}, "/from"),
        ({"from": "2026-11-23T00:00:00Z", "until": "2026-11-23T00:00:00Z"}, "/until"),
        ({"from": "2026-11-23T00:00:00Z", "until": "2027-11-23T00:00:00Z"}, "/until"),
        ({"rows": "planets"}, "/rows"),
    ],
)
def test_what_cannot_be_asked_is_said(client: APIClient, given: dict[str, str], pointer: str) -> None:
    answer = client.get("/api/v1/calendar", given)
    assert answer.status_code == 422
    assert answer.json()["errors"][0]["pointer"] == pointer
