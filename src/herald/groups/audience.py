"""An audience: devices in some groups or named, and not in others."""

from collections.abc import Collection, Iterable, Sequence
from typing import TYPE_CHECKING, Any, Protocol, TypeVar

from django.contrib.postgres.expressions import ArraySubquery
from django.db.models import Count, Exists, Min, Model, OuterRef, Q, QuerySet, Subquery

from herald.fleet.models import Device
from herald.fleet.services import device_ids
from herald.groups.models import Group, GroupMembership
from herald.http.errors import Invalid
from herald_core.rules.printer import value_text
from herald_core.text import in_words

if TYPE_CHECKING:
    from herald.fleet.querysets import DeviceQuerySet

#: devices that an audience may name; more are a group's matter
MOST_NAMED = 2000
#: devices named in the rule that finds an audience; of more there is no rule
_NAMED_IN_RULE = 50
T = TypeVar("T", bound=QuerySet[Any])


class HasAudience(Protocol):
    """A rollout or a schedule: groups and devices that are included, and groups that are not."""

    include: Any
    exclude: Any
    devices: Any


def members_of(include: Collection[Group], exclude: Collection[Group], named: Collection[int] = ()) -> "DeviceQuerySet":
    """Devices in any of the included groups or named, by their ids, and in none of the excluded groups. No group and no
    device is nobody."""
    if not include and not named:
        return Device.objects.none()
    inside = GroupMembership.objects.of_groups([g.pk for g in include]).values("device_id")
    members = Q(pk__in=inside) if include else Q()
    devices = Device.objects.filter(members | Q(id__any=list(named)) if named else members)
    if exclude:
        outside = GroupMembership.objects.filter(group__in=[g.pk for g in exclude], device_id=OuterRef("pk"))
        devices = devices.filter(~Exists(outside))
    return devices


def audience_query(thing: HasAudience) -> "DeviceQuerySet":
    """Whom a rollout or schedule is for, by its groups and the devices that it names."""
    return members_of(thing.include.all(), thing.exclude.all(), named_ids(thing))


def named_ids(thing: HasAudience) -> list[int]:
    """The devices that it names, by id."""
    return sorted(thing.devices.values_list("pk", flat=True))


def named_by(model: type[Model], ids: Collection[int]) -> dict[int, list[int]]:
    """The devices that each of some rollouts, or of some schedules, names, by id: all with one question."""
    through: Any = model._meta.get_field("devices").remote_field.through  # type: ignore[union-attr]
    owner = model._meta.model_name
    found: dict[int, list[int]] = {pk: [] for pk in ids}
    rows = through.objects.filter(**{f"{owner}__in": list(found)}).order_by("device_id")
    for pk, device in rows.values_list(f"{owner}_id", "device_id"):
        found[pk].append(device)
    return found


def read_named(words: Collection[str], pointer: str) -> list[int]:
    """The ids of devices that an audience names by name or uid, each once.

    Raises:
        Invalid: one is unknown, or they are too many.
        Ambiguous: a word is the name of one device and the uid of another.
    """
    if len(words) > MOST_NAMED:
        raise Invalid(pointer, f"At most {MOST_NAMED} devices are named; put {len(words)} into a group.")
    return sorted(set(device_ids(list(words), pointer)))


def audience_rule(include: Iterable[Group], exclude: Iterable[Group], named: Collection[int] = ()) -> str:
    """The text of the rule that finds the same devices; `include` or `named` is not empty. Empty where too many devices
    are named for a rule that a person could read."""

    def any_of(groups: Iterable[Group]) -> str:
        return f"group any of ({', '.join(value_text(g.name) for g in groups)})"

    if len(named) > _NAMED_IN_RULE:
        return ""
    parts = [any_of(include)] if include else []
    if named:
        uids = Device.objects.by_ids(named).order_by("uid").values_list("uid", flat=True)
        parts.append(f"uid any of ({', '.join(map(value_text, uids))})")
    within = f"({' or '.join(parts)})" if len(parts) > 1 else "".join(parts)
    without = list(exclude)
    return f"{within} and not {any_of(without)}" if without else within


def names_of(groups: Iterable[Group]) -> str:
    """Names of groups as a list in words; empty for no group."""
    return in_words([g.name for g in groups])


def audience_words(thing: HasAudience) -> str:
    """Whom it is for in words: “Field gateways and 3 devices”; empty for nobody."""
    return _in_words(_names(thing, "include"), *_named(thing))


def excluded_words(thing: HasAudience) -> str:
    """The groups that it is not for in words; empty for none."""
    return in_words(_names(thing, "exclude"))


def whom_in_words(groups: Iterable[Group], count: int, first: str) -> str:
    """Groups, and so many devices by name of which `first` is one, as an audience is said."""
    return _in_words([g.name for g in groups], count, first)


def _names(thing: HasAudience, field: str) -> list[str]:
    known: list[str] | None = getattr(thing, f"{field}_names", None)
    return [g.name for g in getattr(thing, field).all()] if known is None else known


def _in_words(groups: Sequence[str], count: int, first: str) -> str:
    words = list(groups)
    if count:
        words.append(first if count == 1 else f"{count} devices")
    return in_words(words)


def with_audience_words(things: T) -> T:
    """With what `audience_words` and `excluded_words` say, in the same query, and without the groups themselves."""
    owner = things.model._meta.model_name

    def names(field: str) -> ArraySubquery:
        through = getattr(things.model, field).through
        mine = through.objects.filter(**{owner: OuterRef("pk")}).order_by("group_id")
        return ArraySubquery(mine.values("group__name"))

    return with_named(things).annotate(include_names=names("include"), exclude_names=names("exclude"))


def with_named(things: T) -> T:
    """With what `audience_words` says of the devices that each names, in the same query."""
    through = things.model.devices.through
    owner = things.model._meta.model_name
    named = through.objects.filter(**{owner: OuterRef("pk")}).order_by().values(owner)
    return things.annotate(
        named_count=Subquery(named.annotate(n=Count("id")).values("n")),
        named_first=Subquery(named.annotate(first=Min("device__name")).values("first")),
    )


def named_count(thing: HasAudience) -> int:
    """How many devices it names."""
    return _named(thing)[0]


def _named(thing: Any) -> tuple[int, str]:
    if hasattr(thing, "named_count"):
        return thing.named_count or 0, thing.named_first or ""
    if thing.pk is None:
        return 0, ""
    found = thing.devices.aggregate(n=Count("pk"), first=Min("name"))
    return found["n"], found["first"] or ""


def named_devices(thing: HasAudience) -> list[dict[str, Any]]:
    """The devices that it names, by name, as the API shows them."""
    return list(thing.devices.order_by("name").values("id", "name"))
