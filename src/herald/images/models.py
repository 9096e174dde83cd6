"""Firmware images."""

import uuid

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q

from herald.fleet.models import DeviceModel
from herald.images.querysets import ImageCleanupQuerySet, ImageQuerySet


class ImageStatus(models.TextChoices):
    """Whether an image may be sent."""

    NEW = "new", "New"
    APPROVED = "approved", "Approved"
    WITHDRAWN = "withdrawn", "Withdrawn"


class SigningKey(models.Model):
    """The public half of a key that signs images; the private one is in a file."""

    kid = models.CharField(max_length=64, primary_key=True)
    public_jwk = models.JSONField()
    #: the JWS of it by the key before it; empty for the first
    endorsement = models.TextField(blank=True)
    created_at = models.DateTimeField()
    #: signs nothing any more; still published, so that what it signed can be verified, until it is taken back
    retired_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)

    class Meta:
        constraints = (
            models.CheckConstraint(
                condition=Q(revoked_at=None) | Q(retired_at__isnull=False), name="key_revoked_signs_nothing"
            ),
        )


class Image(models.Model):
    """One firmware file and what it asks of a device. The file is named by its SHA-256."""

    family = models.CharField(max_length=60)
    version = models.CharField(max_length=64)
    version_key = models.TextField(db_collation="C")
    channel = models.CharField(max_length=20, default="stable")
    device_models = models.ManyToManyField(DeviceModel, through="ImageModel", related_name="images")
    hardware_revisions = ArrayField(models.CharField(max_length=20), default=list, blank=True)
    size_bytes = models.PositiveBigIntegerField()
    sha256 = models.CharField(max_length=64)
    #: JWS (RFC 7515, EdDSA) over version, size and SHA-256; empty until approved
    signature = models.TextField(blank=True)
    notes = models.TextField(blank=True)
    released_on = models.DateField(null=True)
    expires_on = models.DateField(null=True)
    min_version = models.CharField(max_length=64, blank=True)
    max_version = models.CharField(max_length=64, blank=True)
    free_space_mb = models.FloatField(null=True)
    min_battery_pct = models.FloatField(null=True)
    expected_minutes = models.PositiveIntegerField(default=10)
    #: how long a device must report good health on the version before it counts as confirmed
    soak_minutes = models.PositiveIntegerField(default=0)
    status = models.CharField(max_length=10, choices=ImageStatus, default=ImageStatus.NEW)
    added_at = models.DateTimeField(null=True)
    added_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    approved_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    #: why it was withdrawn
    reason = models.CharField(max_length=300, blank=True)
    #: its file was removed; `status_before` is what an undo gives back
    cleaned_at = models.DateTimeField(null=True)
    status_before = models.CharField(max_length=10, blank=True)

    objects = ImageQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(status__in=ImageStatus.values), name="image_status_known"),
            models.CheckConstraint(condition=Q(sha256__regex=r"^[0-9a-f]{64}$"), name="image_hash_is_sha256"),
            models.CheckConstraint(condition=~Q(status="approved", signature=""), name="image_approved_is_signed"),
            models.CheckConstraint(condition=Q(cleaned_at=None) | Q(status="withdrawn"), name="image_cleaned_not_sent"),
            models.CheckConstraint(
                condition=Q(approved_by=None) | Q(added_by=None) | ~Q(approved_by=models.F("added_by")),
                name="image_approved_by_another",
            ),
        )
        indexes = (models.Index(fields=["sha256"], name="image_hash"),)

    def __str__(self) -> str:
        return f"{self.family} {self.version}"


class ImageModel(models.Model):
    """An image fits a model. Two images of one version for one model are refused."""

    image = models.ForeignKey(Image, on_delete=models.CASCADE)
    model = models.ForeignKey(DeviceModel, on_delete=models.PROTECT)
    version_key = models.TextField(db_collation="C")

    class Meta:
        constraints = (
            models.UniqueConstraint(
                fields=["model", "version_key"],
                name="image_once_per_model_and_version",
                violation_error_message="There is an image of this version for this model already.",
            ),
        )


class Upload(models.Model):
    """A file on its way in, piece by piece; `received_bytes` are safe on disk."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    file_name = models.CharField(max_length=200)
    size_bytes = models.PositiveBigIntegerField()
    received_bytes = models.PositiveBigIntegerField(default=0)
    last_at = models.DateTimeField()
    started_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(received_bytes__lte=models.F("size_bytes")), name="upload_within_size"),
        )


class AutoApproval(models.Model):
    """Images for this model are approved as they arrive. Without a row, a second person approves them by hand."""

    model = models.OneToOneField(DeviceModel, on_delete=models.CASCADE, related_name="release_on_arrival")
    set_at = models.DateTimeField()
    set_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")


class ImageCleanup(models.Model):
    """Images whose files were removed together. It can be undone until the files are deleted for good."""

    at = models.DateTimeField()
    by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    images = models.ManyToManyField(Image, related_name="cleanups")
    freed_bytes = models.PositiveBigIntegerField()
    undone_at = models.DateTimeField(null=True)
    purged_at = models.DateTimeField(null=True)

    objects = ImageCleanupQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(undone_at=None) | Q(purged_at=None), name="cleaning_undone_or_purged"),
        )
