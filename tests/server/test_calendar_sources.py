"""Freezes that repeat, and freezes that are read from calendars elsewhere, and written as one."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
import vobject
from django.db import IntegrityError, transaction
from rest_framework.test import APIClient

from herald.calendar import sources, tasks
from herald.calendar.models import CalendarSource, Freeze
from herald.calendar.services import FreezeDraft, freezes_between, next_time, save_freeze
from herald.http.errors import Conflict
from herald.http.outbound import Fetched, FetchError
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, make_device, make_devices, make_static

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
DAY = timedelta(days=1)
HEAD = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkfield//Estates//EN\r\n"


def calendar(*events: str) -> str:
    whole = "".join("BEGIN:VEVENT\r\n" + "\r\n".join(e.strip().split("\n")) + "\r\nEND:VEVENT\r\n" for e in events)
    return f"{HEAD}{whole}END:VCALENDAR\r\n"


def on(day: datetime) -> str:
    return f"{day:%Y%m%d}"


FAIR = "\n".join(
    (
        "UID:fair@larkfield",
        "SUMMARY:Spring fair",
        f"DTSTART;VALUE=DATE:{on(NOW + 10 * DAY)}",
        f"DTEND;VALUE=DATE:{on(NOW + 12 * DAY)}",
    )
)
AUDIT = f"UID:audit@larkfield\nSUMMARY:Audit\nDTSTART:{NOW + 20 * DAY:%Y%m%dT%H%M%SZ}\nDURATION:PT6H"


@pytest.fixture
def elsewhere(monkeypatch: pytest.MonkeyPatch) -> dict[str, Any]:
    """What stands at addresses: a text, or an error."""
    there: dict[str, Any] = {}

    def fetch(url: str, **_: object) -> Fetched:
        found = there.get(url, FetchError("There is no host named nowhere."))
        if isinstance(found, Exception):
            raise found
        return Fetched(found.encode(), url)

    monkeypatch.setattr(sources, "fetch", fetch)
    return there


def body(**fields: Any) -> dict[str, Any]:
    return {"name": "Larkfield estates", "time_zone": "Australia/Adelaide", "everywhere": True, **fields}


def added(client: APIClient, **fields: Any) -> CalendarSource:
    answer = client.post("/api/v1/calendar-sources", body(**fields), format="json")
    assert answer.status_code == 201, answer.json()
    return CalendarSource.objects.get(pk=answer.json()["id"])


# -- freezes that repeat ---------------------------------------------------------------------------


def test_a_freeze_that_repeats_holds_each_year_by_its_clock() -> None:
    draft = FreezeDraft(
        name="Harvest",
        starts_at=datetime(2026, 12, 20, 2, tzinfo=UTC),
        ends_at=datetime(2027, 1, 10, 2, tzinfo=UTC),
        repeats_yearly=True,
        time_zone="Europe/Lisbon",
        everywhere=True,
    )
    freeze = save_freeze(draft, actor=None, now=NOW)
    found = freezes_between(datetime(2028, 1, 1, tzinfo=UTC), datetime(2029, 1, 1, tzinfo=UTC))
    assert [(f.starts_at, f.ends_at) for f in found] == [
        (datetime(2027, 12, 20, 2, tzinfo=UTC), datetime(2028, 1, 10, 2, tzinfo=UTC)),
        (datetime(2028, 12, 20, 2, tzinfo=UTC), datetime(2029, 1, 10, 2, tzinfo=UTC)),
    ]
    assert not freezes_between(datetime(2027, 1, 10, 2, tzinfo=UTC), datetime(2027, 12, 20, 2, tzinfo=UTC))
    later = next_time(freeze, datetime(2031, 6, 1, tzinfo=UTC))
    assert later is not None
    assert later.starts_at.year == 2031


def test_a_freeze_that_repeats_is_shorter_than_half_a_year(client: APIClient) -> None:
    sent = {"name": "Long", "starts_at": NOW, "ends_at": NOW + 181 * DAY, "everywhere": True, "repeats_yearly": True}
    answer = client.post("/api/v1/freezes", sent, format="json")
    assert answer.status_code == 422
    assert answer.json()["errors"][0]["pointer"] == "/ends_at"
    assert client.post("/api/v1/freezes", {**sent, "repeats_yearly": False}, format="json").status_code == 201
    with pytest.raises(IntegrityError), transaction.atomic():
        Freeze.objects.update(repeats_yearly=True)


def test_a_freeze_far_ahead_is_to_come_and_one_that_is_over_has_no_next_time(client: APIClient) -> None:
    for name, start in (("Far", NOW.replace(year=2061)), ("Over", NOW - 9 * DAY)):
        draft = FreezeDraft(name=name, starts_at=start, ends_at=start + DAY, everywhere=True)
        save_freeze(draft, actor=None, now=NOW)
    rows = {r["name"]: r["next"] for r in client.get("/api/v1/freezes").json()}
    assert rows["Far"]["starts_at"][:4] == "2061"
    assert rows["Over"] is None


def test_a_zone_that_is_none_is_refused(client: APIClient) -> None:
    sent = {"name": "F", "starts_at": NOW, "ends_at": NOW + DAY, "everywhere": True, "time_zone": "Mars/Base"}
    answer = client.post("/api/v1/freezes", sent, format="json")
    assert answer.json()["errors"][0]["pointer"] == "/time_zone"


# -- reading calendars -----------------------------------------------------------------------------


def test_a_file_is_shown_before_it_is_kept_and_then_holds(client: APIClient) -> None:
    group = make_static("Amber Fold", make_devices(3))
    make_device()
    sent = body(text=calendar(AUDIT, FAIR), everywhere=False, groups=[group.pk])
    seen = client.post("/api/v1/calendar-sources/preview", sent, format="json").json()
    assert [(e["name"], e["change"]) for e in seen["events"]] == [("Spring fair", "new"), ("Audit", "new")]
    assert (seen["devices"], seen["left_out"]) == (3, [])
    assert not Freeze.objects.exists()

    added(client, text=calendar(AUDIT, FAIR), everywhere=False, groups=[group.pk])
    fair = Freeze.objects.get(name="Spring fair")
    # whole days are by the clock that was named: midnight in Adelaide
    assert fair.starts_at.utcoffset() == timedelta(0)
    assert (fair.starts_at.hour, fair.starts_at.minute) in {(13, 30), (14, 30)}
    assert fair.ends_at - fair.starts_at == 2 * DAY
    rows = {r["name"]: r for r in client.get("/api/v1/freezes").json()}
    assert (rows["Audit"]["devices"], rows["Audit"]["source"]["name"]) == (3, "Larkfield estates")
    assert "Added the calendar Larkfield estates: freezes 2 new" in RecordEntry.objects.latest("id").sentence


def test_freezes_of_a_calendar_are_changed_there_and_not_by_hand(client: APIClient) -> None:
    source = added(client, text=calendar(FAIR))
    freeze = Freeze.objects.get()
    sent = {"name": "Mine", "starts_at": NOW, "ends_at": NOW + DAY, "everywhere": True}
    assert client.put(f"/api/v1/freezes/{freeze.pk}", sent, format="json").status_code == 409
    assert client.delete(f"/api/v1/freezes/{freeze.pk}").status_code == 409
    assert client.delete(f"/api/v1/calendar-sources/{source.pk}").status_code == 204
    assert not Freeze.objects.exists()


def test_an_address_that_is_read_again_changes_only_what_changed(client: APIClient, elsewhere: dict[str, Any]) -> None:
    url = "https://calendars.example/estates.ics"
    past = (
        f"UID:past@larkfield\nSUMMARY:Begun\nDTSTART:{NOW - DAY:%Y%m%dT%H%M%SZ}\nDTEND:{NOW + DAY / 2:%Y%m%dT%H%M%SZ}"
    )
    elsewhere[url] = calendar(FAIR, AUDIT, past)
    source = added(client, url=url)
    kept = dict(Freeze.objects.values_list("name", "pk"))
    assert kept.keys() == {"Spring fair", "Audit", "Begun"}

    elsewhere[url] = calendar(FAIR.replace("Spring fair", "Autumn fair"))
    later = NOW + DAY
    assert sources.read_due(now=NOW + timedelta(minutes=59)) == 0
    assert sources.read_due(now=later) == 1
    # the audit is called off; what was over by then stays, for it was held
    assert dict(Freeze.objects.values_list("name", "pk")) == {
        "Autumn fair": kept["Spring fair"],
        "Begun": kept["Begun"],
    }
    assert Freeze.objects.get(name="Autumn fair").revision == 2
    source.refresh_from_db()
    assert (source.tried_at, source.read_at, source.last_error) == (later, later, "")
    entries = RecordEntry.objects.count()
    sources.read_again(source, actor=None, now=later)
    assert RecordEntry.objects.count() == entries  # nothing changed, and nothing is noted


@pytest.mark.parametrize("wrong", [FetchError("calendars.example answered 500."), "not a calendar", "BEGIN:VCALENDAR"])
def test_an_address_that_fails_changes_no_freeze_and_says_why(
    client: APIClient, elsewhere: dict[str, Any], wrong: Any
) -> None:
    url = "https://calendars.example/estates.ics"
    elsewhere[url] = calendar(FAIR)
    source = added(client, url=url)
    elsewhere[url] = wrong
    with clock.fixed(NOW + DAY):
        tasks.read_calendars(timestamp=0)
    row = client.get("/api/v1/calendar-sources").json()[0]
    assert row["last_error"]
    assert row["tried_at"] != row["read_at"]
    assert row["freezes"] == 1
    assert Freeze.objects.filter(source=source).count() == 1


def test_one_calendar_that_breaks_keeps_no_other_from_being_read(client: APIClient, elsewhere: dict[str, Any]) -> None:
    elsewhere["https://a.example/"] = elsewhere["https://b.example/"] = calendar(FAIR)
    first = added(client, name="First", url="https://a.example/")
    second = added(client, name="Second", url="https://b.example/")
    elsewhere["https://a.example/"] = RuntimeError("a fault of ours")
    assert sources.read_due(now=NOW + DAY) == 2
    first.refresh_from_db()
    second.refresh_from_db()
    assert "its log says how" in first.last_error
    assert second.read_at == NOW + DAY


def test_an_address_that_was_changed_while_it_was_read_is_left_alone(
    client: APIClient, elsewhere: dict[str, Any]
) -> None:
    elsewhere["https://a.example/"] = calendar(FAIR)
    source = added(client, url="https://a.example/")
    CalendarSource.objects.update(url="https://other.example/")
    sources.read_again(source, actor=None, now=NOW + DAY)
    assert CalendarSource.objects.get().tried_at == NOW


def test_a_file_cannot_be_read_again(client: APIClient) -> None:
    source = added(client, text=calendar(FAIR))
    answer = client.post(f"/api/v1/calendar-sources/{source.pk}/read")
    assert answer.status_code == 409
    with pytest.raises(Conflict):
        sources.read_again(source, actor=None, now=NOW)


def test_another_file_in_its_place_says_first_what_changes(client: APIClient) -> None:
    group = make_static("Oxbow Flats", make_devices(2))
    source = added(client, text=calendar(FAIR, AUDIT))
    sent = body(text=calendar(AUDIT.replace("PT6H", "PT7H")), everywhere=False, groups=[group.pk])
    seen = client.post(f"/api/v1/calendar-sources/{source.pk}/preview", sent, format="json").json()
    assert {(e["name"], e["change"]) for e in seen["events"]} == {("Spring fair", "gone"), ("Audit", "changed")}
    assert client.put(f"/api/v1/calendar-sources/{source.pk}", sent, format="json").status_code == 200
    freeze = Freeze.objects.get()
    assert (freeze.ends_at - freeze.starts_at, freeze.everywhere) == (timedelta(hours=7), False)
    assert list(freeze.groups.all()) == [group]


def test_events_that_repeat_are_read_time_by_time(client: APIClient) -> None:
    at = "DTSTART;TZID=Europe/Lisbon"
    weekly = f"UID:m@x\nSUMMARY:Market\n{at}:{on(NOW + DAY)}T080000\nDURATION:PT4H\nRRULE:FREQ=WEEKLY;COUNT=3"
    second = f"RECURRENCE-ID;TZID=Europe/Lisbon:{on(NOW + 8 * DAY)}T080000"
    moved = f"UID:m@x\n{second}\nSUMMARY:Late market\n{at}:{on(NOW + 8 * DAY)}T120000\nDURATION:PT4H"
    off = f"UID:off@x\nSUMMARY:Off\nSTATUS:CANCELLED\nDTSTART:{NOW + DAY:%Y%m%dT%H%M%SZ}\nDURATION:PT4H"
    yearly = "UID:y@x\nSUMMARY:Old custom\nDTSTART;VALUE=DATE:19650301\nDTEND;VALUE=DATE:19650302\nRRULE:FREQ=YEARLY"
    added(client, text=calendar(weekly, moved, off, yearly))
    assert sorted(Freeze.objects.values_list("name", flat=True)) == ["Late market", "Market", "Market", "Old custom"]


@pytest.mark.parametrize(
    ("event", "words"),
    [
        ("UID:a@x\nSUMMARY:Hourly\nDTSTART:20270101T000000Z\nDURATION:PT5M\nRRULE:FREQ=HOURLY", "repeats by the hour"),
        (
            "UID:a@x\nSUMMARY:Each second\nDTSTART:20270101T000000Z\nDURATION:PT5M\nRRULE:FREQ=SECONDLY",
            "FREQ is one of",
        ),
        (
            "UID:a@x\nSUMMARY:Never\nDTSTART:20270101T000000Z\nDURATION:PT5M\nRRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30",
            "no firing at all",
        ),
        ("SUMMARY:Nameless\nDTSTART:20270101T000000Z\nDURATION:PT5M", "no UID"),
        ("UID:a@x\nSUMMARY:When", "no start"),
        ("UID:a@x\nSUMMARY:Short\nDTSTART:20261210T000000Z\nDTEND:20261210T000000Z", "no length"),
    ],
)
def test_events_that_cannot_be_taken_are_left_out_in_words(client: APIClient, event: str, words: str) -> None:
    sent = body(text=calendar(FAIR, event))
    seen = client.post("/api/v1/calendar-sources/preview", sent, format="json").json()
    assert [e["name"] for e in seen["events"]] == ["Spring fair"]
    assert len(seen["left_out"]) == 1
    assert words in seen["left_out"][0]


@pytest.mark.parametrize(
    ("fields", "pointer"),
    [
        ({"text": "hello"}, "/text"),
        ({"text": ""}, "/url"),
        ({"text": "x", "url": "https://a.example/"}, "/url"),
        ({"url": "http://127.0.0.1/a.ics"}, "/url"),
        ({"url": "ftp://a.example/a.ics"}, "/url"),
        ({"text": HEAD, "time_zone": "Nowhere"}, "/time_zone"),
        ({"text": calendar(FAIR), "everywhere": False}, "/groups"),
        ({"text": "BEGIN:VCALENDAR\x00"}, "/text"),
    ],
)
def test_what_does_not_fit_is_said_beside_its_field(client: APIClient, fields: dict[str, Any], pointer: str) -> None:
    answer = client.post("/api/v1/calendar-sources", body(**fields), format="json")
    assert answer.status_code in (400, 422), answer.json()
    assert answer.json()["errors"][0]["pointer"] == pointer
    assert not CalendarSource.objects.exists()


def test_a_name_is_there_once_and_a_calendar_has_an_end(client: APIClient) -> None:
    added(client, text=calendar(FAIR))
    again = client.post("/api/v1/calendar-sources", body(text=calendar(FAIR)), format="json").json()
    assert again["errors"][0]["pointer"] == "/name"
    daily = f"UID:d%d@x\nSUMMARY:D\nDTSTART:{NOW:%Y%m%dT%H%M%SZ}\nDURATION:PT1H\nRRULE:FREQ=DAILY"
    sent = body(name="Many", text=calendar(daily % 1, daily % 2))
    assert "more than 500" in client.post("/api/v1/calendar-sources", sent, format="json").json()["detail"]


# -- writing calendars -----------------------------------------------------------------------------


def test_freezes_as_a_calendar_are_read_by_another_library(client: APIClient) -> None:
    draft = FreezeDraft(
        name="Harvest, all; hands",
        why="Pumps run\nday and night",
        starts_at=datetime(2027, 6, 1, 3, tzinfo=UTC),
        ends_at=datetime(2027, 6, 20, 3, tzinfo=UTC),
        repeats_yearly=True,
        time_zone="Australia/Adelaide",
        everywhere=True,
    )
    freeze = save_freeze(draft, actor=None, now=NOW)
    save_freeze(draft, actor=None, now=NOW, freeze=freeze)
    answer = client.get("/api/v1/freezes/export")
    assert answer["Content-Type"].startswith("text/calendar")
    read = vobject.readOne(answer.content.decode())
    assert [z.tzid.value for z in read.vtimezone_list] == ["Australia/Adelaide"]
    event = read.vevent
    assert (event.summary.value, event.description.value) == ("Freeze: Harvest, all; hands", "Pumps run\nday and night")
    assert event.dtstart.value.astimezone(UTC) == draft.starts_at
    assert event.dtend.value.astimezone(UTC) == draft.ends_at
    assert (event.rrule.value, event.sequence.value) == ("FREQ=YEARLY", "1")
    assert event.uid.value == f"freeze-{freeze.pk}@brisk-herald"
