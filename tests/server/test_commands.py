"""Scheduled commands: firings per zone, spread, giving up."""

from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.commands.compose import ScheduleDraft, change_schedule, create_schedule, draft_of, preview_firings
from herald.commands.models import (
    CommandTemplate,
    LateChoice,
    Occurrence,
    OverlapChoice,
    Schedule,
    ScheduleState,
    When,
)
from herald.commands.querysets import ScheduleQuerySet
from herald.commands.sentence import schedule_sentence
from herald.commands.services import approve, next_firing, run_once, set_state, skip_next
from herald.commands.turn import turn_schedules
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.groups.models import Group
from herald.http.errors import Conflict, CountMismatch, Invalid, NobodyThere
from herald_core.deliveries import Event
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_site,
    make_static,
    make_user,
    restart,
)

pytestmark = pytest.mark.django_db
FIVE_THIRTY = datetime(2026, 11, 23, 5, 30, tzinfo=UTC)
DAY, HOUR, MINUTE = timedelta(days=1), timedelta(hours=1), timedelta(minutes=1)
NOW_ONCE: dict[str, Any] = {"when": When.NOW, "time_of_day": None, "rule": "", "spread_minutes": 0}


def draft(group: Group, **fields: Any) -> ScheduleDraft:
    defaults = {
        "template": restart(),
        "include": [group],
        "when": When.REPEAT,
        "rule": "FREQ=DAILY",
        "time_of_day": time(5, 30),
    }
    return ScheduleDraft(**{**defaults, **fields})


def template(key: str) -> CommandTemplate:
    return CommandTemplate.objects.get(key=key)


def everywhere() -> Group:
    devices = [*make_devices(2), make_device(site=make_site("There", "Asia/Kolkata"))]
    return make_static("G", devices)


def test_preview_lists_firings_per_zone_by_device_clocks() -> None:
    zones = preview_firings(draft(everywhere()), now=NOW, count=2)
    assert [(z.zone, z.devices) for z in zones] == [("UTC", 2), ("Asia/Kolkata", 1)]
    assert zones[0].firings[0].at == datetime(2026, 11, 23, 5, 30, tzinfo=UTC)
    assert zones[1].firings[0].at == datetime(2026, 11, 24, 0, 0, tzinfo=UTC)  # 05:30 in Kolkata


def test_preview_says_what_a_clock_change_does() -> None:
    group = make_static("G", [make_device(site=make_site("L", "Europe/Lisbon"))])
    now = datetime(2026, 3, 28, 12, tzinfo=UTC)
    zone = preview_firings(draft(group, time_of_day=time(1, 30)), now=now, count=2)[0]
    assert (zone.firings[0].at, zone.firings[0].shift) == (datetime(2026, 3, 29, 1, 0, tzinfo=UTC), "skipped")
    assert zone.firings[1].shift == ""
    before = preview_firings(draft(group, time_of_day=time(1, 30)), now=now - timedelta(days=100), count=2)[0]
    assert before.shifted is not None and before.shifted.at == zone.firings[0].at
    assert preview_firings(draft(group), now=now, count=2)[0].shifted is None


def test_a_first_and_a_last_day_bound_the_firings() -> None:
    days = {"starts_on": date(2026, 12, 1), "rule": "FREQ=DAILY;UNTIL=20261202"}
    zones = preview_firings(draft(make_static("G", [make_device()]), **days), now=NOW)
    assert [f.at.day for f in zones[0].firings] == [1, 2]


def test_it_fires_in_each_zone_once_and_spreads() -> None:
    schedule = create_schedule(draft(everywhere()), actor=None, now=NOW)
    turn_schedules(now=datetime(2026, 11, 23, 5, 29, tzinfo=UTC))
    assert Occurrence.objects.count() == 0
    at = datetime(2026, 11, 23, 5, 30, tzinfo=UTC)
    for _ in range(3):
        turn_schedules(now=at)
    assert list(Occurrence.objects.values_list("zone", "audience")) == [("UTC", 2)]
    mine = Delivery.objects.of_schedule(schedule.pk)
    assert all(at <= d.not_before < at + timedelta(minutes=20) for d in mine)
    turn_schedules(now=at + timedelta(minutes=20))
    assert mine.filter(phase="offered").count() == 2


