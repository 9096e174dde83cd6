"""Reports by mail: who may have it sent to whom, when it goes, what it holds, and what happens where a
mail server takes nothing."""

from datetime import UTC, datetime, time, timedelta
from typing import Any

import pytest
from django.core.mail import EmailMessage
from django.db import IntegrityError, transaction

from herald.attention.models import Item, ItemKind
from herald.attention.services import close_item, open_item
from herald.fleet.models import Site
from herald.fleet.presence import SILENT_RULE
from herald.people.models import User
from herald.record.models import RecordEntry
from herald.samples.mail_contents import CONTENTS
from herald.samples.mailing import PAUSES, ReportMailDraft, make_report_mail, send_due_reports
from herald.samples.models import Report, ReportMail
from tests.factories import NOW, make_device, make_image, make_site, make_user
from tests.server.test_limits import client_of, limited

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
CALL = "/api/v1/report-mails"
#: in November, eight o'clock in Lisbon is eight o'clock UTC
BODY = {"to": ["manager@farm.example"], "days": [3, 5], "at": "08:00", "zone": "Europe/Lisbon"}
LATER = timedelta(days=30)


@pytest.fixture(autouse=True)
def _sends_mail(settings: Any) -> None:
    settings.EMAIL_HOST = "mail.example"


def made(owner: User, **fields: Any) -> ReportMail:
    draft: dict[str, Any] = {"to": ["manager@farm.example"], "days": [0], "at": time(8), "zone": "UTC", **fields}
    return make_report_mail(ReportMailDraft(**draft), owner=owner, now=NOW)


def test_it_is_made_listed_sent_at_once_and_deleted_by_its_owner_alone() -> None:
    owner, other = make_user(), make_user("administrator")
    answer = client_of(owner).post(CALL, BODY, format="json")
    assert answer.status_code == 201, answer.json()
    row = answer.json()
    assert datetime.fromisoformat(row["next_at"]) == datetime(2026, 11, 26, 8, tzinfo=UTC), "Thursday comes first"
    assert client_of(owner).get(CALL).json() == [row] and client_of(other).get(CALL).json() == []
    for client, expected in ((client_of(other), 404), (client_of(owner), 200)):
        assert client.post(f"{CALL}/{row['id']}/send").status_code == expected
    assert ReportMail.objects.get().next_at == NOW
    assert client_of(other).delete(f"{CALL}/{row['id']}").status_code == 404
    assert client_of(owner).delete(f"{CALL}/{row['id']}").status_code == 204
    sentences = list(RecordEntry.objects.filter(kind="notification").order_by("pk").values_list("sentence", flat=True))
    assert sentences == [
        "Has the report of firmware sent to manager@farm.example",
        "Has the report of firmware sent no more to manager@farm.example",
    ]


@pytest.mark.parametrize(
    ("wrong", "where"),
    [
        ({"to": []}, "/to"),
        ({"to": ["nobody"]}, "/to/0"),
        ({"days": []}, "/days"),
        ({"days": [7]}, "/days/0"),
        ({"zone": "Mars/Base"}, "/zone"),
        ({"at": "25:00"}, "/at"),
    ],
)
def test_what_cannot_be_sent_is_said_beside_its_field(wrong: dict[str, Any], where: str) -> None:
    answer = client_of(make_user()).post(CALL, {**BODY, **wrong}, format="json")
    assert answer.status_code == 422 and answer.json()["errors"][0]["pointer"] == where, answer.json()
    assert not ReportMail.objects.exists()


def test_where_no_mail_is_sent_none_is_promised(settings: Any) -> None:
    settings.EMAIL_HOST = ""
    answer = client_of(make_user()).post(CALL, BODY, format="json")
    assert answer.status_code == 409 and "sends no mail" in answer.json()["detail"]


def test_whoever_only_looks_sends_to_nobody_but_themselves() -> None:
    viewer = make_user("viewer")
    answer = client_of(viewer).post(CALL, BODY, format="json")
    assert answer.status_code == 422 and "their own address only" in answer.json()["errors"][0]["message"]
    assert client_of(viewer).post(CALL, {**BODY, "to": [viewer.email.upper()]}, format="json").status_code == 201


def test_it_goes_on_its_days_once_with_the_figures_of_then(mailoutbox: list[EmailMessage]) -> None:
    make_image("5.2.1")
    make_device(firmware="5.2.1", site=make_site("North"))
    made(make_user())
    assert send_due_reports(now=NOW, real_now=NOW) == 0 and not mailoutbox
    make_device(firmware="5.0.0", site=make_site("South"))
    due = ReportMail.objects.get().next_at
    assert send_due_reports(now=due, real_now=due) == 1
    assert send_due_reports(now=due, real_now=due) == 0
    [mail] = mailoutbox
    assert mail.subject == "[Brisk Herald] Firmware: 1 of 2 devices on an approved version"
    assert "North: 1 of 1 on an approved version" in mail.body and "South: 0 of 1" in mail.body
    [(name, content, media)] = mail.attachments
    assert (name, media) == ("firmware.csv", "text/csv") and "South,Sill 400,5.0.0,no,no,1" in str(content)
    row = ReportMail.objects.get()
    assert (row.last_sent_at, row.next_at) == (due, due + timedelta(days=7))


