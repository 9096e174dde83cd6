"""Every query about messages."""

from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Self

from django.db import models
from django.db.models import F, Q

if TYPE_CHECKING:
    from herald.notifications.models import Message


class MessageQuerySet(models.QuerySet["Message"]):
    def due(self, now: datetime, real_now: datetime) -> Self:
        """Those that are to go out now, and that nobody is at."""
        return self.filter(
            Q(retry_at=None) | Q(retry_at__lte=real_now),
            Q(claimed_until=None) | Q(claimed_until__lt=real_now),
            state="waiting",
            due_at__lte=now,
        )

    def claimed(self, now: datetime, real_now: datetime, *, most: int, claim: timedelta) -> "list[Message]":
        """Take up to `most` of those that are due for oneself, for so long; the oldest first. Within a transaction."""
        ids = list(self.due(now, real_now).order_by("id").select_for_update(skip_locked=True)[:most].values_list("pk"))
        keys = [pk for (pk,) in ids]
        self.model.objects.filter(pk__in=keys).update(claimed_until=real_now + claim)
        return list(self.model.objects.filter(pk__in=keys).select_related("person", "channel", "item").order_by("id"))

    def of_person(self, person_id: int, now: datetime) -> Self:
        """What a person finds in the program, the latest first: what is told only after a while is not there before,
        and never where it was over by then."""
        over = Q(occasion="opened", item__closed_at__isnull=False, shown_at__gt=F("item__closed_at"))
        return self.filter(person=person_id, shown_at__lte=now).exclude(over).order_by("-shown_at", "-id")

    def unread(self) -> Self:
        return self.filter(read_at=None)
