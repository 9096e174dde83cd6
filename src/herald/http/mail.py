"""Handing mail to the mail server that the settings name, one at a time, without the database."""

import smtplib
from dataclasses import dataclass
from email.utils import parseaddr

from django.conf import settings
from django.core.mail import EmailMessage, get_connection

SECONDS = 15


@dataclass(frozen=True)
class Attachment:
    """A file that goes with a mail."""

    name: str
    content: bytes
    media_type: str


class MailError(Exception):
    """The mail could not be handed over; the words say why."""


def deliver(to: str, subject: str, text: str, *, message_id: str, attached: Attachment | None = None) -> str:
    """Hand one mail to the mail server, without the database; what it said, in words.

    Raises:
        MailError: it was not taken.
    """
    domain = parseaddr(settings.DEFAULT_FROM_EMAIL)[1].rpartition("@")[2] or "localhost"
    mail = EmailMessage(
        subject=f"[Brisk Herald] {' '.join(subject.split())}",
        body=text,
        to=[to],
        headers={"Message-ID": f"<{message_id}@{domain}>", "Auto-Submitted": "auto-generated"},
        connection=get_connection(timeout=SECONDS),
    )
    if attached is not None:
        mail.attach(attached.name, attached.content, attached.media_type)
    try:
        mail.send()
    except (OSError, smtplib.SMTPException, ValueError) as error:
        raise MailError(f"The mail server did not take it: {error or type(error).__name__}") from error
    return f"Handed to {settings.EMAIL_HOST} for {to}"
