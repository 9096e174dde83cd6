"""Devices and what describes them."""

from datetime import datetime, timedelta

from django.contrib.postgres.fields import ArrayField
from django.contrib.postgres.indexes import GinIndex
from django.db import models
from django.db.models import Q

from herald.fleet.querysets import (
    DeviceChangeQuerySet,
    DeviceModelQuerySet,
    DeviceQuerySet,
    EnrolmentAttemptQuerySet,
    PropertyQuerySet,
)
from herald_core.capabilities import WORDS as CAPABILITY_WORDS
from herald_core.capabilities import Capability, Range
from herald_core.rules.fields import FieldType


class Admission(models.TextChoices):
    """Whether a device may get orders."""

    WAITING = "waiting", "Waiting"
    ADMITTED = "admitted", "Admitted"
    RETIRED = "retired", "Retired"


#: seconds between check-ins of a device of which nothing else is said
DEFAULT_INTERVAL_SECONDS = 900


class DeviceModel(models.Model):
    """A manufacturer's model; models of one family share their images' names."""

    name = models.CharField(max_length=60, unique=True)
    family = models.CharField(max_length=60, db_index=True)
    #: names that it had: devices go on calling themselves by them, and images are signed for them too
    former_names = ArrayField(models.CharField(max_length=60), default=list, blank=True)

    objects = DeviceModelQuerySet.as_manager()

    def __str__(self) -> str:
        return self.name


class CapabilityRange(models.Model):
    """Which firmware of a model has a capability, where not all has: from one version to another, both included, or
    none at all. Kept as they were written and as sort keys."""

    model = models.ForeignKey(DeviceModel, on_delete=models.CASCADE, related_name="capability_ranges")
    capability = models.CharField(max_length=20, choices=[(f.value, CAPABILITY_WORDS[f]) for f in Capability])
    never = models.BooleanField(default=False)
    from_version = models.CharField(max_length=64, blank=True)
    from_key = models.TextField(null=True, db_collation="C")
    to_version = models.CharField(max_length=64, blank=True)
    to_key = models.TextField(null=True, db_collation="C")

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=["model", "capability"], name="capability_once_per_model"),
            models.CheckConstraint(condition=Q(capability__in=[f.value for f in Capability]), name="capability_known"),
            models.CheckConstraint(
                condition=Q(never=True, from_key=None, to_key=None)
                | (Q(never=False) & (Q(from_key__isnull=False) | Q(to_key__isnull=False))),
                name="function_range_or_never",
            ),
            models.CheckConstraint(
                condition=Q(from_key=None) | Q(to_key=None) | Q(from_key__lte=models.F("to_key")),
                name="function_range_in_order",
            ),
        )

    @property
    def as_range(self) -> Range:
        """As the core reads it."""
        return Range(self.from_key, self.to_key, self.never)


class Site(models.Model):
    """A place. `transfers_at_once` is how many files its uplink carries at the same time."""

    name = models.CharField(max_length=80, unique=True)
    region = models.CharField(max_length=80, blank=True)
    time_zone = models.CharField(max_length=64)
    transfers_at_once = models.PositiveIntegerField(default=20)

    def __str__(self) -> str:
        return self.name


class Custodian(models.Model):
    """The one account that answers for a device."""

    name = models.CharField(max_length=80, unique=True)
    email = models.EmailField()
    tags = ArrayField(models.TextField(), default=list, blank=True)

    def __str__(self) -> str:
        return self.name


class Tag(models.Model):
    """A free label. Devices hold the slugs themselves; this holds what is said about one."""

    slug = models.CharField(max_length=60, unique=True)
    note = models.CharField(max_length=300, blank=True)
    colour = models.PositiveSmallIntegerField(default=0)

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(slug__regex=r"^[a-z0-9][a-z0-9_-]*$"), name="tag_slug_plain"),
        )


PROPERTY_TYPES = [
    FieldType.TEXT,
    FieldType.CHOICE,
    FieldType.NUMBER,
    FieldType.YES_NO,
    FieldType.DATE,
    FieldType.VERSION,
]


