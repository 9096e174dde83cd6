"""Files of devices that people import: first checked, then accepted."""

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q

from herald.fleet.models import Device
from herald.imports.querysets import RepeatedImportQuerySet


class ImportState(models.TextChoices):
    """How far an import is. Nothing is written before it is accepted."""

    CHECKING = "checking", "Being checked"
    CHECKED = "checked", "Checked, waits for you"
    APPLYING = "applying", "Writing"
    DONE = "done", "Done"
    CANCELLED = "cancelled", "Cancelled"
    FAILED = "failed", "Failed"
    UNDONE = "undone", "Undone"


class Import(models.Model):
    """A file with what its columns mean and what it would do. `mapping` is field by column heading."""

    file_name = models.CharField(max_length=200)
    content = models.BinaryField()
    headings = ArrayField(models.TextField(), default=list)
    mapping = models.JSONField(default=dict)
    state = models.CharField(max_length=10, choices=ImportState, default=ImportState.CHECKING)
    row_count = models.PositiveIntegerField(default=0)
    new_count = models.PositiveIntegerField(default=0)
    changed_count = models.PositiveIntegerField(default=0)
    unchanged_count = models.PositiveIntegerField(default=0)
    wrong_count = models.PositiveIntegerField(default=0)
    #: what it would do to groups: their ids, and how many devices would join and leave each
    differences = models.JSONField(default=list)
    written_count = models.PositiveIntegerField(default=0)
    #: rows that were looked at so far, while it is checked
    checked_count = models.PositiveIntegerField(default=0)
    #: how often a worker began with what it is at
    attempts = models.PositiveSmallIntegerField(default=0)
    #: whether one wrong row keeps all others out
    all_or_nothing = models.BooleanField(default=True)
    reason = models.CharField(max_length=300, blank=True)
    created_at = models.DateTimeField()
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")

    class Meta:
        constraints = (models.CheckConstraint(condition=Q(state__in=ImportState.values), name="import_state_known"),)


class ImportedDevice(models.Model):
    """A device that an import made or changed: its state before, none for one that was made, and after."""

    of_import = models.ForeignKey(Import, on_delete=models.CASCADE, related_name="devices", db_index=False)
    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="+")
    before = models.JSONField(null=True)
    after = models.JSONField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=["of_import", "device"], name="imported_once"),)


class SavedMapping(models.Model):
    """What the columns of a kind of file mean, kept under a name: field by column heading."""

    name = models.CharField(max_length=80, unique=True)
    mapping = models.JSONField()
    created_at = models.DateTimeField()

    class Meta:
        constraints = (models.CheckConstraint(condition=~Q(name="") & ~Q(mapping={}), name="mapping_says_something"),)


class RepeatedImport(models.Model):
    """A file at an address that is imported again and again, by what a kept mapping says of its columns."""

    name = models.CharField(max_length=80, unique=True)
    url = models.CharField(max_length=1000)
    #: sent as the header Authorization to that host only, and never shown again
    authorization = models.CharField(max_length=500, blank=True)
    mapping = models.ForeignKey(SavedMapping, on_delete=models.PROTECT, related_name="repeated")
    #: whether one wrong row keeps all others out
    all_or_nothing = models.BooleanField(default=True)
    read_every_minutes = models.PositiveIntegerField(default=1440)
    #: how many devices a file may make and change without somebody's agreement
    unasked = models.PositiveIntegerField(default=100)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    #: when it was last tried; last read without an error; how often it failed in a row, and what was wrong last
    tried_at = models.DateTimeField(null=True)
    read_at = models.DateTimeField(null=True)
    failures = models.PositiveIntegerField(default=0)
    last_error = models.CharField(max_length=300, blank=True)
    #: the SHA-256 of the file that was read last, and what became of it
    digest = models.CharField(max_length=64, blank=True)
    last_import = models.OneToOneField(Import, null=True, on_delete=models.SET_NULL, related_name="repeated")
    #: whether it was decided what becomes of it: a person decides of what a person had read
    is_judged = models.BooleanField(default=True)
    #: why it waits for somebody; empty where it does not
    waits_for = models.CharField(max_length=300, blank=True)

    objects = RepeatedImportQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=~Q(name="") & ~Q(url=""), name="repeated_import_named"),
            models.CheckConstraint(
                condition=Q(read_every_minutes__range=(60, 10_080)), name="repeated_import_within_a_week"
            ),
        )

    def __str__(self) -> str:
        return self.name


class CellError(models.Model):
    """A value of a file that cannot be taken; `row` is its line in the file, from 2."""

    of_import = models.ForeignKey(Import, on_delete=models.CASCADE, related_name="wrong")
    row = models.PositiveIntegerField()
    column = models.CharField(max_length=120)
    value = models.CharField(max_length=200)
    reason = models.CharField(max_length=300)
