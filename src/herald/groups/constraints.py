"""What a group can be kept to: one model, and one family of groups that exclude each other."""

from collections.abc import Collection
from typing import TYPE_CHECKING

from django.db.models import Count

from herald.fleet.models import Device
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.models import Family, Group, GroupKind, GroupMembership
from herald.groups.rules import parse_saved_rule
from herald.http.errors import Conflict, Invalid
from herald_core.rules import Clause, Op
from herald_core.rules.printer import clause_text
from herald_core.rules.sieve import lines_of

if TYPE_CHECKING:
    from django.db.models import QuerySet

NAMED = 5


def check_model(group: Group, device_ids: "Collection[int] | QuerySet[GroupMembership, int]") -> None:
    """Refuse devices of other models than the one that the group is kept to.

    Raises:
        Conflict: with how many are of others, and some of their names.
    """
    if group.only_model is None:
        return
    others = Device.objects.by_ids(list(device_ids)).exclude(model=group.only_model)
    count = others.count()
    if count:
        names = ", ".join(others.order_by("name").values_list("name", flat=True)[:NAMED])
        more = f" and {count - NAMED} more" if count > NAMED else ""
        raise Conflict(
            f"“{group.name}” is kept to {group.only_model}, and {count} of these are of other models: {names}{more}.",
            devices=count,
        )


def check_rule(group: Group) -> None:
    """A rule of a group that is kept to a model says so itself, in a line that all its devices must pass.

    Raises:
        Invalid: the line is not there.
    """
    if group.kind != GroupKind.RULE or group.only_model is None:
        return
    wanted = Clause("model", Op.EQ, (group.only_model.name,))
    if wanted not in lines_of(parse_saved_rule(group.rule, load_vocabulary())):
        raise Invalid(
            "/rule", f"This group is kept to {group.only_model}: its rule needs the line {clause_text(wanted)}."
        )


def join_family(group: Group, name: str) -> None:
    """Put the group into the family, which is made where it is new; an empty name takes it out of its family.

    Raises:
        Invalid: the group is by rule.
        Conflict: devices are in another group of the family too; with how many in which.
    """
    if not name.strip():
        group.family = None
        return
    if group.kind != GroupKind.STATIC:
        raise Invalid("/family", "Only groups picked by hand exclude each other; a rule cannot move devices.")
    family, _ = Family.objects.get_or_create(name=name.strip()[:80])
    mine = group.memberships.values("device_id")
    shared = (
        GroupMembership.objects.in_family(family.pk)
        .exclude(group=group)
        .filter(device_id__in=mine)
        .values_list("group__name")
        .annotate(n=Count("device_id"))
        .order_by("group__name")
    )
    found = dict(shared)
    if found:
        words = ", ".join(f"{n} in “{other}”" for other, n in found.items())
        raise Conflict(f"Groups of a family share no devices, but these have {words}. Take them out of one first.")
    group.family = family


def forget_empty_families() -> None:
    """Families are made by naming them, and go with their last group."""
    Family.objects.filter(groups=None).delete()