def test_what_was_missed_while_nobody_sent_is_sent_once(mailoutbox: list[EmailMessage]) -> None:
    made(make_user(), days=[0, 1, 2, 3, 4, 5, 6])
    assert send_due_reports(now=NOW + LATER, real_now=NOW + LATER) == 1
    assert len(mailoutbox) == 1 and ReportMail.objects.get().next_at > NOW + LATER


def test_each_address_gets_a_mail_of_its_own(mailoutbox: list[EmailMessage]) -> None:
    made(make_user(), to=["b@farm.example", "A@farm.example", "a@farm.example"])
    send_due_reports(now=NOW + LATER, real_now=NOW + LATER)
    assert [m.to for m in mailoutbox] == [["a@farm.example"], ["b@farm.example"]]
    assert len({m.extra_headers["Message-ID"] for m in mailoutbox}) == 2


def test_what_goes_out_is_what_its_owner_sees_then(mailoutbox: list[EmailMessage]) -> None:
    north, south = make_site("North"), make_site("South")
    make_device(site=north), make_device(site=south)
    owner = make_user()
    made(owner)
    limited(owner, sites=[Site.objects.get(pk=south.pk)])
    send_due_reports(now=NOW + LATER, real_now=NOW + LATER)
    [mail] = mailoutbox
    told = mail.body + str(mail.attachments[0][1])
    assert "South" in told and "North" not in told and "part of the fleet" in told


def test_it_stops_with_its_owners_account(mailoutbox: list[EmailMessage]) -> None:
    owner = make_user()
    made(owner)
    User.objects.filter(pk=owner.pk).update(is_active=False)
    assert send_due_reports(now=NOW + LATER, real_now=NOW + LATER) == 0 and not mailoutbox


def test_a_mail_server_that_takes_nothing_is_tried_again_and_then_not_before_the_next_day(
    monkeypatch: pytest.MonkeyPatch, mailoutbox: list[EmailMessage]
) -> None:
    def refuse(self: EmailMessage, fail_silently: bool = False) -> int:
        raise OSError("connection refused")

    made(make_user())
    real = now = ReportMail.objects.get().next_at
    with monkeypatch.context() as broken:
        broken.setattr(EmailMessage, "send", refuse)
        for pause in PAUSES:
            assert send_due_reports(now=now, real_now=real) == 1
            row = ReportMail.objects.get()
            assert "connection refused" in row.last_words and row.retry_at == real + pause
            assert send_due_reports(now=now, real_now=real) == 0, "not before the pause is over"
            real += pause
        assert send_due_reports(now=now, real_now=real) == 1
    row = ReportMail.objects.get()
    assert (row.attempts, row.retry_at, row.next_at, row.last_sent_at) == (0, None, now + timedelta(days=7), None)
    assert "connection refused" in row.last_words, "that it was not sent stays to be read"
    assert send_due_reports(now=row.next_at, real_now=row.next_at) == 1
    assert ReportMail.objects.get().last_words == "" and len(mailoutbox) == 1


def test_after_a_failure_the_others_wait_for_the_next_turn(
    monkeypatch: pytest.MonkeyPatch, mailoutbox: list[EmailMessage]
) -> None:
    for _ in range(3):
        made(make_user())
    now, send = NOW + LATER, EmailMessage.send

    def refuse_once(self: EmailMessage, fail_silently: bool = False) -> int:
        monkeypatch.setattr(EmailMessage, "send", send)
        raise OSError("timed out")

    monkeypatch.setattr(EmailMessage, "send", refuse_once)
    assert send_due_reports(now=now, real_now=now) == 1 and not mailoutbox
    assert send_due_reports(now=now, real_now=now) == 2 and len(mailoutbox) == 2
    assert send_due_reports(now=now, real_now=now + PAUSES[0]) == 1 and len(mailoutbox) == 3


def test_what_a_dead_process_had_taken_is_sent_by_the_next(mailoutbox: list[EmailMessage]) -> None:
    made(make_user())
    now = ReportMail.objects.get().next_at
    ReportMail.objects.update(claimed_until=now + timedelta(minutes=3))
    assert send_due_reports(now=now, real_now=now) == 0
    assert send_due_reports(now=now, real_now=now + timedelta(minutes=4)) == 1 and len(mailoutbox) == 1


