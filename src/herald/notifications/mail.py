"""Mail: all that a person is to be told now, in one message of plain text."""

from collections.abc import Sequence

from django.conf import settings

from herald.http.mail import deliver
from herald.notifications.models import Message, Occasion


def send(messages: Sequence[Message]) -> str:
    """Hand over one mail with what one person is told; what the mail server said, in words.

    Raises:
        MailError: it was not taken.
    """
    first = messages[0]
    assert first.person is not None
    subject = first.text if len(messages) == 1 else f"{len(messages)} messages"
    lines = ["\n".join([m.text, *_shared(m), f"{settings.PUBLIC_URL}{m.path}"]) for m in messages]
    lines.append(f"You are told by a rule of Brisk Herald. How you are written to: {settings.PUBLIC_URL}/account")
    return deliver(first.person.email, subject, "\n\n".join(lines), message_id=f"message-{first.pk}-{first.occasion}")


def _shared(message: Message) -> list[str]:
    """What the devices of its item share, where that is known by now: it takes up to a minute to look."""
    if message.item is None or message.occasion != Occasion.OPENED:
        return []
    return [f"They share: {cause['rule']} ({cause['words']})" for cause in message.item.shared]