def test_what_is_not_begun_in_time_is_missed() -> None:
    schedule = create_schedule(draft(everywhere()), actor=None, now=NOW)
    turn_schedules(now=datetime(2026, 11, 23, 6, 0, tzinfo=UTC))
    deliveries.expire(now=datetime(2026, 11, 23, 7, 30, tzinfo=UTC))
    assert set(Delivery.objects.of_schedule(schedule.pk).values_list("phase", flat=True)) == {"expired"}


def test_a_clock_that_was_down_does_not_fire_late() -> None:
    create_schedule(draft(everywhere()), actor=None, now=NOW)
    turn_schedules(now=datetime(2026, 11, 23, 20, 0, tzinfo=UTC))
    assert set(Delivery.objects.values_list("phase", flat=True)) == {"expired"}


def test_now_fires_at_once_and_ends_by_itself() -> None:
    group = everywhere()
    schedule = create_schedule(draft(group, **NOW_ONCE), actor=None, now=NOW)
    turn_schedules(now=NOW)
    assert Delivery.objects.filter(phase="offered").count() == 3
    Delivery.objects.update(phase="confirmed")
    turn_schedules(now=NOW + timedelta(minutes=1))
    schedule.refresh_from_db()
    assert schedule.state == "ended"


def test_a_command_waits_for_an_install_in_hand() -> None:
    devices = make_devices(1)
    group = make_static("G", devices)
    rollout = launched(make_draft(group))
    deliveries.offer(
        Delivery.objects.of_rollout(rollout.pk).values_list("id", flat=True), until=NOW + timedelta(days=1), now=NOW
    )
    create_schedule(draft(group, **NOW_ONCE), actor=None, now=NOW)
    turn_schedules(now=NOW)
    assert Delivery.objects.get(kind="command").phase == "waiting"


def test_pausing_ending_and_running_once() -> None:
    schedule = create_schedule(draft(everywhere()), actor=None, now=NOW)
    set_state(schedule, ScheduleState.PAUSED, actor=None, now=NOW)
    turn_schedules(now=datetime(2026, 11, 23, 6, 0, tzinfo=UTC))
    assert Occurrence.objects.count() == 0
    later = datetime(2026, 11, 23, 8, 0, tzinfo=UTC)
    set_state(schedule, ScheduleState.ACTIVE, actor=None, now=later)
    turn_schedules(now=later)
    assert Occurrence.objects.count() == 0  # what was missed is not caught up
    assert run_once(schedule, actor=None, now=later) == 3
    set_state(schedule, ScheduleState.ENDED, actor=None, now=later)
    assert set(Delivery.objects.values_list("phase", flat=True)) == {"withdrawn"}
    with pytest.raises(Conflict):
        run_once(schedule, actor=None, now=later)


def test_nobody_is_refused() -> None:
    empty = make_static("Empty", [])
    with pytest.raises(NobodyThere):
        create_schedule(draft(empty, **NOW_ONCE), actor=None, now=NOW)
    with pytest.raises(NobodyThere):
        create_schedule(draft(empty, include=[]), actor=None, now=NOW)
    assert Schedule.objects.count() == 0


@pytest.mark.parametrize(
    ("change", "pointer"),
    [
        ({"time_of_day": None}, "/time_of_day"),
        ({"rule": ""}, "/rule"),
        ({"rule": "FREQ=SOMETIMES"}, "/rule"),
        ({"rule": "FREQ=DAILY;UNTIL=20261101"}, "/rule"),
        ({"rule": "FREQ=HOURLY"}, "/expires_after_minutes"),
        ({"clock": "Nowhere/Land"}, "/clock"),
        ({"excluded": ["yesterday"]}, "/excluded/0"),
        ({"when": When.NOW}, "/when"),
        ({"when": When.ONCE, "rule": ""}, "/starts_on"),
        ({"when": When.ONCE, "rule": "", "starts_on": date(2026, 11, 1)}, "/starts_on"),
        ({"expires_after_minutes": 20}, "/expires_after_minutes"),
        ({"expires_after_minutes": 1441}, "/expires_after_minutes"),
        ({"parameters": {"how": "hard"}}, "/parameters/how"),
    ],
)
def test_drafts_that_do_not_fit_are_refused(change: dict[str, Any], pointer: str) -> None:
    with pytest.raises(Invalid) as caught:
        create_schedule(draft(make_static("G", []), **change), actor=None, now=NOW)
    assert caught.value.extra["errors"][0]["pointer"] == pointer


