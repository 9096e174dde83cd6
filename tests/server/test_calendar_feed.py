"""The calendar as other programs read it, read back by libraries that did not write it."""

from datetime import UTC, datetime, time, timedelta
from typing import Any

import pytest
import vobject
from rest_framework.test import APIClient

from herald.agenda import feed as feeds
from herald.agenda.models import Feed, FeedEvent
from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands import compose, services
from herald.commands.models import Schedule, ScheduleState, When
from herald.groups.models import Group
from herald.http.errors import NotFound
from herald.people.models import User
from herald.record.models import RecordEntry
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.watch.stored_forecasts import store_forecasts
from herald.time import clock
from herald_core.rings.assignment import RingKind
from herald_core.timing.firings import firings_within
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
    ring,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
DAY = timedelta(days=1)
LISBON, KOLKATA, SANTIAGO = "Europe/Lisbon", "Asia/Kolkata", "America/Santiago"
ALL = ["windows", "gates", "firings", "freezes"]


@pytest.fixture
def group() -> Group:
    west = make_devices(3, site=make_site("West", LISBON))
    east = make_devices(2, site=make_site("East", KOLKATA))
    return make_static("All of them", west + east)


def subscribed(client: APIClient, **fields: Any) -> str:
    """The secret address of a new feed."""
    answer = client.post("/api/v1/calendar-feeds", {"name": "Phone", "parts": ALL, **fields}, format="json")
    assert answer.status_code == 201, answer.json()
    path: str = answer.json()["path"]
    return path


def read(path: str) -> dict[str, Any]:
    """The events at an address, by uid, as another library reads them; whoever asks is not signed in."""
    answer = APIClient().get(path)
    assert answer.status_code == 200
    calendar = vobject.readOne(answer.content.decode())
    return {e.uid.value.removesuffix("@brisk-herald"): e for e in calendar.contents.get("vevent", [])}


def times(event: Any, most: int = 60) -> list[datetime]:
    """When an event is, by universal time, as its rule is expanded elsewhere."""
    found = event.getrruleset(addRDate=True)
    return [t.astimezone(UTC) for t, _ in zip(found, range(most), strict=False)]


def schedule(group: Group, **fields: Any) -> Schedule:
    given = {"rule": "FREQ=DAILY", "time_of_day": time(5, 30), "when": When.REPEAT, **fields}
    return compose.create_schedule(
        compose.ScheduleDraft(template=restart(), include=[group], **given), actor=make_user(), now=NOW
    )


@pytest.mark.parametrize(
    "rule",
    [
        "FREQ=DAILY",
        "FREQ=DAILY;COUNT=9",
        "FREQ=WEEKLY;BYDAY=MO,TH",
        "FREQ=WEEKLY;INTERVAL=2;BYDAY=TU",
        "FREQ=MONTHLY;BYDAY=1MO",
        "FREQ=MONTHLY;BYMONTHDAY=-1",
        "FREQ=DAILY;UNTIL=20261204T053000",
        "FREQ=HOURLY;INTERVAL=6",
    ],
)
def test_firings_are_where_the_program_fires_them(client: APIClient, group: Group, rule: str) -> None:
    mine = schedule(group, rule=rule, excluded=["2026-11-25T05:30"] if rule == "FREQ=DAILY" else [])
    events = read(subscribed(client))
    assert events.keys() == {f"firing-{mine.pk}-Europe-Lisbon", f"firing-{mine.pk}-Asia-Kolkata"}
    recurrence = mine.recurrence
    assert recurrence is not None
    end = NOW + 40 * DAY
    ours = firings_within(recurrence, [LISBON, KOLKATA], start=NOW - 2 * DAY, end=end)
    for zone in (LISBON, KOLKATA):
        event = events[f"firing-{mine.pk}-{zone.replace('/', '-')}"]
        theirs = [t for t in times(event, 200) if NOW - 2 * DAY <= t < end]
        assert theirs == [f.at for f in ours[zone]]
        assert event.duration.value == timedelta(minutes=20)
    assert events[f"firing-{mine.pk}-Europe-Lisbon"].summary.value == "Restart, Lisbon: 3 devices"


def test_a_named_clock_is_one_event_and_a_skipped_hour_is_there_too(client: APIClient, group: Group) -> None:
    mine = schedule(group, clock=SANTIAGO, time_of_day=time(0, 30))
    september = datetime(2027, 8, 30, tzinfo=UTC)
    path = subscribed(client)
    with clock.fixed(september):
        [event] = read(path).values()
    assert event.uid.value.startswith(f"firing-{mine.pk}-America-Santiago")
    # the hour that the clock skips, at the moment at which the program fires
    assert [v.astimezone(UTC) for v in event.rdate.value] == [datetime(2027, 9, 5, 4, tzinfo=UTC)]
    assert event.summary.value == "Restart, Santiago: 5 devices"


def test_hours_gates_and_freezes(client: APIClient, group: Group) -> None:
    rollout = launched(
        make_draft(
            group,
            window_start=time(1),
            window_end=time(5),
            rings=[ring("First", RingKind.NUMBER, number=1, needs_approval=True), ring("Rest")],
        )
    )
    tick_rollouts(now=NOW)
    store_forecasts(now=NOW)
    draft = FreezeDraft(name="Harvest", starts_at=NOW + 20 * DAY, ends_at=NOW + 22 * DAY, groups=[group])
    freeze = save_freeze(draft, actor=None, now=NOW)
    events = read(subscribed(client))
    window = events[f"window-{rollout.pk}-Europe-Lisbon"]
    assert window.dtstart.value.tzinfo is not None
    assert (window.dtstart.value.hour, window.dtend.value.hour) == (1, 5)
    assert times(window)[0] == datetime(2026, 11, 23, 1, tzinfo=UTC)
    first = rollout.rings.all()[0]
    assert events[f"gate-{first.pk}"].summary.value == ("Gate after ring 1, First: Sill 5.2.1, needs an approval")
    assert events[f"freeze-{freeze.pk}"].dtstart.value == NOW + 20 * DAY
    assert not any(e.status.value == "CANCELLED" for e in events.values() if "status" in e.contents)


