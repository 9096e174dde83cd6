"""Reports by mail: who has which sent to whom and when, and sending it.

What is sent is what its owner sees when it is sent: a part of the fleet, where they are limited to one. It stops with
their account.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, time, timedelta

import structlog
from django.conf import settings
from django.db import transaction

from herald.db.limits import limits_of
from herald.http.errors import Conflict, Invalid
from herald.http.mail import Attachment, MailError, deliver
from herald.people.models import Ability, User
from herald.record.models import Kind
from herald.record.services import record
from herald.samples.mail_contents import CONTENTS, Contents
from herald.samples.models import Report, ReportMail
from herald_core.timing.clocks import is_zone, zone
from herald_core.timing.quiet import next_at

MOST_MAILS, MOST_ADDRESSES = 20, 10
#: how long after a failure it is tried again, in real time; then not before its next day
PAUSES = tuple(timedelta(seconds=s) for s in (10, 60, 300, 1800))
#: for how long whoever sends has one to themselves
CLAIM = timedelta(minutes=3)
log = structlog.get_logger()


@dataclass(frozen=True, kw_only=True)
class ReportMailDraft:
    """Which report to whom, on which days of the week (0 is Monday), and when by the clock of a zone."""

    report: str = Report.FIRMWARE.value
    to: Sequence[str]
    days: Sequence[int]
    at: time
    zone: str


def make_report_mail(draft: ReportMailDraft, *, owner: User, now: datetime) -> ReportMail:
    """Have the report sent from now on.

    Raises:
        Conflict: this installation sends no mail, or the person has too many already.
        Invalid: no address, day or known zone, or an address that is not the person's own, where they only look.
    """
    if not settings.EMAIL_HOST:
        raise Conflict("This installation sends no mail; docs/operations.md says how it is set up.")
    addresses = sorted({a.lower() for a in draft.to})
    if not addresses:
        raise Invalid("/to", "Say to whom.")
    if not owner.may(Ability.OPERATE) and addresses != [owner.email.lower()]:
        raise Invalid("/to", f"A {owner.role} has it sent to their own address only, {owner.email}.")
    if not draft.days:
        raise Invalid("/days", "Say on which days.")
    if not is_zone(draft.zone):
        raise Invalid("/zone", f"There is no time zone “{draft.zone}”.")
    with transaction.atomic():
        if ReportMail.objects.filter(owner=owner).count() >= MOST_MAILS:
            raise Conflict(f"You have {MOST_MAILS} of them; delete one that nobody reads.")
        mail = ReportMail(
            owner=owner,
            report=draft.report,
            to=addresses,
            days=sorted(set(draft.days)),
            at=draft.at,
            zone=draft.zone,
            created_at=now,
        )
        mail.next_at = _next(mail, now)
        mail.save()
        sentence = f"Has the report of {mail.get_report_display()} sent to {', '.join(addresses)}"[:300]
        record(now=now, actor=owner, kind=Kind.NOTIFICATION, object_id=mail.pk, sentence=sentence)
    return mail


def delete_report_mail(mail: ReportMail, *, actor: User, now: datetime) -> None:
    """Have it sent no more."""
    with transaction.atomic():
        sentence = f"Has the report of {mail.get_report_display()} sent no more to {', '.join(mail.to)}"[:300]
        record(now=now, actor=actor, kind=Kind.NOTIFICATION, object_id=mail.pk, sentence=sentence)
        mail.delete()


def send_at_once(mail: ReportMail, *, now: datetime) -> None:
    """Let it be sent now as well; afterwards it goes on as it was to."""
    mail.next_at, mail.retry_at, mail.attempts = now, None, 0
    mail.save(update_fields=["next_at", "retry_at", "attempts"])


def send_due_reports(*, now: datetime, real_now: datetime) -> int:
    """Send what is due; how many were tried. Whoever sends takes one for a while first, and nobody waits for a slow
    mail server; a process that dies in between leaves it to the next, whose mails carry the same ids. After a failure
    the others wait for the next turn: who waits for a mail server that hangs sends no urgent message meanwhile."""
    tried = 0
    while True:
        with transaction.atomic():
            mail = ReportMail.objects.due(now, real_now).select_for_update(of=("self",), skip_locked=True).first()
            if mail is None:
                return tried
            mail.claimed_until = real_now + CLAIM
            mail.save(update_fields=["claimed_until"])
        tried += 1
        if not _try(mail, now=now, real_now=real_now):
            return tried


def _try(mail: ReportMail, *, now: datetime, real_now: datetime) -> bool:
    """Whether it was sent."""
    with transaction.atomic(), limits_of(mail.owner_id if mail.owner.is_limited else None):
        contents = CONTENTS[mail.report](now, mail.zone)
    subject, text = contents.subject, _words(mail, contents, now)
    attached = Attachment(f"{mail.report}.csv", contents.file, "text/csv")
    due = int(mail.next_at.timestamp())
    try:
        for n, address in enumerate(mail.to):
            deliver(address, subject, text, message_id=f"report-{mail.pk}-{due}-{n}", attached=attached)
    except MailError as error:
        log.warning("report_not_sent", report=mail.pk, why=str(error))
        mail.last_words, mail.attempts = str(error)[:300], mail.attempts + 1
        again = mail.attempts <= len(PAUSES)
        mail.retry_at = real_now + PAUSES[mail.attempts - 1] if again else None
    else:
        mail.last_sent_at, mail.last_words, again = now, "", False
    if not again:
        mail.next_at, mail.attempts, mail.retry_at = _next(mail, now), 0, None
    mail.claimed_until = None
    # nothing else of it: somebody may have changed it meanwhile, or deleted it
    fields = ("last_sent_at", "last_words", "attempts", "retry_at", "next_at", "claimed_until")
    ReportMail.objects.filter(pk=mail.pk).update(**{name: getattr(mail, name) for name in fields})
    return not mail.last_words


def _next(mail: ReportMail, now: datetime) -> datetime:
    return next_at(now, mail.at, mail.zone, days=mail.days)


def _words(mail: ReportMail, contents: Contents, now: datetime) -> str:
    here = now.astimezone(zone(mail.zone))
    parts = [f"{contents.subject}, as of {here:%a %-d %b %Y, %H:%M} ({mail.zone})."]
    if mail.owner.is_limited:
        parts.append(f"This is the part of the fleet that {mail.owner} sees.")
    parts += contents.parts
    parts += [f"{settings.PUBLIC_URL}{contents.page}", f"{mail.owner} has this sent."]
    return "\n\n".join(parts)
