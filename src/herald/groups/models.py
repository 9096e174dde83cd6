"""Groups of devices, their membership, and how it changed."""

from django.db import models
from django.db.models import Q

from herald.fleet.models import Device, DeviceModel
from herald.groups.querysets import GroupQuerySet, MembershipEventQuerySet, MembershipQuerySet


class GroupKind(models.TextChoices):
    """How a group gets its members."""

    STATIC = "static", "Picked by hand"
    RULE = "rule", "By rule"


class Folder(models.Model):
    """A place for groups in the tree."""

    name = models.CharField(max_length=80)
    parent = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="children")

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=["parent", "name"], name="folder_name_unique", nulls_distinct=False),
        )


class Family(models.Model):
    """Groups of one family exclude each other."""

    name = models.CharField(max_length=80, unique=True)


class Group(models.Model):
    """A set of devices: picked by hand, or all that a rule matches."""

    name = models.CharField(max_length=80, unique=True)
    kind = models.CharField(max_length=10, choices=GroupKind)
    rule = models.TextField(blank=True)
    #: where it was listed with counts
    member_count: int
    #: whether the rule's members change merely because time passes
    is_time_dependent = models.BooleanField(default=False)
    #: the rule that it had before it was turned static
    previous_rule = models.TextField(blank=True)
    note = models.CharField(max_length=500, blank=True)
    folder = models.ForeignKey(Folder, null=True, on_delete=models.PROTECT, related_name="groups")
    family = models.ForeignKey(Family, null=True, on_delete=models.PROTECT, related_name="groups")
    #: the one model whose devices it takes
    only_model = models.ForeignKey(DeviceModel, null=True, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField()
    updated_at = models.DateTimeField()
    #: when the whole rule was last evaluated for the whole fleet
    evaluated_at = models.DateTimeField(null=True)

    objects = GroupQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(kind__in=GroupKind.values), name="group_kind_known"),
            models.CheckConstraint(
                condition=(Q(kind="rule") & ~Q(rule="")) | Q(kind="static", rule="", is_time_dependent=False),
                name="group_rule_where_by_rule",
            ),
            models.CheckConstraint(condition=~Q(name=""), name="group_has_name"),
        )

    def __str__(self) -> str:
        return self.name


class GroupReference(models.Model):
    """Group `referrer`'s rule names group `referred`."""

    referrer = models.ForeignKey(Group, on_delete=models.CASCADE, related_name="references")
    referred = models.ForeignKey(Group, on_delete=models.PROTECT, related_name="referred_by")

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=["referrer", "referred"], name="group_reference_once"),
            models.CheckConstraint(condition=~Q(referrer=models.F("referred")), name="group_reference_not_self"),
        )


class GroupMembership(models.Model):
    """A device is in a group, since when and why.

    That the group exists is held once a statement instead of once a row (migration 0005): a rule that 30,000
    devices join is saved in half the time.
    """

    group = models.ForeignKey(
        Group, on_delete=models.CASCADE, related_name="memberships", db_index=False, db_constraint=False
    )
    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="memberships")
    since = models.DateTimeField()
    cause = models.CharField(max_length=80)

    objects = MembershipQuerySet.as_manager()

    class Meta:
        constraints = (models.UniqueConstraint(fields=["group", "device"], name="membership_once"),)


class GroupSize(models.Model):
    """How many members a group has. The database keeps it true at every change of memberships: see migration 0004."""

    group = models.OneToOneField(Group, on_delete=models.CASCADE, primary_key=True, related_name="size")
    members = models.IntegerField()

    class Meta:
        constraints = (models.CheckConstraint(condition=Q(members__gte=0), name="group_size_counts"),)


class MembershipEvent(models.Model):
    """A device joined or left a group. Written in the statement after the membership's own, which is checked."""

    group = models.ForeignKey(Group, on_delete=models.CASCADE, db_index=False, db_constraint=False)
    device = models.ForeignKey(Device, on_delete=models.CASCADE, db_constraint=False)
    at = models.DateTimeField()
    joined = models.BooleanField()
    cause = models.CharField(max_length=80)

    objects = MembershipEventQuerySet.as_manager()

    class Meta:
        indexes = (models.Index(fields=["group", "-at"], name="membership_event_group"),)
