"""The report of firmware by mail: who may have it sent to whom, when it goes, what it holds, and what happens where a
mail server takes nothing."""

from datetime import UTC, datetime, time, timedelta
from typing import Any

import pytest
from django.core.mail import EmailMessage
from django.db import IntegrityError, transaction

from herald.fleet.models import Site
from herald.people.models import User
from herald.record.models import RecordEntry
from herald.samples.mailing import PAUSES, ReportMailDraft, make_report_mail, send_due_reports
from herald.samples.models import ReportMail
from tests.factories import NOW, make_device, make_image, make_site, make_user
from tests.server.test_limits import client_of, limited

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
CALL = "/api/v1/reports/firmware/mails"
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