class PropertyDefinition(models.Model):
    """A property that rules may name: an attribute (set by operators) or a fact (reported).

    One table for both, so that the database itself keeps their keys apart.
    """

    class Source(models.TextChoices):
        ATTRIBUTE = "attribute", "Attribute"
        FACT = "fact", "Fact"

    key = models.CharField(max_length=40, unique=True)
    source = models.CharField(max_length=10, choices=Source)
    label = models.CharField(max_length=80)
    type = models.CharField(max_length=10, choices=[(t.value, t.value) for t in PROPERTY_TYPES])
    unit = models.CharField(max_length=20, blank=True)
    choices = ArrayField(models.TextField(), default=list, blank=True)
    note = models.CharField(max_length=300, blank=True)
    #: what a new device gets where nothing is said; of attributes only
    default = models.JSONField(null=True)
    #: whether a device may not go without; of attributes only
    required = models.BooleanField(default=False)
    #: its type was found in what devices report, and follows it until a person says otherwise; of facts only
    found = models.BooleanField(default=False)

    objects = PropertyQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(key__regex=r"^[a-z][a-z0-9_]*$"), name="property_key_plain"),
            models.CheckConstraint(condition=Q(type__in=[t.value for t in PROPERTY_TYPES]), name="property_type_known"),
            models.CheckConstraint(
                condition=Q(source="attribute") | Q(default=None, required=False), name="property_facts_are_reported"
            ),
            models.CheckConstraint(condition=Q(source="fact") | Q(found=False), name="property_found_is_fact"),
        )


class ReportedFact(models.Model):
    """A key under which devices report something, and what its last values are. `kinds` counts them by what they look
    like; `incompatible_values` lists the commonest of those that do not count, with how many devices report each."""

    key = models.CharField(max_length=40, unique=True)
    first_at = models.DateTimeField()
    #: none until it is counted for the first time
    counted_at = models.DateTimeField(null=True)
    devices = models.PositiveIntegerField(default=0)
    kinds = models.JSONField(default=dict)
    incompatible_values = models.JSONField(default=list)
    incompatible_count = models.PositiveIntegerField(default=0)


class Device(models.Model):
    """One device. Text is kept in Unicode NFC; `time_zone` is the one in force (own, else the site's).

    Nothing that a check-in changes is indexed except the firmware, which rarely changes: so nearly
    every check-in updates its row in place.
    """

    uid = models.CharField(max_length=80, unique=True)
    name = models.CharField(max_length=80, unique=True)
    serial = models.CharField(max_length=80, blank=True)
    model = models.ForeignKey(DeviceModel, on_delete=models.PROTECT)
    hardware_revision = models.CharField(max_length=20, blank=True)
    firmware = models.CharField(max_length=64, null=True)
    firmware_key = models.TextField(null=True, db_collation="C")
    site = models.ForeignKey(Site, null=True, on_delete=models.PROTECT)
    own_time_zone = models.CharField(max_length=64, blank=True)
    time_zone = models.CharField(max_length=64)
    custodian = models.ForeignKey(Custodian, null=True, on_delete=models.PROTECT)
    tags = ArrayField(models.TextField(), default=list, blank=True)
    attributes = models.JSONField(default=dict, blank=True)
    facts = models.JSONField(default=dict, blank=True)
    #: since when each fact has its value, by key; null or none where that is not known
    facts_since = models.JSONField(default=dict, blank=True)
    #: sort keys of the properties that are versions, by key
    version_keys = models.JSONField(default=dict, blank=True)
    healthy = models.BooleanField(default=True)
    fault = models.CharField(max_length=200, blank=True)
    admission = models.CharField(max_length=10, choices=Admission, default=Admission.WAITING)
    check_in_interval_seconds = models.PositiveIntegerField(default=DEFAULT_INTERVAL_SECONDS)
    last_check_in = models.DateTimeField(null=True)
    first_seen = models.DateTimeField(null=True)
    #: since when it is asked to say everything anew; none when it has answered
    report_asked_at = models.DateTimeField(null=True)
    #: since when somebody wants to watch it live; and until when it says everything every few seconds
    live_asked_at = models.DateTimeField(null=True)
    live_until = models.DateTimeField(null=True)
    #: digests of what it said last (firmware, health, boot), and of its last facts: equal ones are no news
    said_digest = models.BigIntegerField(null=True)
    facts_digest = models.BigIntegerField(null=True)
    #: the boot that it last named, and how often it named another: its restarts, as far as it tells of them
    boot = models.CharField(max_length=40, blank=True)
    boots = models.PositiveIntegerField(default=0)
    #: SHA-256 of the device's secret, in hex; none means that no secret opens the gateway
    secret_hash = models.CharField(max_length=64, null=True, unique=True)

    objects = DeviceQuerySet.as_manager()

    class Meta:
        indexes = (
            # devices are counted by clock, site and firmware all the time, and their rows are wide
            models.Index(
                fields=["id"],
                include=["time_zone", "site", "admission", "model", "firmware_key"],
                name="device_ground",
            ),
            GinIndex(fields=["tags"], name="device_tags"),
            GinIndex(fields=["attributes"], opclasses=["jsonb_path_ops"], name="device_attributes"),
            models.Index(fields=["firmware_key"], name="device_firmware"),
            models.Index(fields=["time_zone"], name="device_zone"),
        )
        constraints = (
            models.CheckConstraint(condition=Q(admission__in=Admission.values), name="device_admission_known"),
            models.CheckConstraint(condition=Q(check_in_interval_seconds__gte=1), name="device_interval_positive"),
            models.CheckConstraint(condition=~Q(uid="") & ~Q(name=""), name="device_has_names"),
        )

    def __str__(self) -> str:
        return self.name

    @property
    def next_call(self) -> datetime | None:
        """When it is expected to call again; None where it never checked in."""
        if self.last_check_in is None:
            return None
        return self.last_check_in + timedelta(seconds=self.check_in_interval_seconds)


