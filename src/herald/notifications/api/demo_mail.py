"""The demo's mail: what its mail server was handed stays on this machine, and is read here."""

import mailbox
from email import message_from_bytes, policy
from email.message import EmailMessage
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import Any

from django.conf import settings
from django.http import Http404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.people.models import Ability, User
from herald.people.permissions import person

MOST = 100


class DemoMail(serializers.Serializer[Any]):
    """A mail as it was handed over. Real time."""

    id = serializers.CharField()
    at = serializers.DateTimeField(allow_null=True)
    to = serializers.CharField()
    subject = serializers.CharField()
    text = serializers.CharField()


class DemoMailView(APIView):
    """What the demo mailed, the latest first: to oneself, and for administrators to everybody."""

    @extend_schema(operation_id="demo_mail", responses=DemoMail(many=True))
    def get(self, request: Request) -> Response:
        if not settings.DEMO:
            raise Http404("Only the demo keeps the mail that it sends.")
        return Response(DemoMail(_mails(settings.DATA_DIR / "mail", person(request))[:MOST], many=True).data)


def _mails(folder: Path, reader: User) -> list[dict[str, Any]]:
    if not folder.is_dir():
        return []
    everything = reader.may(Ability.ADMINISTER)
    found = []
    for key, raw in mailbox.Maildir(folder, create=False).items():
        mail = message_from_bytes(raw.as_bytes(), policy=policy.default)
        to = str(mail["To"] or "")
        if everything or to == reader.email:
            found.append({"id": key, "at": _at(mail), "to": to, "subject": str(mail["Subject"]), "text": _text(mail)})
    return sorted(found, key=lambda m: (str(m["at"]), m["id"]), reverse=True)


def _at(mail: EmailMessage) -> Any:
    return parsedate_to_datetime(str(mail["Date"])) if mail["Date"] else None


def _text(mail: EmailMessage) -> str:
    body = mail.get_body(("plain",))
    return str(body.get_content()) if body else ""
