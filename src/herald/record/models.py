"""The record: who did what to what, as one sentence. Only ever added to."""

from datetime import datetime
from typing import Self

from django.conf import settings
from django.db import models


class Kind(models.TextChoices):
    """What an act can be about. Each is a word that people read."""

    ATTENTION = "attention", "Attention item"
    ATTRIBUTE = "attribute", "Attribute"
    CALENDAR = "calendar", "Calendar"
    CLEANING = "cleaning", "Clean-up of images"
    CODE = "code", "Enrolment code"
    COMMAND = "command", "Command of one’s own"
    CONFIGURATION = "configuration", "Configuration from files"
    CUSTODIAN = "custodian", "Custodian"
    DELIVERY = "delivery", "Delivery"
    DEVICE = "device", "Device"
    EDIT = "edit", "Edit"
    EVERYTHING = "everything", "Everything at once"
    FACT = "fact", "Fact"
    FOLDER = "folder", "Folder"
    FREEZE = "freeze", "Freeze"
    GROUP = "group", "Group"
    IMAGE = "image", "Image"
    IMPORT = "import", "Import"
    KEY = "key", "Signing key"
    MAPPING = "mapping", "Import mapping"
    MODEL = "model", "Model"
    NOTIFICATION = "notification", "Notification"
    RETENTION = "retention", "How long things are kept"
    RING_PLAN = "ring plan", "Ring plan"
    ROLLOUT = "rollout", "Rollout"
    SCHEDULE = "schedule", "Scheduled command"
    SITE = "site", "Site"
    TAG = "tag", "Tag"
    TOKEN = "token", "API token"
    USER = "user", "Person"


class RecordQuerySet(models.QuerySet["RecordEntry"]):
    def latest_first(self) -> Self:
        return self.select_related("actor", "token").order_by("-id")

    def narrowed(
        self,
        *,
        person: int | None,
        by_system: bool,
        kind: str,
        object_id: int | None,
        words: str,
        since: datetime | None,
        until: datetime | None,
    ) -> Self:
        """Those of one person, or of the system, about one kind of thing or one thing, in whose sentence each word is
        found, in [since, until); what is empty or None asks for nothing."""
        found = self.filter(actor=None) if by_system else self
        given = {
            "actor_id": person,
            "kind": kind or None,
            "object_id": object_id,
            "at__gte": since,
            "at__lt": until,
        }
        found = found.filter(**{name: value for name, value in given.items() if value is not None})
        for word in words.split()[:8]:
            found = found.filter(sentence__icontains=word)
        return found

    def by_others_since(self, moment: datetime, person: int) -> Self:
        """What the system and everybody else did since a moment, signing in and the like aside; the latest first."""
        private = (Kind.USER, Kind.TOKEN, Kind.NOTIFICATION)
        found = self.filter(at__gte=moment).exclude(kind__in=private).exclude(actor=person)
        return found.latest_first()

    def about(self, kind: str, object_id: int) -> Self:
        return self.filter(kind=kind, object_id=object_id)


class Comment(models.Model):
    """What somebody said about a rollout, a schedule or an attention item. Only ever added to."""

    kind = models.CharField(max_length=20)
    object_id = models.BigIntegerField()
    text = models.TextField()
    at = models.DateTimeField()
    author = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")

    class Meta:
        indexes = (models.Index(fields=["kind", "object_id", "-id"], name="comment_about"),)
        constraints = (
            models.CheckConstraint(
                condition=models.Q(kind__in=[Kind.ROLLOUT.value, Kind.SCHEDULE.value, Kind.ATTENTION.value]),
                name="comment_kind_known",
            ),
            models.CheckConstraint(condition=models.Q(text__gt=""), name="comment_says_something"),
        )


class ChainLink(models.Model):
    """The link of one entry in the chain over the record (`record.chain`). It has no foreign key: an entry that is
    removed must leave its link."""

    position = models.BigIntegerField(primary_key=True)
    entry_id = models.BigIntegerField(unique=True)
    hash = models.CharField(max_length=64)
    linked_at = models.DateTimeField()


class ChainStart(models.Model):
    """The last link of the entries that were deleted as they were old: the chain goes on from its hash. There is one
    row at most."""

    ONLY = 1

    position = models.BigIntegerField()
    hash = models.CharField(max_length=64)

    class Meta:
        constraints = (models.CheckConstraint(condition=models.Q(id=1), name="chain_start_once"),)


class ChainWitness(models.Model):
    """A link whose hash went out, and when, in real time."""

    at = models.DateTimeField()
    position = models.BigIntegerField()
    hash = models.CharField(max_length=64)


class RecordEntry(models.Model):
    """One act. `actor` is empty where the system acted; `token` is that by which a script of theirs did."""

    at = models.DateTimeField()
    actor = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    token = models.ForeignKey("access.ApiToken", null=True, on_delete=models.PROTECT, related_name="+", db_index=False)
    kind = models.CharField(max_length=20)
    object_id = models.BigIntegerField()
    sentence = models.TextField()
    before = models.JSONField(null=True)
    after = models.JSONField(null=True)

    objects = RecordQuerySet.as_manager()

    class Meta:
        indexes = (models.Index(fields=["kind", "object_id", "-id"], name="record_about"),)
        constraints = (models.CheckConstraint(condition=models.Q(kind__in=Kind.values), name="record_kind_known"),)
