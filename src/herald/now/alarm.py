"""When the database is away: told to those whom a file names, without database or queue, once for the machine.

The file is kept from the rules about parts that stop, while all is well. Another file says that the alarm was raised:
the processes of a machine raise it once, and one of them tells when it is over.
"""

import contextlib
import json
import os
import time
from datetime import timedelta
from pathlib import Path
from typing import Any

import structlog
from django.conf import settings

from herald.attention.models import ItemKind
from herald.http.mail import MailError, deliver
from herald.notifications import webhook
from herald.notifications.models import NotificationRule

#: for how long the database may be away before anybody is told; a restart takes less
PATIENCE = timedelta(seconds=15)
AWAY = "The database does not answer: nothing is stored and nothing moves"
BACK = "Over: the database answers again"
log = structlog.get_logger()


class Alarm:
    """Raises the alarm about a database that is away, and calls it off."""

    def __init__(self, folder: Path) -> None:
        self._recipients = folder / "alarm-recipients.json"
        self._raised = folder / "alarm-raised"

    def keep_recipients(self) -> None:
        """Write down whom the rules about parts that stop name."""
        told: dict[str, Any] = {"mails": [], "webhooks": []}
        for rule in NotificationRule.objects.filter(is_on=True).prefetch_related("recipients__person", "channels"):
            if rule.kinds and ItemKind.STOPPED_PART not in rule.kinds:
                continue
            told["mails"] += [r.person.email for r in rule.recipients.all() if r.person.is_active]
            told["webhooks"] += [{"url": c.url, "secret": c.secret} for c in rule.channels.all() if c.is_on]
        text = json.dumps(told)
        with contextlib.suppress(FileNotFoundError):
            if self._recipients.read_text() == text:
                return
        self._recipients.parent.mkdir(parents=True, exist_ok=True)
        fresh = self._recipients.with_suffix(".new")
        with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
            file.write(text)
        fresh.replace(self._recipients)

    def database_away(self) -> None:
        """The database has not answered for longer than a restart takes: tell, once for the machine."""
        try:
            os.close(os.open(self._raised, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
        except FileExistsError:
            return
        log.error("database_away")
        self._tell(AWAY)

    def database_answers(self) -> None:
        """The database answers; where the alarm was raised, tell that it is over."""
        try:
            self._raised.unlink()
        except FileNotFoundError:
            return
        self._tell(BACK)

    def _tell(self, words: str) -> None:
        try:
            told = json.loads(self._recipients.read_text())
        except (OSError, ValueError):
            log.error("nobody_to_tell", words=words)
            return
        event_id = f"alarm-{int(time.time())}"
        for address in dict.fromkeys(told["mails"] if settings.EMAIL_HOST else []):
            try:
                deliver(address, words, f"{words}.\n\n{settings.PUBLIC_URL}", message_id=f"{event_id}-{address}")
            except MailError as error:
                log.warning("alarm_not_mailed", why=str(error))
        for hook in told["webhooks"]:
            try:
                webhook.send(
                    hook["url"], hook["secret"], event_id, "brisk-herald.alarm", {"text": words, "urgent": True}
                )
            except webhook.WebhookError as error:
                log.warning("alarm_not_called", why=str(error))