def test_the_database_holds_that_it_goes_to_somebody_on_some_day() -> None:
    made(make_user())
    for wrong in ({"to": []}, {"days": []}, {"days": [7]}):
        with pytest.raises(IntegrityError), transaction.atomic():
            ReportMail.objects.update(**wrong)


def sent(mailoutbox: list[EmailMessage], owner: User, report: str) -> EmailMessage:
    mail = made(owner, report=report)
    assert send_due_reports(now=mail.next_at, real_now=mail.next_at) == 1
    return mailoutbox[-1]


def test_silent_devices_are_told_by_site_and_each_is_in_the_file(mailoutbox: list[EmailMessage]) -> None:
    north, south = make_site("North"), make_site("South")
    due = made(make_user()).next_at
    ReportMail.objects.all().delete()
    make_device(site=north, name="calls", last_check_in=due)
    make_device(site=north, name="quiet", last_check_in=due - timedelta(days=3))
    make_device(site=north, name="never", last_check_in=None)
    make_device(site=south, name="late", last_check_in=due - timedelta(hours=23))
    make_device(site=south, name="waits", last_check_in=None, admission="waiting")
    mail = sent(mailoutbox, make_user(), "silent")
    assert mail.subject == "[Brisk Herald] Silent devices: 2 of 4"
    latest = due - timedelta(days=3)
    assert f"North: 2 of 3, the last one heard of {latest:%a %-d %b, %H:%M}" in mail.body and "South" not in mail.body
    assert "/fleet?rule=admission%20%3D%20admitted%20and%20presence%20any%20of" in mail.body
    [(name, content, _)] = mail.attachments
    lines = str(content).splitlines()
    assert name == "silent.csv" and [line.split(",")[0] for line in lines[1:]] == ["never", "quiet"]


def test_the_rule_that_the_mail_links_to_finds_as_many(mailoutbox: list[EmailMessage]) -> None:
    owner = make_user()
    for days in (0, 1, 2, 9):
        make_device(last_check_in=NOW - timedelta(days=days))
    found = client_of(owner).get("/api/v1/devices", {"rule": SILENT_RULE}).json()["count"]
    told = CONTENTS["silent"](NOW, "UTC").subject
    assert told == f"Silent devices: {found} of 4" and 0 < found < 4


def test_what_needs_attention_is_told_with_who_looks_after_it(mailoutbox: list[EmailMessage]) -> None:
    owner = make_user()
    assert sent(mailoutbox, owner, "attention").subject == "[Brisk Herald] Attention: nothing is open"
    assert "none" in mailoutbox[-1].body
    open_item(ItemKind.LOW_BATTERY, cause="Battery below 20%", count=28, now=NOW)
    open_item(ItemKind.SILENT, cause="=Silent for over 24 h", count=3, now=NOW)
    Item.objects.filter(kind="silent").update(assigned_to=owner, snoozed_until=NOW + LATER)
    open_item(ItemKind.NO_FIRMWARE, cause="Over by now", now=NOW)
    close_item(ItemKind.NO_FIRMWARE, now=NOW)
    mail = sent(mailoutbox, owner, "attention")
    assert mail.subject == "[Brisk Herald] Attention: 2 open"
    assert "Battery below 20% (28), since Mon 23 Nov, 02:00" in mail.body
    assert f"{owner} looks after it" in mail.body and "1 of them are put off" in mail.body
    assert "Over by now" not in mail.body
    [(name, content, _)] = mail.attachments
    assert name == "attention.csv" and "'=Silent for over 24 h" in str(content), "a spreadsheet runs no formula"


@pytest.mark.parametrize("report", ["silent", "attention"])
def test_somebody_limited_is_sent_their_part(mailoutbox: list[EmailMessage], report: str) -> None:
    mine, other = make_site("Mine"), make_site("Foreign")
    for site in (mine, other):
        make_device(site=site, name=f"of-{site.name}", last_check_in=None)
    open_item(ItemKind.SILENT, cause="Silent at Foreign", count=1, now=NOW)
    person = limited(make_user(), sites=[mine])
    mail = sent(mailoutbox, person, report)
    whole = f"{mail.subject}{mail.body}{mail.attachments}"
    assert "Foreign" not in whole and "This is the part of the fleet" in mail.body
    assert ("of-Mine" in whole) == (report == "silent")


def test_a_report_that_there_is_none_of_is_refused_here_and_by_the_database() -> None:
    answer = client_of(make_user()).post(CALL, {**BODY, "report": "cats"}, format="json")
    assert answer.status_code == 422 and answer.json()["errors"][0]["pointer"] == "/report"
    mail = made(make_user())
    with pytest.raises(IntegrityError), transaction.atomic():
        ReportMail.objects.filter(pk=mail.pk).update(report="cats")
    assert set(CONTENTS) == set(Report.values)