def test_once_fires_once_and_ends() -> None:
    group = everywhere()
    once = draft(group, when=When.ONCE, rule="", starts_on=date(2026, 11, 24), spread_minutes=0, clock="Asia/Kolkata")
    schedule = create_schedule(once, actor=None, now=NOW)
    assert "on 24 Nov 2026 at 05:30 Kolkata time" in schedule_sentence(schedule)
    at = datetime(2026, 11, 24, tzinfo=UTC)
    turn_schedules(now=at - MINUTE)
    assert not Delivery.objects.exists()
    turn_schedules(now=at)
    assert list(Occurrence.objects.values_list("zone", "fires_at", "audience")) == [("*", at, 3)]
    Delivery.objects.update(phase="confirmed")
    turn_schedules(now=at + 2 * MINUTE)
    schedule.refresh_from_db()
    assert schedule.state == "ended" and Occurrence.objects.count() == 1


def test_a_device_that_changes_its_zone_is_not_fired_at_twice_for_the_same_time() -> None:
    east = make_device(site=make_site("East", "Asia/Kolkata"))
    create_schedule(draft(make_static("G", [east])), actor=None, now=NOW - DAY)
    turn_schedules(now=NOW)  # 07:30 there
    Device.objects.filter(pk=east.pk).update(time_zone="UTC")
    turn_schedules(now=FIVE_THIRTY)
    fired = Occurrence.objects.filter(local_time="2026-11-23T05:30").order_by("fires_at")
    assert list(fired.values_list("zone", "audience")) == [("Asia/Kolkata", 1), ("UTC", 0)]


def test_the_next_firing_takes_the_place_of_one_that_nobody_began() -> None:
    hourly = draft(make_static("G", make_devices(2)), rule="FREQ=HOURLY", time_of_day=time(2, 30), spread_minutes=0,
                   expires_after_minutes=60, late=LateChoice.RUN)  # fmt: skip
    create_schedule(hourly, actor=None, now=NOW)
    turn_schedules(now=NOW + 30 * MINUTE)
    begun = Delivery.objects.order_by("id")[0]
    deliveries.move(Delivery.objects.filter(pk=begun.pk), Event.ACCEPT, now=NOW, cause="reported")
    deliveries.expire(now=NOW + 90 * MINUTE)  # late devices run it when they are back
    turn_schedules(now=NOW + 90 * MINUTE)
    rows = Delivery.objects.order_by("occurrence", "id").values_list("occurrence__fires_at__hour", "phase")
    assert list(rows) == [(2, "accepted"), (2, "superseded"), (3, "waiting"), (3, "offered")]


def test_or_leaves_out_who_is_still_at_the_one_before() -> None:
    hourly = draft(make_static("G", make_devices(2)), rule="FREQ=HOURLY", time_of_day=time(2, 30), spread_minutes=0,
                   expires_after_minutes=60, overlap=OverlapChoice.SKIP)  # fmt: skip
    create_schedule(hourly, actor=None, now=NOW)
    turn_schedules(now=NOW + 30 * MINUTE)
    Delivery.objects.filter(pk__in=Delivery.objects.order_by("id")[:1]).update(phase="running")
    turn_schedules(now=NOW + 90 * MINUTE)
    second = Occurrence.objects.latest("fires_at")
    assert (second.audience, second.overlapping) == (1, 1)


def test_at_most_so_many_a_site_at_once() -> None:
    group = make_static("G", make_devices(5))
    create_schedule(draft(group, **NOW_ONCE, at_once_per_site=2), actor=None, now=NOW)
    assert Device.objects.values("site").distinct().count() == 1
    turn_schedules(now=NOW)
    turn_schedules(now=NOW)
    assert Delivery.objects.filter(phase="offered").count() == 2
    Delivery.objects.filter(phase="offered").update(phase="confirmed")
    turn_schedules(now=NOW)
    assert Delivery.objects.filter(phase="offered").count() == 2


