"""The parts watch each other: what stopped becomes an item and a message; a database that is away is told of."""

import json
import stat
import threading
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from typing import Any

import pytest

from herald.attention.models import Item, ItemKind
from herald.attention.services import open_item
from herald.clock.heartbeat import AWAY, FOLLOW, GATEWAY, SERVER, TURN, beat
from herald.clock.lease import take_lease
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import CommandTemplate, When
from herald.notifications.models import Channel, Message
from herald.notifications.rules import RuleDraft, save_rule
from herald.now.alarm import Alarm
from herald.now.decisions import keep_decisions
from herald.now.watching import Watcher, look
from herald.rollouts.intervene import lifecycle
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from tests.factories import NOW, client_as, make_devices, make_draft, make_static, make_user

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
REAL = datetime(2026, 11, 29, 12, tzinfo=UTC)
SECOND = timedelta(seconds=1)


def rule(**change: Any) -> Any:
    return save_rule(RuleDraft(**{"name": "On call", "is_urgent": True, **change}), actor=None, now=NOW)


def all_beat(at: datetime, *but: str) -> None:
    for name in (TURN, FOLLOW, GATEWAY, SERVER):
        if name not in but:
            beat(name, now=NOW, real_now=at)


@pytest.mark.parametrize(
    ("part", "words"),
    [(TURN, "The clock stands still"), (GATEWAY, "No gateway answers"), (SERVER, "No web server answers")],
)
def test_a_part_that_stops_is_one_item_and_one_message_and_closes_by_itself(part: str, words: str) -> None:
    user = make_user()
    rule(people=[user.pk])
    all_beat(REAL)
    assert look(now=NOW, real_now=REAL) == [] and not Item.objects.exists()
    later = REAL + AWAY + SECOND
    all_beat(later, part)
    for _ in range(3):
        look(now=NOW, real_now=later)
    item = Item.objects.get()
    assert (item.kind, item.closed_at) == (ItemKind.STOPPED_PART, None) and item.cause.startswith(words)
    assert [m.text.startswith(words) for m in Message.objects.all()] == [True]
    all_beat(later + SECOND)
    look(now=NOW, real_now=later + SECOND)
    item.refresh_from_db()
    assert item.closed_at == NOW
    assert [m.text.startswith("Over: ") for m in Message.objects.order_by("pk")] == [False, True]


def test_a_silent_fleet_is_told_of_once_and_is_no_part_that_stopped() -> None:
    user = make_user()
    rule(people=[user.pk])
    all_beat(REAL)
    open_item(ItemKind.FLEET_SILENT, cause="Of 40 devices none has been heard from", count=40, now=NOW)
    (trouble,) = look(now=NOW, real_now=REAL)
    assert trouble.ready and Item.objects.get().kind == ItemKind.FLEET_SILENT
    assert Message.objects.count() == 1


def test_the_lease_passes_on_from_one_that_hangs_and_from_nobody_else() -> None:
    length = timedelta(seconds=12)
    assert take_lease("watch", "a", length, real_now=REAL)
    assert not take_lease("watch", "b", length, real_now=REAL + 11 * SECOND)
    assert take_lease("watch", "a", length, real_now=REAL + 11 * SECOND)
    assert not take_lease("watch", "b", length, real_now=REAL + 23 * SECOND)
    assert take_lease("watch", "b", length, real_now=REAL + 24 * SECOND)
    assert not take_lease("watch", "a", length, real_now=REAL + 25 * SECOND)
    assert take_lease("other", "a", length, real_now=REAL + 25 * SECOND)


