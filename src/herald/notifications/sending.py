"""Sending messages: all of a person's in one mail, each of a channel's in a call of its own; again after failures.

Whoever sends takes messages for a while first and lets the transaction end: nobody waits for a slow mail server.
A process that dies in between leaves them to the next, whose mail carries the same id.
"""

from collections import defaultdict
from collections.abc import Sequence
from datetime import datetime, timedelta

import structlog
from django.db import transaction

from herald.http.mail import MailError
from herald.live.notify import notify
from herald.notifications import mail, webhook
from herald.notifications.models import Attempt, Message, SendState

#: how long after a failure it is tried again, in real time; then no more
PAUSES = tuple(timedelta(seconds=s) for s in (10, 60, 300, 1800, 7200))
#: for how long whoever sends has messages to themselves, and how many at a time
CLAIM, MOST = timedelta(minutes=3), 100
log = structlog.get_logger()


def send_due(*, now: datetime, real_now: datetime) -> int:
    """Send what is to go out now; how many messages were tried."""
    with transaction.atomic():
        claimed = Message.objects.claimed(now, real_now, most=MOST, claim=CLAIM)
    mails: dict[int, list[Message]] = defaultdict(list)
    for message in claimed:
        if message.person_id is not None:
            mails[message.person_id].append(message)
        else:
            _try([message], real_now)
    for messages in mails.values():
        _try(messages, real_now)
    return len(claimed)


def _try(messages: Sequence[Message], real_now: datetime) -> None:
    first = messages[0]
    try:
        words = webhook.call(first) if first.channel is not None else mail.send(messages)
        ok = True
    except (MailError, webhook.WebhookError) as error:
        words, ok = str(error), False
        log.warning("message_not_sent", message=first.pk, why=words)
    with transaction.atomic():
        for message in messages:
            message.attempts += 1
            message.claimed_until = None
            if ok:
                message.state, message.sent_at, message.retry_at = SendState.SENT, real_now, None
            elif message.attempts > len(PAUSES):
                message.state, message.retry_at = SendState.FAILED, None
            else:
                message.retry_at = real_now + PAUSES[message.attempts - 1]
            message.save(update_fields=["attempts", "claimed_until", "state", "sent_at", "retry_at"])
        Attempt.objects.bulk_create(Attempt(message=m, at=real_now, ok=ok, words=words[:300]) for m in messages)
        notify("messages")