def test_a_change_touches_no_firing_in_hand() -> None:
    group = make_static("G", make_devices(2))
    schedule = create_schedule(draft(group, spread_minutes=0), actor=None, now=NOW)
    turn_schedules(now=FIVE_THIRTY)
    ordered = Delivery.objects.values_list("pk", "phase", "not_before", "not_after").order_by("pk")
    before = list(ordered)
    to = draft(group, template=template("logs"), parameters={"hours": 3}, time_of_day=time(6), expires_after_minutes=30)
    changed = change_schedule(schedule, to, revision=1, actor=None, now=FIVE_THIRTY + MINUTE)
    assert list(ordered) == before and Occurrence.objects.get().template_id == "restart"
    assert changed.revision == 2 and changed.parameters == {"hours": 3, "level": "info"}
    turn_schedules(now=FIVE_THIRTY + 30 * MINUTE)
    assert list(Occurrence.objects.order_by("id").values_list("template_id", "local_time")) == [
        ("restart", "2026-11-23T05:30"),
        ("logs", "2026-11-23T06:00"),
    ]


def test_a_change_loses_no_firing_that_is_due_and_fires_none_that_is_past() -> None:
    group = make_static("G", make_devices(1))
    schedule = create_schedule(draft(group), actor=None, now=NOW)
    change_schedule(schedule, draft(group, time_of_day=time(4)), revision=1, actor=None, now=FIVE_THIRTY)
    assert list(Occurrence.objects.values_list("local_time", flat=True)) == ["2026-11-23T05:30"]
    turn_schedules(now=FIVE_THIRTY + HOUR)
    assert Occurrence.objects.count() == 1


def test_a_change_on_top_of_another_is_refused() -> None:
    group = make_static("G", make_devices(1))
    schedule = create_schedule(draft(group), actor=None, now=NOW)
    change_schedule(schedule, draft(group, time_of_day=time(4)), revision=1, actor=None, now=NOW)
    with pytest.raises(Conflict, match="Somebody changed it meanwhile"):
        change_schedule(schedule, draft(group), revision=1, actor=None, now=NOW)
    set_state(schedule, ScheduleState.ENDED, actor=None, now=NOW)
    with pytest.raises(Conflict):
        change_schedule(schedule, draft(group), revision=2, actor=None, now=NOW)


def test_a_turn_that_began_before_a_change_fires_by_what_is_kept_now(monkeypatch: pytest.MonkeyPatch) -> None:
    group = make_static("G", make_devices(1))
    changed, paused = (create_schedule(draft(group, spread_minutes=0), actor=None, now=NOW) for _ in range(2))
    begun = list(Schedule.objects.active())
    monkeypatch.setattr(ScheduleQuerySet, "active", lambda _: begun)
    change_schedule(changed, draft(group, time_of_day=time(6)), revision=1, actor=None, now=FIVE_THIRTY - MINUTE)
    set_state(paused, ScheduleState.PAUSED, actor=None, now=FIVE_THIRTY - MINUTE)
    turn_schedules(now=FIVE_THIRTY)
    assert not Occurrence.objects.exists()
    changed.refresh_from_db()
    assert changed.quiet_until == FIVE_THIRTY + 30 * MINUTE


def test_skipping_the_next_firing() -> None:
    schedule = create_schedule(draft(everywhere()), actor=None, now=NOW)
    following = next_firing(schedule, now=NOW)
    assert following is not None and following.at == FIVE_THIRTY
    with pytest.raises(Conflict, match="is that of 2026-11-23T05:30 by now"):
        skip_next(schedule, local_time="2026-11-22T05:30", actor=None, now=NOW)
    schedule = skip_next(schedule, local_time="2026-11-23T05:30", actor=None, now=NOW)
    assert "without 1 firing" in schedule_sentence(schedule)
    turn_schedules(now=FIVE_THIRTY)
    assert Occurrence.objects.count() == 0
    turn_schedules(now=FIVE_THIRTY + DAY)
    assert set(Occurrence.objects.values_list("local_time", flat=True)) == {"2026-11-24T05:30"}


