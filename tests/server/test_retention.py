"""How long things are kept: what goes, what stays, and that nothing goes which nobody agreed to."""

import csv
import gzip
from datetime import UTC, datetime, time, timedelta
from pathlib import Path
from typing import Any

import pytest
from django.apps import apps
from django.contrib.sessions.models import Session
from rest_framework.test import APIClient

from herald.attention.models import Item
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.misses import note_misses
from herald.commands.models import CommandTemplate, Detail, Occurrence, Output, Schedule, When
from herald.commands.outputs import append, path_of
from herald.commands.services import set_state
from herald.commands.tallies import tally_ended
from herald.commands.turn import turn_schedules
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.edits.models import Edit, EditedDevice
from herald.groups.history import member_curve, members_at
from herald.groups.members import change_members
from herald.groups.models import MembershipEvent
from herald.http.errors import Conflict
from herald.imports.models import Import, ImportedDevice
from herald.notifications.models import Message
from herald.people.models import OpenSession
from herald.people.sessions import forget_expired
from herald.record import chain
from herald.record.models import ChainLink, RecordEntry
from herald.record.retention import delete_entries
from herald.retention import running
from herald.retention.archive import file_of, saving_nowhere
from herald.retention.kinds import KINDS, write_kinds
from herald.retention.models import DeletedTotal, KeptKind
from herald.retention.running import delete_old
from herald.retention.totals import totals_of
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import KeptSteps
from herald.rollouts.watch import report, steps
from tests.factories import NOW, client_as, make_device, make_devices, make_static, make_user
from tests.server.test_reports import a_rollout

pytestmark = pytest.mark.django_db
V1 = "/api/v1"
DAY, HOUR = timedelta(days=1), timedelta(hours=1)
FIRED = datetime(2026, 11, 23, 5, 30, tzinfo=UTC)


@pytest.fixture(autouse=True)
def _without_pauses(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(running, "PAUSE_SECONDS", 0.0)


def keep(key: str, days: int | None, **fields: Any) -> None:
    KeptKind.objects.update(days=None)
    KeptKind.objects.filter(key=key).update(days=days, **fields)


def delete(now: datetime) -> int:
    return delete_old(now=now, seconds=60.0)


def daily(days: int, devices: int = 3) -> Schedule:
    """A daily health check that fired so often and is over; a day one device did it, one failed, others missed."""
    template = CommandTemplate.objects.get(key="health-check")
    group = make_static("Nightly", make_devices(devices))
    draft = ScheduleDraft(
        template=template, include=[group], when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5, 30),
        spread_minutes=0,
    )  # fmt: skip
    schedule = create_schedule(draft, actor=None, now=NOW)
    for day in range(days):
        turn_schedules(now=FIRED + day * DAY)
        ids = list(
            Delivery.objects.filter(occurrence__fires_at=FIRED + day * DAY).order_by("id").values_list("pk", flat=True)
        )
        deliveries.expire(now=FIRED + day * DAY + 3 * HOUR)
        Delivery.objects.filter(pk=ids[0]).update(phase="confirmed", results={"answer": "ok"})
        Delivery.objects.filter(pk=ids[1]).update(phase="failed", last_error="busy")
        tally_ended(now=FIRED + day * DAY + 4 * HOUR)
    return schedule


def strip(client: APIClient, schedule: Schedule) -> list[dict[str, Any]]:
    """The firings of a schedule as its page shows them, but for whether there is more to be seen of them."""
    rows = client.get(f"{V1}/schedules/{schedule.pk}").json()["occurrences"]
    return [{k: v for k, v in row.items() if k != "only_totals"} for row in rows]


def test_answers_go_and_how_many_ended_how_stays(client: APIClient) -> None:
    schedule = daily(6)
    path = f"{V1}/schedules/{schedule.pk}"
    before = strip(client, schedule)
    keep("command-answers", 40)
    assert delete(FIRED + 42 * DAY) == 6  # those of the first two days; of the day itself nothing goes
    assert not KeptKind.objects.exclude(problem="").exists()  # what is kept for ever is no trouble
    assert Delivery.objects.count() == 12 and not DeliveryEvent.objects.exclude(delivery__in=Delivery.objects.all())
    assert strip(client, schedule) == before
    first = Occurrence.objects.order_by("fires_at").first()
    assert first is not None and first.detail == Detail.TOTALS
    told = client.get(f"{path}/answers", {"occurrence": first.pk}).json()
    assert (told["devices"], told["deleted"], told["groups"]) == (0, 3, [])
    told = client.get(f"{path}/answers").json()
    assert (told["devices"], told["deleted"]) == (3, 0)
    assert delete(FIRED + 42 * DAY) == 0


