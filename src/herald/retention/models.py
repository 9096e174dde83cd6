"""How long rows of each kind are kept, and what stays of those that were deleted."""

from django.conf import settings
from django.db import models
from django.db.models import Q


class KeptKind(models.Model):
    """A kind of row, and for how many days it is kept; None is for ever."""

    key = models.CharField(max_length=40, primary_key=True)
    days = models.PositiveIntegerField(null=True)
    #: written to files before it is deleted
    archives = models.BooleanField(default=False)
    #: of what is older than that, something is gone
    deleted_before = models.DateTimeField(null=True)
    deleted_rows = models.BigIntegerField(default=0)
    #: how many of them the record tells of
    recorded_rows = models.BigIntegerField(default=0)
    #: when something was deleted last
    deleted_at = models.DateTimeField(null=True)
    #: why the last pass could not go on; empty where it could
    problem = models.CharField(max_length=300, blank=True)
    changed_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    changed_at = models.DateTimeField(null=True)

    class Meta:
        verbose_name_plural = "how long things are kept"
        constraints = (
            models.CheckConstraint(condition=Q(days=None) | Q(days__gt=0), name="kept_for_some_days"),
            models.CheckConstraint(
                condition=Q(deleted_at=None, deleted_before=None, deleted_rows=0)
                | Q(deleted_at__isnull=False, deleted_before__isnull=False),
                name="kept_deleted_when",
            ),
        )


class DeletedTotal(models.Model):
    """How many rows of a kind that were deleted were of a day (UTC), about one object, and said one thing."""

    key = models.CharField(max_length=40)
    day = models.DateField()
    #: the object that the rows were about, by its id; 0 where they are not told apart
    object_id = models.BigIntegerField(default=0)
    #: what they said: "joined", for example
    what = models.CharField(max_length=120)
    count = models.BigIntegerField()

    class Meta:
        verbose_name_plural = "totals of what was deleted"
        constraints = (
            models.UniqueConstraint(fields=["key", "object_id", "day", "what"], name="deleted_total_once"),
            models.CheckConstraint(condition=Q(count__gt=0), name="deleted_total_of_something"),
        )
