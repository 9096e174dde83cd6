"""Lists kept elsewhere that groups follow."""

from django.conf import settings
from django.db import models
from django.db.models import Q

from herald.groups.models import Group
from herald.lists.querysets import FollowedListQuerySet

#: how often a list may be read
OFTENEST, RAREST = 5, 10_080


class Names(models.TextChoices):
    """What the entries of a list name."""

    DEVICES = "devices", "Devices"
    PEOPLE = "people", "People, for the devices that they answer for"


class FollowedList(models.Model):
    """A list at an address that a static group follows: whoever stands in it is in the group, and nobody else."""

    group = models.OneToOneField(Group, on_delete=models.CASCADE, related_name="followed_list")
    url = models.CharField(max_length=1000)
    #: sent as the header Authorization to that host only, and never shown again
    authorization = models.CharField(max_length=500, blank=True)
    names = models.CharField(max_length=10, choices=Names, default=Names.DEVICES)
    #: where the list is in a JSON document (RFC 6901); empty for the document itself
    pointer = models.CharField(max_length=200, blank=True)
    #: the column, or the member of each object, that holds the entry; empty where each line or value is one
    column = models.CharField(max_length=80, blank=True)
    read_every_minutes = models.PositiveIntegerField(default=60)
    #: how many devices may join and leave within 24 hours without somebody's agreement, where something follows it
    unasked_a_day = models.PositiveIntegerField(default=0)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    #: when it was last tried; last read without an error; how often it failed in a row, and what was wrong last
    tried_at = models.DateTimeField(null=True)
    read_at = models.DateTimeField(null=True)
    failures = models.PositiveIntegerField(default=0)
    last_error = models.CharField(max_length=300, blank=True)
    #: what stood in it when it was last read: entries, devices found, and entries that led to no device, with why
    entries = models.PositiveIntegerField(default=0)
    found = models.PositiveIntegerField(default=0)
    left_out_count = models.PositiveIntegerField(default=0)
    left_out = models.JSONField(default=list)
    #: since when what it says waits for somebody's agreement, how many would join and leave, and why it waits
    waits_since = models.DateTimeField(null=True)
    joins = models.PositiveIntegerField(default=0)
    leaves = models.PositiveIntegerField(default=0)
    waits_for = models.CharField(max_length=300, blank=True)

    objects = FollowedListQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(names__in=Names.values), name="list_names_known"),
            models.CheckConstraint(condition=~Q(url=""), name="list_has_address"),
            models.CheckConstraint(
                condition=Q(read_every_minutes__range=(OFTENEST, RAREST)), name="list_read_within_a_week"
            ),
            models.CheckConstraint(
                condition=Q(waits_since=None, joins=0, leaves=0, waits_for="")
                | (Q(waits_since__isnull=False) & ~Q(waits_for="")),
                name="list_waits_whole",
            ),
        )

    def __str__(self) -> str:
        return self.url