def test_the_latest_firings_of_what_goes_on_keep_their_answers_and_who_misses_again_is_still_known() -> None:
    schedule = daily(6)
    keep("command-answers", 40)
    assert delete(FIRED + 500 * DAY) == 9
    note_misses(now=FIRED + 500 * DAY)
    assert Item.objects.open().filter(kind="missed").get().count == 1
    set_state(schedule, "ended", actor=None, now=FIRED + 500 * DAY)
    assert delete(FIRED + 501 * DAY) == 9 and not Delivery.objects.exists()


def test_answers_of_one_firing_go_in_several_passes_and_are_never_half_shown(
    client: APIClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    schedule = daily(4, devices=5)
    before = strip(client, schedule)
    keep("command-answers", 40)
    monkeypatch.setattr(running, "BATCH", 2)
    moments = iter([0.0, 0.0, 100.0])  # the time is over after one batch
    monkeypatch.setattr(running, "monotonic", lambda: next(moments))
    assert delete(FIRED + 43 * DAY) == 2
    monkeypatch.undo()
    monkeypatch.setattr(running, "BATCH", 2)
    first = Occurrence.objects.order_by("fires_at")[0]
    assert first.detail == Detail.GOING and first.deliveries.count() == 3
    assert strip(client, schedule) == before
    told = client.get(f"{V1}/schedules/{schedule.pk}/answers", {"occurrence": first.pk}).json()
    assert (told["devices"], told["deleted"]) == (0, 5)
    assert not RecordEntry.objects.filter(kind="retention").exists()  # it is not through
    assert delete(FIRED + 43 * DAY) == 3
    assert RecordEntry.objects.get(kind="retention").sentence == (
        "Answers to commands: deleted 5 answers of before 26 November 2026, as set"
    )


def test_a_device_that_proved_well_after_the_tally_counts_when_its_answer_goes(client: APIClient) -> None:
    schedule = daily(4)
    first = Occurrence.objects.order_by("fires_at")[0]
    missed = first.deliveries.get(phase="expired")
    Delivery.objects.filter(pk=missed.pk).update(phase="confirmed", late=True, phase_since=FIRED + 5 * HOUR)
    keep("command-answers", 40)
    delete(FIRED + 43 * DAY)
    shown = {o["id"]: o["phases"] for o in client.get(f"{V1}/schedules/{schedule.pk}").json()["occurrences"]}
    assert shown[first.pk] == {"confirmed": 2, "failed": 1}


def test_outputs_go_with_their_files(django_capture_on_commit_callbacks: Any) -> None:
    daily(4)
    delivery = Delivery.objects.order_by("occurrence__fires_at", "id")[0]
    append(delivery, 0, b"all well", now=FIRED)
    output = Output.objects.get()
    keep("command-answers", 40)
    assert path_of(output).exists()
    with django_capture_on_commit_callbacks(execute=True):
        delete(FIRED + 43 * DAY)
    assert not Output.objects.exists() and not path_of(output).exists()


def test_the_steps_of_a_rollout_go_and_its_report_stays() -> None:
    rollout = a_rollout()
    lifecycle.stop(rollout, actor=make_user(), now=NOW + HOUR)
    rollout.refresh_from_db()
    before = report.report(rollout, now=NOW + DAY)
    curve = steps.progress(rollout)
    keep("rollout-steps", 30)
    assert delete(NOW + 30 * DAY) == 0
    assert delete(NOW + 31 * DAY + HOUR) > 20 and not DeliveryEvent.objects.exists()
    assert KeptSteps.objects.get().is_done
    assert report.report(rollout, now=NOW + DAY) == before and steps.progress(rollout) == curve


def test_a_rollout_that_goes_on_keeps_its_steps() -> None:
    a_rollout()
    keep("rollout-steps", 30)
    assert delete(NOW + 900 * DAY) == 0 and DeliveryEvent.objects.exists()


def test_joins_and_leaves_go_and_their_daily_numbers_stay(client: APIClient) -> None:
    a, b, c = (make_device(name=n) for n in "abc")
    group = make_static("G", [a, b])
    change_members(group, add=[c.pk], remove=[b.pk], actor=None, now=NOW + 2 * DAY)
    change_members(group, add=[b.pk], remove=[], actor=None, now=NOW + 70 * DAY)
    keep("membership-events", 60)
    assert delete(NOW + 71 * DAY) == 4
    assert [(t.day, t.what, t.count) for t in totals_of("membership-events", group.pk)] == [
        (NOW.date(), "joined", 2),
        ((NOW + 2 * DAY).date(), "joined", 1),
        ((NOW + 2 * DAY).date(), "left", 1),
    ]
    assert MembershipEvent.objects.count() == 1
    assert sorted(d.name for d in members_at(group, NOW + 20 * DAY)) == ["a", "c"]
    with pytest.raises(Conflict, match="known since 4 December 2026"):
        members_at(group, NOW + 2 * DAY)
    answer = client.get(f"{V1}/groups/{group.pk}/membership-diff", {"first": (NOW + DAY).isoformat()})
    assert answer.status_code == 409
    assert [p.count for p in member_curve(group, now=NOW + 71 * DAY)][:2] == [2, 2]


def test_closed_items_edits_imports_and_messages_go(client: APIClient) -> None:
    device, person = make_device(), make_user()
    opened = Item.objects.create(kind="halted", cause="c", opened_at=NOW, changed_at=NOW)
    Item.objects.create(kind="stuck", cause="c", opened_at=NOW, changed_at=NOW, closed_at=NOW + DAY)
    told = {"occasion": "opened", "person": person, "text": "t", "path": "/", "due_at": NOW, "shown_at": NOW}
    Message.objects.create(item=opened, made_at=NOW, state="sent", **told)
    Message.objects.create(made_at=NOW, state="sent", **{**told, "occasion": "test"})
    Message.objects.create(made_at=NOW, state="waiting", **{**told, "occasion": "test"})
    for state in ("done", "running"):
        edit = Edit.objects.create(sentence=state, change={}, state=state, device_count=1, created_at=NOW)
        EditedDevice.objects.create(edit=edit, device=device, before={"tags": []}, after={"tags": ["x"]})
    for name in ("done", "applying"):
        read = Import.objects.create(file_name=name, content=b"x", state=name, created_at=NOW)
        ImportedDevice.objects.create(of_import=read, device=device, after={})
        read.wrong.create(row=2, column="c", value="v", reason="r")
    KeptKind.objects.update(days=730)
    keep("attention-items", 90)
    KeptKind.objects.filter(key__in=["messages", "edits", "imports"]).update(days=90)
    assert delete(NOW + 100 * DAY) == 4
    assert Item.objects.get() == opened  # what is open stays, and so does what was told of it
    assert set(Message.objects.values_list("state", "item")) == {("sent", opened.pk), ("waiting", None)}
    assert Edit.objects.get().state == "running" and EditedDevice.objects.count() == 1
    assert Import.objects.get().state == "applying" and ImportedDevice.objects.count() == 1
    assert DeletedTotal.objects.filter(key="attention-items").get().what == "stuck"


def acts(count: int, at: datetime) -> None:
    for n in range(count):
        RecordEntry.objects.create(at=at + timedelta(seconds=n), kind="group", object_id=n, sentence=f"Did {n}")
    chain.link_new(now=at + timedelta(minutes=1))


def test_the_record_goes_on_from_its_last_deleted_hash() -> None:
    acts(5, NOW)
    acts(3, NOW + 400 * DAY)
    hashes = dict(ChainLink.objects.values_list("position", "hash"))
    keep("record", 365)
    assert delete(NOW + 401 * DAY) == 5
    assert chain.start() == chain.Head(5, hashes[5])
    assert list(chain.faults()) == []
    assert list(chain.faults(chain.Head(5, hashes[5]))) == []
    assert [f.words for f in chain.faults(chain.Head(5, "0" * 64))] == [
        "the hash is not the one that went out: the chain was rewritten"
    ]
    RecordEntry.objects.filter(sentence="Did 0").update(sentence="Did nothing")
    assert [f.position for f in chain.faults()] == [6]


def test_a_record_that_is_empty_goes_on_from_where_it_was() -> None:
    acts(2, NOW)
    assert delete_entries(NOW + DAY, 10, saving_nowhere) == 2
    assert not ChainLink.objects.exists() and chain.head().position == 2
    acts(1, NOW + 2 * DAY)
    assert ChainLink.objects.get().position == 3 and list(chain.faults()) == []


@pytest.mark.parametrize("wrong", ["changed", "removed", "link"])
def test_what_is_wrong_with_the_record_is_evidence_and_stays(wrong: str) -> None:
    acts(4, NOW)
    third = RecordEntry.objects.order_by("id")[2]
    if wrong == "changed":
        RecordEntry.objects.filter(pk=third.pk).update(sentence="Did something else")
    elif wrong == "removed":
        third.delete()
    else:
        ChainLink.objects.filter(position=3).delete()
    keep("record", 365)
    assert delete(NOW + 400 * DAY) == 2
    assert delete(NOW + 400 * DAY) == 0
    assert "not as it was written" in KeptKind.objects.get(key="record").problem
    assert next(f.position for f in chain.faults()) == 3


def test_a_kind_that_fails_says_so_and_keeps_no_other_from_going(monkeypatch: pytest.MonkeyPatch) -> None:
    make_static("G", [make_device()])
    acts(2, NOW)
    first = RecordEntry.objects.order_by("id")[0]
    RecordEntry.objects.filter(pk=first.pk).update(sentence="Did something else")
    KeptKind.objects.update(days=500)
    delete(NOW + 600 * DAY)
    assert KeptKind.objects.get(key="record").problem and not MembershipEvent.objects.exists()
    RecordEntry.objects.filter(pk=first.pk).update(sentence=first.sentence)
    delete(NOW + 600 * DAY)
    assert KeptKind.objects.get(key="record").problem == ""


def test_what_goes_is_in_a_file_before(settings: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    settings.ARCHIVE_DIR = tmp_path / "archive"
    acts(5, NOW)
    keep("record", 365, archives=True)
    monkeypatch.setattr(running, "BATCH", 2)
    now = NOW + 400 * DAY
    assert delete(now) == 5
    with gzip.open(file_of("record", now.date()), "rt", newline="") as file:
        rows = list(csv.DictReader(file))
    assert [r["sentence"] for r in rows] == [f"Did {n}" for n in range(5)]
    assert rows[0]["position"] == "1" and len(rows[0]["hash"]) == 64


def test_what_cannot_be_written_to_a_file_stays(settings: Any, tmp_path: Path) -> None:
    (tmp_path / "archive").write_text("a file where the folder should be")
    settings.ARCHIVE_DIR = tmp_path / "archive"
    acts(5, NOW)
    keep("record", 365, archives=True)
    assert delete(NOW + 400 * DAY) == 0
    assert RecordEntry.objects.count() == 5
    assert KeptKind.objects.get(key="record").problem


def test_an_administrator_says_how_long_and_agrees_to_what_goes() -> None:
    administrator = client_as("administrator")
    make_static("G", make_devices(3))
    MembershipEvent.objects.update(at=datetime(2020, 1, 1, tzinfo=UTC))
    KeptKind.objects.update(days=None)
    path = f"{V1}/retention/membership-events"
    assert administrator.get(f"{path}/preview", {"days": 90}).json() == {"deletes": 3, "words": "3 events"}
    for deletes in (None, 2):
        refused = administrator.put(path, {"days": 90, "deletes": deletes}, format="json")
        assert refused.status_code == 409 and refused.json()["deletes"] == 3
        assert "This deletes 3 events" in refused.json()["detail"]
    kept = administrator.put(path, {"days": 90, "archives": True, "deletes": 3}, format="json").json()
    assert (kept["days"], kept["archives"], kept["changed_by"]) == (90, True, "U. Ser")
    entry = RecordEntry.objects.get(kind="retention")
    assert entry.sentence == "Joins and leaves: kept for 90 days, then written to files"
    assert (entry.before, entry.after) == ({"days": None, "archives": False}, {"days": 90, "archives": True})
    longer = administrator.put(path, {"days": None}, format="json")  # nothing goes by this
    assert longer.status_code == 200 and longer.json()["days"] is None
    assert administrator.put(path, {"days": None}, format="json").status_code == 200
    assert RecordEntry.objects.filter(kind="retention").count() == 2


@pytest.mark.parametrize(
    ("body", "status"),
    [({"days": 59}, 422), ({"days": 0}, 422), ({"days": 40_000}, 422), ({}, 422), ({"days": 90, "x": 1}, 422)],
)
def test_what_the_program_needs_itself_is_kept(body: dict[str, Any], status: int) -> None:
    answer = client_as("administrator").put(f"{V1}/retention/membership-events", body, format="json")
    assert answer.status_code == status
    assert KeptKind.objects.get(key="membership-events").changed_at is None


def test_what_there_is_not_is_said(client: APIClient) -> None:
    assert client_as("administrator").put(f"{V1}/retention/nothing", {"days": 90}, format="json").status_code == 404
    assert client.get(f"{V1}/retention/nothing/preview", {"days": 90}).status_code == 404
    assert client.get(f"{V1}/retention/record/preview").status_code == 422
    assert client.get(f"{V1}/retention/record/preview", {"days": 3}).status_code == 422


def test_the_list_says_what_there_is(client: APIClient) -> None:
    daily(4)
    keep("command-answers", 40)
    delete(FIRED + 43 * DAY)
    rows = {row["key"]: row for row in client.get(f"{V1}/retention").json()}
    assert list(rows) == list(KINDS)
    answers = rows["command-answers"]
    assert (answers["days"], answers["usual_days"], answers["least_days"]) == (40, 90, 40)
    assert answers["deleted"] == "3 answers" and answers["bytes"] > 0
    assert rows["record"]["deleted"] == "" and rows["record"]["oldest"] is not None


def test_every_kind_can_be_counted_listed_and_deleted_while_there_is_nothing() -> None:
    for kind in KINDS.values():
        assert kind.delete(NOW, 10, saving_nowhere) == 0, kind.key
        assert kind.count(NOW) == 0 and kind.oldest() is None, kind.key
        assert kind.days is None or kind.days >= kind.least, kind.key


def test_where_there_were_devices_before_nothing_goes_by_itself() -> None:
    make_device()
    KeptKind.objects.all().delete()
    write_kinds()
    assert set(KeptKind.objects.values_list("days", flat=True)) == {None}
    KeptKind.objects.filter(key="record").update(days=800)
    write_kinds()
    assert KeptKind.objects.get(key="record").days == 800


def test_a_new_installation_keeps_things_as_usual() -> None:
    KeptKind.objects.all().delete()
    write_kinds()
    assert dict(KeptKind.objects.values_list("key", "days")) == {k.key: k.days for k in KINDS.values()}


#: tables of which nothing is deleted by age, and why they do not grow with time alone
BOUNDED = {
    "as large as the fleet": """
        attention_quarantine commands_schedule_devices fleet_device fleet_membershipqueueentry fleet_removeddevice
        groups_groupmembership groups_groupsize rollouts_excludeddevice rollouts_manualexclusion
        rollouts_rollout_devices""",
    "people make them, one by one": """
        access_invitation access_passkey access_recoverycode access_secondfactor access_apitoken access_standin
        access_user access_wantedfactor agenda_feed agenda_feedevent calendar_calendarsource
        calendar_calendarsource_groups calendar_calendarsource_sites calendar_freeze calendar_freeze_groups
        calendar_freeze_sites commands_commandtemplate commands_schedule commands_schedule_exclude
        commands_schedule_include commands_templatemodel configuration_keptbyfile find_savedview fleet_capabilityrange
        fleet_custodian fleet_devicemodel fleet_enrolmentcode fleet_propertydefinition fleet_reportedfact fleet_site
        fleet_tag groups_family groups_folder groups_group groups_groupreference images_autoapproval images_image
        images_imagecleanup images_imagecleanup_images images_imagemodel images_signingkey imports_repeatedimport
        imports_savedmapping
        knox_authtoken limits_folderlimit limits_sitelimit limits_tokenfolder limits_tokensite lists_followedlist
        notifications_channel
        notifications_notificationrule notifications_notificationrule_channels notifications_preference
        notifications_recipient now_pauseofeverything outages_plannedoutage record_comment rollouts_changerow
        rollouts_downgradepermit rollouts_ring rollouts_ringplan rollouts_ringplanversion rollouts_rollout
        rollouts_rollout_exclude rollouts_rollout_include rollouts_storedforecast samples_reportmail""",
    "one a firing, rollout or day, and what stays of what was deleted": """
        commands_occurrence record_chainwitness record_chainstart retention_deletedtotal retention_keptkind
        rollouts_keptsteps""",
    "their own rooms delete or thin them out": """
        access_failedsignin access_keptanswer access_opensession clock_heartbeat clock_lease clock_timebase
        django_session fleet_enrolmentattempt images_upload procrastinate_events procrastinate_jobs
        procrastinate_periodic_defers procrastinate_workers samples_fleetsample""",
    "three rows, each written over again": "agenda_keptcounts",
    "made with the program": "auth_group auth_group_permissions auth_permission django_content_type",
}


def test_of_every_table_it_is_said_why_it_does_not_grow_for_ever() -> None:
    tables = {model._meta.db_table for model in apps.get_models(include_auto_created=True)}
    said = [t for names in BOUNDED.values() for t in names.split()]
    deleted = {t for kind in KINDS.values() for t in kind.tables}
    assert len(said) == len(set(said)) and not set(said) & deleted
    assert tables == {*said, *deleted}


def test_expired_sessions_are_forgotten() -> None:
    user = make_user()
    past, future = (datetime.now(UTC) + d * DAY for d in (-1, 1))
    for key, ends in (("old", past), ("new", future)):
        Session.objects.create(session_key=key, session_data="", expire_date=ends)
        OpenSession.objects.create(key=key, user=user, began_at=NOW, seen_at=NOW, address="", agent="")
    assert forget_expired() == 1
    assert OpenSession.objects.get().key == "new" and Session.objects.get().session_key == "new"