def announced_uid(serial: str) -> str:
    """What stands for the UID of a device of which only the serial is known, until it first calls."""
    return f"serial:{serial}"[:80]


class EnrolmentCode(models.Model):
    """What a new device shows at its first call, and what it becomes by it."""

    label = models.CharField(max_length=80, unique=True)
    #: SHA-256 of the code, in hex
    code_hash = models.CharField(max_length=64, unique=True)
    #: whether the device is admitted at once or waits
    admit = models.BooleanField(default=False)
    #: whether only devices that were imported beforehand may use it
    known_only = models.BooleanField(default=False)
    tags = ArrayField(models.TextField(), default=list, blank=True)
    attributes = models.JSONField(default=dict, blank=True)
    site = models.ForeignKey(Site, null=True, on_delete=models.PROTECT)
    custodian = models.ForeignKey(Custodian, null=True, on_delete=models.PROTECT)
    #: how many devices may still use it; none is any number
    uses_left = models.PositiveIntegerField(null=True)
    expires_at = models.DateTimeField(null=True)


class RefusalCause(models.TextChoices):
    """Why a device was refused as it enrolled. The values are the codes that the device is answered."""

    BAD_CODE = "bad-code", "Unknown enrolment code"
    EXPIRED_CODE = "expired-code", "Expired enrolment code"
    USED_CODE = "used-code", "Enrolment code used up"
    UNKNOWN_MODEL = "unknown-model", "Unknown model"
    ENROLLED = "enrolled", "Has a secret already"
    NOT_EXPECTED = "not-expected", "Was not announced"
    RETIRED = "retired", "Is retired"
    REMOVED = "removed", "Was removed for good"


class EnrolmentAttempt(models.Model):
    """A device that was refused as it enrolled. The same refusal again is counted, not added."""

    uid = models.CharField(max_length=80)
    serial = models.CharField(max_length=80, blank=True)
    model = models.CharField(max_length=60, blank=True)
    hardware_revision = models.CharField(max_length=80, blank=True)
    #: where the call came from
    address = models.CharField(max_length=60, blank=True)
    cause = models.CharField(max_length=20, choices=RefusalCause)
    tries = models.PositiveIntegerField(default=1)
    first_at = models.DateTimeField()
    last_at = models.DateTimeField()

    objects = EnrolmentAttemptQuerySet.as_manager()

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=["uid", "cause"], name="attempt_once_per_cause"),
            models.CheckConstraint(condition=Q(cause__in=RefusalCause.values), name="attempt_cause_known"),
            models.CheckConstraint(condition=Q(tries__gte=1), name="attempt_was_tried"),
        )


class RemovedDevice(models.Model):
    """A device that was removed for good. Its uid is never taken again unless somebody lets it in."""

    uid = models.CharField(max_length=80, unique=True)
    name = models.CharField(max_length=80)
    serial = models.CharField(max_length=80, blank=True)
    removed_at = models.DateTimeField()
    #: the rollouts it took part in, whose counts are without it since
    rollouts = ArrayField(models.BigIntegerField(), default=list, blank=True)


class MembershipQueueEntry(models.Model):
    """A device whose groups must be looked at again; dequeued in the transaction that does so."""

    device = models.ForeignKey(Device, on_delete=models.CASCADE)
    at = models.DateTimeField()

    objects = DeviceChangeQuerySet.as_manager()
