"""What was counted for the calendar, and calendars that people subscribe to, with what each was last told of each
event in it."""

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q

from herald.agenda.rows import RowKind


class FeedPart(models.TextChoices):
    """What a feed may hold."""

    WINDOWS = "windows", "Hours of rollouts"
    GATES = "gates", "Gates due"
    FIRINGS = "firings", "Firings of commands"
    FREEZES = "freezes", "Freezes"


class KeptCounts(models.Model):
    """What the clock counted over the whole fleet for one kind of rows (see `agenda.keeping`)."""

    rows = models.CharField(primary_key=True, max_length=10, choices=[(k.value, k.value) for k in RowKind])
    counted_at = models.DateTimeField()
    #: the same in real time
    kept_at = models.DateTimeField()
    #: `agenda.counts.Counts`, as JSON
    counts = models.BinaryField()


class Feed(models.Model):
    """A calendar at a secret address (RFC 5545), for programs that cannot sign in. It shows what its owner chose, and
    nothing once it is deleted or its owner's account is shut."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="feeds")
    name = models.CharField(max_length=80)
    #: the secret of its address is known to nobody afterwards
    secret_hash = models.CharField(max_length=64, unique=True)
    parts = ArrayField(models.CharField(max_length=10, choices=FeedPart))
    rows = models.CharField(max_length=10, choices=[(k.value, k.value) for k in RowKind], default=RowKind.ZONE.value)
    #: the rows whose devices it is about; all of them, where none is named
    keys = ArrayField(models.CharField(max_length=64), default=list, blank=True)
    created_at = models.DateTimeField()
    last_read_at = models.DateTimeField(null=True)

    class Meta:
        constraints = (
            models.CheckConstraint(condition=~Q(parts=[]), name="feed_has_parts"),
            models.UniqueConstraint(fields=["owner", "name"], name="feed_name_once"),
        )

    def __str__(self) -> str:
        return self.name


class FeedEvent(models.Model):
    """An event as a feed last told it. Each change counts its `sequence` up; one that is called off is told so for some
    time, as programs keep what they are not told about."""

    feed = models.ForeignKey(Feed, on_delete=models.CASCADE, related_name="events")
    uid = models.CharField(max_length=200)
    digest = models.CharField(max_length=64)
    sequence = models.PositiveIntegerField(default=0)
    text = models.TextField()
    #: empty for one that repeats without an end
    ends_at = models.DateTimeField(null=True)
    cancelled_at = models.DateTimeField(null=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["feed", "uid"], name="feed_event_once"),)