def test_a_destructive_command_needs_a_reason_the_count_and_a_second_person() -> None:
    first, second = make_user(), make_user("approver")
    whom = draft(make_static("G", make_devices(9)), **NOW_ONCE, template=template("re-enrol"), parameters={"code": "x"})
    with pytest.raises(Invalid) as caught:
        create_schedule(whom, actor=first, now=NOW, expected=9)
    assert caught.value.extra["errors"][0]["pointer"] == "/reason"
    reasoned = ScheduleDraft(**{**whom.__dict__, "reason": "Their secrets leaked."})
    with pytest.raises(CountMismatch):
        create_schedule(reasoned, actor=first, now=NOW, expected=3)
    schedule = create_schedule(reasoned, actor=first, now=NOW, expected=9)
    turn_schedules(now=NOW + MINUTE)
    assert schedule.state == "proposed" and not Delivery.objects.exists()
    for act in (lambda: run_once(schedule, actor=first, now=NOW), lambda: approve(schedule, actor=first, now=NOW)):
        with pytest.raises(Conflict):
            act()
    assert approve(schedule, actor=second, now=NOW).state == "active"
    assert Delivery.objects.count() == 9
    assert "code ••••••" in schedule_sentence(schedule) and "with code x" not in schedule_sentence(schedule)


def test_a_secret_sent_back_as_it_is_shown_is_kept() -> None:
    device = make_device()
    one = draft(make_static("G", []), include=[], devices=[device.pk], template=template("re-enrol"),
                parameters={"code": "x"}, reason="Its secret leaked.")  # fmt: skip
    schedule = create_schedule(one, actor=None, now=NOW)
    assert schedule.state == "active"  # a single device needs no second person
    shown = ScheduleDraft(**{**draft_of(schedule).__dict__, "parameters": {"code": "••••••"}, "time_of_day": time(7)})
    assert change_schedule(schedule, shown, revision=1, actor=None, now=NOW).parameters == {"code": "x"}


def test_the_sentence() -> None:
    schedule = create_schedule(draft(everywhere(), rule="FREQ=DAILY;UNTIL=20270331"), actor=None, now=NOW)
    assert schedule_sentence(schedule) == (
        "Restart G every day at 05:30 device time, spread over 20 minutes, giving up after 2 hours, until 31 Mar 2027."
    )


def test_a_command_is_worded_by_the_server_while_it_is_composed() -> None:
    client = APIClient()
    client.force_authenticate(make_user())

    def said(**fields: Any) -> list[dict[str, str]]:
        body = {"include": [], "when": "repeat", "rule": "FREQ=DAILY", **fields}
        answer = client.post("/api/v1/schedules/sentence", body, format="json")
        assert answer.status_code == 200, answer.json()
        return list(answer.json())

    def text(parts: list[dict[str, str]]) -> str:
        return "".join(p["text"] for p in parts)

    assert text(said()) == (
        "Restart which devices? with no exclusions at which time?, spread over 20 minutes, giving up after 2 hours, "
        "missed by devices not back by then, waiting for freezes to end, "
        "waiting for devices still at the last firing"
    )
    group, other = everywhere(), make_static("Bench", [])
    whole = said(
        include=[group.pk],
        exclude=[other.pk],
        include_devices=["one", "two"],
        time_of_day="05:30",
        rule="FREQ=WEEKLY;BYDAY=MO;UNTIL=20270331",
        spread_minutes=90,
        freezes="drop",
    )
    assert text(whole) == (
        f"Restart {group.name} and 2 devices without Bench every Monday at 05:30 device time, spread over 1 h 30 min, "
        "giving up after 2 hours, missed by devices not back by then, until 31 Mar 2027, "
        "leaving out devices in a freeze, waiting for devices still at the last firing"
    )
    assert [p["slot"] for p in whole if p["slot"]] == [
        "template", "audience", "exclude", "when", "spread", "give_up", "late", "when", "freezes", "overlap",
    ]  # fmt: skip
    assert text(said(when="now", rule="")).startswith("Restart which devices? with no exclusions now, ")
    saved = create_schedule(draft(group), actor=None, now=NOW)
    assert schedule_sentence(saved) == (
        f"Restart {group.name} every day at 05:30 device time, spread over 20 minutes, giving up after 2 hours."
    )
    assert not Schedule.objects.exclude(pk=saved.pk).exists()
