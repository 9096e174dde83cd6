"""Webhooks: a CloudEvents 1.0 event in structured JSON, signed as the Standard Webhooks specification says.

The signature is the base64 of HMAC-SHA-256, with the channel's secret, over `id.timestamp.body`; whoever is called
checks it and the age of the timestamp. The id is the same each time that a message is tried again.
"""

import base64
import hashlib
import hmac
import time
from typing import Any

from cloudevents.core.bindings.http import to_structured_event
from cloudevents.core.v1.event import CloudEvent
from django.conf import settings

from herald.http.outbound import FetchError, post
from herald.notifications.models import Message

SECONDS = 15.0


class WebhookError(Exception):
    """The address did not take the call; the words say why."""


def call(message: Message) -> str:
    """Call a channel with a message; what it answered, in words.

    Raises:
        WebhookError: it cannot be reached, is refused, or did not answer 2xx.
    """
    channel, item = message.channel, message.item
    assert channel is not None
    data: dict[str, Any] = {
        "text": message.text,
        "url": f"{settings.PUBLIC_URL}{message.path}",
        "urgent": message.is_urgent,
        "made_at": message.made_at.isoformat(),
        "kind": item.kind if item else None,
        "count": item.count if item else None,
        "rule": item.rule if item else "",
        "shared": item.shared if item else [],
        "object": {"kind": item.object_kind, "id": item.object_id} if item and item.object_kind else None,
    }
    subject = f"attention/{item.pk}" if item else "test"
    kind = f"brisk-herald.attention.{message.occasion}"
    return send(channel.url, channel.secret, f"message-{message.pk}", kind, data, subject=subject)


def send(url: str, secret: str, event_id: str, kind: str, data: dict[str, Any], *, subject: str = "all") -> str:
    """Call an address with an event, without the database; what it answered, in words.

    Raises:
        WebhookError: as above.
    """
    attributes = {
        "id": event_id,
        "source": settings.PUBLIC_URL,
        "type": kind,
        "subject": subject,
        "datacontenttype": "application/json",
    }
    body = to_structured_event(CloudEvent(attributes=attributes, data=data)).body
    stamp = str(int(time.time()))
    headers = {
        "Content-Type": "application/cloudevents+json",
        "webhook-id": event_id,
        "webhook-timestamp": stamp,
        "webhook-signature": f"v1,{signature(secret, event_id, stamp, body)}",
    }
    try:
        return post(url, body, headers=headers, seconds=SECONDS)
    except FetchError as error:
        raise WebhookError(str(error)) from error


def signature(secret: str, event_id: str, stamp: str, body: bytes) -> str:
    """What proves that an event comes from here (Standard Webhooks, `v1`)."""
    digest = hmac.new(secret.encode(), f"{event_id}.{stamp}.".encode() + body, hashlib.sha256).digest()
    return base64.b64encode(digest).decode()