def test_a_feed_holds_what_was_chosen(client: APIClient, group: Group) -> None:
    mine = schedule(group)
    launched(make_draft(group))
    sites = {r["name"]: r["key"] for r in client.get("/api/v1/calendar", {"rows": "site"}).json()["rows"]}
    events = read(subscribed(client, parts=["firings"], rows="site", keys=[sites["East"]]))
    assert list(events) == [f"firing-{mine.pk}-Asia-Kolkata"]


def test_events_are_numbered_as_they_change_and_called_off_when_they_go(client: APIClient, group: Group) -> None:
    mine = schedule(group)
    path = subscribed(client)
    uid = f"firing-{mine.pk}-Europe-Lisbon"
    assert read(path)[uid].sequence.value == "0"
    assert read(path)[uid].sequence.value == "0"
    draft = compose.draft_of(mine)
    changed = compose.ScheduleDraft(**{**draft.__dict__, "time_of_day": time(6)})
    compose.change_schedule(mine, changed, revision=mine.revision, actor=make_user(), now=NOW)
    assert read(path)[uid].sequence.value == "1"

    mine.refresh_from_db()
    services.set_state(mine, ScheduleState.PAUSED, actor=make_user(), now=NOW)
    gone = read(path)[uid]
    assert (gone.sequence.value, gone.status.value) == ("2", "CANCELLED")
    assert gone.dtstart.value.hour == 6
    assert read(path)[uid].sequence.value == "2"

    services.set_state(mine, ScheduleState.ACTIVE, actor=make_user(), now=NOW)
    again = read(path)[uid]
    assert (again.sequence.value, "status" in again.contents) == ("3", False)

    services.set_state(mine, ScheduleState.ENDED, actor=make_user(), now=NOW)
    read(path)
    with clock.fixed(NOW + 61 * DAY):
        assert uid not in read(path)
    assert not FeedEvent.objects.filter(uid__startswith=uid).exists()


def test_what_is_over_is_not_called_off(client: APIClient, group: Group) -> None:
    rollout = launched(make_draft(group))
    path = subscribed(client, parts=["windows"])
    [uid] = {u for u in read(path) if "Lisbon" in u}
    ends = FeedEvent.objects.get(uid__startswith=uid).ends_at
    assert ends is not None
    lifecycle.stop(rollout, actor=make_user(), now=NOW)
    assert read(path)[uid].status.value == "CANCELLED"
    FeedEvent.objects.update(cancelled_at=None)
    with clock.fixed(ends + DAY):
        assert read(path) == {}


# -- whose they are --------------------------------------------------------------------------------


def test_the_secret_is_told_once_and_kept_by_its_digest_only(client: APIClient) -> None:
    path = subscribed(client)
    secret = path.rsplit("/", 1)[1].removesuffix(".ics")
    [row] = client.get("/api/v1/calendar-feeds").json()
    assert "path" not in row
    assert secret not in str(Feed.objects.values().get())
    assert secret not in RecordEntry.objects.latest("id").sentence
    assert row["last_read_at"] is None
    read(path)
    assert client.get("/api/v1/calendar-feeds").json()[0]["last_read_at"] is not None


def test_a_feed_ends_with_its_revocation_and_with_the_account(client: APIClient) -> None:
    path = subscribed(client)
    User.objects.update(is_active=False)
    assert APIClient().get(path).status_code == 404
    User.objects.update(is_active=True)
    read(path)
    assert client.delete(f"/api/v1/calendar-feeds/{Feed.objects.get().pk}").status_code == 204
    assert APIClient().get(path).status_code == 404
    with pytest.raises(NotFound):
        feeds.read_feed("guess", now=NOW)


def test_feeds_are_ones_own_also_a_viewers(client: APIClient) -> None:
    subscribed(client)
    viewer = client_as("viewer")
    assert viewer.get("/api/v1/calendar-feeds").json() == []
    assert viewer.delete(f"/api/v1/calendar-feeds/{Feed.objects.get().pk}").status_code == 404
    subscribed(viewer)
    assert Feed.objects.count() == 2


@pytest.mark.parametrize(
    ("fields", "pointer"),
    [
        ({"parts": []}, "/parts"),
        ({"parts": ["secrets"]}, "/parts/0"),
        ({"name": ""}, "/name"),
        ({"keys": ["Mars/Base"]}, "/keys"),
        ({"rows": "planet"}, "/rows"),
    ],
)
def test_what_does_not_fit_is_said(client: APIClient, fields: dict[str, Any], pointer: str) -> None:
    answer = client.post("/api/v1/calendar-feeds", {"name": "Phone", "parts": ALL, **fields}, format="json")
    assert answer.status_code in (400, 422)
    assert answer.json()["errors"][0]["pointer"] == pointer


def test_names_are_there_once_and_feeds_have_an_end(client: APIClient, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(feeds, "MOST_FEEDS", 1)
    subscribed(client)
    for name in ("Phone", "Other"):
        answer = client.post("/api/v1/calendar-feeds", {"name": name, "parts": ALL}, format="json")
        assert answer.json()["errors"][0]["pointer"] == "/name"