def test_a_watcher_looks_where_nobody_else_does(settings: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    settings.DATA_DIR = tmp_path
    looked: list[str] = []
    monkeypatch.setattr("herald.now.watching.close_old_connections", lambda: None)
    monkeypatch.setattr("herald.now.watching.look", lambda **_: looked.append("look") or [])
    first, second = Watcher(threading.Event(), beats_as=SERVER), Watcher(threading.Event())
    for watcher in (first, second, first):
        watcher._step()
    assert looked == [], "nothing is held against parts that only start"
    monkeypatch.setattr("herald.now.watching.GRACE", timedelta(0))
    for watcher in (first, second, first, second):
        watcher._step()
    assert looked == ["look", "look"]


# -- decisions


def halted() -> Rollout:
    draft = make_draft(make_static("G", make_devices(3)))
    launching.request_launch(draft, expected=3, actor=make_user(), now=NOW)
    launching.launch(draft, now=NOW)
    draft.refresh_from_db()
    lifecycle.halt(draft, reason="too many failed", now=NOW)
    draft.refresh_from_db()
    return draft


def test_a_rollout_that_halts_is_told_and_over_once_somebody_decides() -> None:
    rule(people=[make_user().pk], kinds=[ItemKind.HALTED.value])
    rollout = halted()
    keep_decisions(now=NOW)
    keep_decisions(now=NOW)
    item = Item.objects.get()
    assert (item.kind, item.object_kind, item.object_id) == (ItemKind.HALTED, "rollout", rollout.pk)
    assert [(m.path, m.occasion) for m in Message.objects.all()] == [(f"/rollouts/{rollout.pk}", "opened")]
    lifecycle.stop(rollout, actor=make_user(), now=NOW)
    keep_decisions(now=NOW)
    item.refresh_from_db()
    assert item.closed_at == NOW
    shown = client_as("viewer").get("/api/v1/now").json()
    assert shown["attention"] == []


def test_now_shows_a_decision_once_and_not_among_the_items() -> None:
    halted()
    keep_decisions(now=NOW)
    shown = client_as("viewer").get("/api/v1/now").json()
    assert [d["kind"] for d in shown["decisions"]] == ["halted"] and shown["attention"] == []
    listed = client_as("viewer").get("/api/v1/attention").json()
    assert [i["kind"] for i in listed["items"]] == ["halted"]


def test_a_command_that_waits_for_a_second_person_is_an_item() -> None:
    template = CommandTemplate.objects.get(key="re-enrol")
    draft = ScheduleDraft(
        template=template,
        parameters={"code": "x"},
        include=[make_static("G", make_devices(2))],
        when=When.ONCE,
        starts_on=date(2031, 1, 1),
        time_of_day=time(5),
        reason="They moved.",
    )
    schedule = create_schedule(draft, actor=make_user(), now=NOW, expected=2)
    keep_decisions(now=NOW)
    assert Item.objects.get().object_id == schedule.pk


# -- the alarm


class Calls(list[tuple[str, dict[str, Any]]]):
    pass


@pytest.fixture
def told(monkeypatch: pytest.MonkeyPatch, settings: Any) -> list[str]:
    """Everything that an alarm tells, instead of mail and webhooks."""
    settings.EMAIL_HOST = "mail.example.org"
    kept: list[str] = []
    monkeypatch.setattr("herald.now.alarm.deliver", lambda to, words, *_, **__: kept.append(f"{to} {words}"))
    monkeypatch.setattr(
        "herald.now.alarm.webhook.send", lambda url, secret, event_id, kind, data: kept.append(f"{url} {data['text']}")
    )
    return kept


def test_a_database_that_is_away_is_told_once_for_the_machine_and_when_it_is_back(
    told: list[str], tmp_path: Path
) -> None:
    channel = Channel.objects.create(name="Ops", url="https://example.org/hook", secret="s")
    user = make_user()
    rule(people=[user.pk], channels=[channel.pk], kinds=[ItemKind.STOPPED_PART.value])
    rule(name="Batteries", people=[make_user().pk], kinds=[ItemKind.LOW_BATTERY.value])
    server, clock = Alarm(tmp_path), Alarm(tmp_path)
    server.keep_recipients()
    file = tmp_path / "alarm-recipients.json"
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    assert json.loads(file.read_text())["mails"] == [user.email]
    for _ in range(3):
        server.database_away()
        clock.database_away()
    assert [t.split(" ")[0] for t in told] == [user.email, channel.url]
    for _ in range(2):
        server.database_answers()
        clock.database_answers()
    assert [t.split(" ")[1] for t in told[2:]] == ["Over:", "Over:"]


def test_a_database_that_hangs_is_noticed_beside_the_question_that_never_ends(
    settings: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    settings.DATA_DIR = tmp_path
    stop, raised, goes_on = threading.Event(), threading.Event(), threading.Event()
    monkeypatch.setattr("herald.now.watching.LOOK_SECONDS", 0.01)
    monkeypatch.setattr("herald.now.watching.PATIENCE", timedelta(seconds=0.05))
    monkeypatch.setattr("herald.now.watching.close_old_connections", lambda: None)
    monkeypatch.setattr("herald.now.watching.take_lease", lambda *_: not goes_on.wait(30))
    watcher = Watcher(stop)
    monkeypatch.setattr(watcher._alarm, "database_away", raised.set)
    thread = threading.Thread(target=watcher.run)
    thread.start()
    try:
        assert raised.wait(30)
    finally:
        goes_on.set()
        stop.set()
        thread.join()
