"""Planning an outage, ending it, and whose silence is expected now."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import transaction
from django.db.models import Q

from herald.attention.models import ItemKind
from herald.attention.services import bring_back, put_off
from herald.fleet.models import Device, Site
from herald.groups.models import Group, GroupMembership
from herald.http.errors import Conflict, InvalidFields, NotFound
from herald.live.notify import notify
from herald.outages.models import PlannedOutage
from herald.people.models import User
from herald.record.models import Kind
from herald.record.services import record
from herald_core.rules.printer import value_text

#: a longer one is a site that is gone, and is better retired
LONGEST = timedelta(days=60)
#: those that are over are shown for so long
SHOWN_FOR = timedelta(days=7)


@dataclass(frozen=True, kw_only=True)
class Shown:
    """An outage, how many devices are meant, and how many of them have not been heard from in time."""

    outage: PlannedOutage
    devices: int
    late: int


def plan_outage(
    *,
    site: Site | None,
    group: Group | None,
    starts_at: datetime | None,
    ends_at: datetime,
    reason: str,
    actor: User,
    now: datetime,
) -> PlannedOutage:
    """Say that the devices of a site or of a group will be silent, from now on where no start is given. What wants
    attention of that site meanwhile is put off until then.

    Raises:
        InvalidFields: neither or both are named, there is no reason, or the times do not fit.
    """
    begins = starts_at or now
    problems = []
    if (site is None) == (group is None):
        problems.append(("/site", "Name a site or a group, and not both."))
    if not reason.strip():
        problems.append(("/reason", "Say why, for whoever looks at it at night."))
    if ends_at <= max(begins, now):
        problems.append(("/ends_at", "It ends before it begins, or is over."))
    elif ends_at - begins > LONGEST:
        problems.append(("/ends_at", f"It lasts over {LONGEST.days} days; retire the devices instead."))
    if problems:
        raise InvalidFields(problems)
    with transaction.atomic():
        made = PlannedOutage.objects.create(
            site=site,
            group=group,
            starts_at=begins,
            ends_at=ends_at,
            reason=reason.strip(),
            made_by=actor,
            made_at=now,
        )
        if site is not None and begins <= now:
            put_off(ItemKind.SITE_SILENT, object_kind="site", object_id=site.pk, until=ends_at)
        _note(f"Planned an outage of {made.where} until {_when(ends_at)}: {made.reason}", made, actor, now)
        notify("attention")
    return made


def end_outage(outage_id: int, *, actor: User, now: datetime) -> PlannedOutage:
    """Say that an outage is over, or will not be.

    Raises:
        NotFound: there is none. Conflict: it is over already.
    """
    with transaction.atomic():
        outage = PlannedOutage.objects.select_for_update().filter(pk=outage_id).first()
        if outage is None:
            raise NotFound("There is no such planned outage.")
        if outage.ends_at <= now:
            raise Conflict("This outage is over.")
        bring_back(ItemKind.SITE_SILENT, put_off_until=outage.ends_at)
        if outage.starts_at >= now:
            sentence = f"Called off the planned outage of {outage.where}"
            _note(sentence, outage, actor, now)
            outage.delete()
        else:
            outage.ends_at = now
            outage.save(update_fields=["ends_at"])
            _note(f"Ended the planned outage of {outage.where}", outage, actor, now)
        notify("attention")
    return outage


def outages_now(now: datetime) -> list[PlannedOutage]:
    """Those that are under way."""
    rows = PlannedOutage.objects.filter(starts_at__lte=now, ends_at__gt=now).select_related("site", "group")
    return list(rows.order_by("ends_at", "id"))


def shown_outages(now: datetime) -> list[Shown]:
    """Those under way, to come and lately over, the one that ends first first."""
    rows = PlannedOutage.objects.filter(ends_at__gt=now - SHOWN_FOR).select_related("site", "group", "made_by")
    return [_shown(outage, now) for outage in rows.order_by("ends_at", "id")]


def expected_silent(outages: Sequence[PlannedOutage]) -> Q:
    """The devices that these outages mean."""
    sites = [o.site_id for o in outages if o.site_id is not None]
    groups = [o.group_id for o in outages if o.group_id is not None]
    members = GroupMembership.objects.of_groups(groups).values("device_id")
    return Q(site__in=sites) | Q(pk__in=members) if groups else Q(site__in=sites)


def other_than(sites: Sequence[str], groups: Sequence[str]) -> str:
    """The end of a rule, which leaves out devices at these sites and in these groups."""
    parts = [("site", sites), ("group", groups)]
    told = [f" and not {field} any of ({', '.join(map(value_text, sorted(names)))})" for field, names in parts if names]
    return "".join(told)


def _shown(outage: PlannedOutage, now: datetime) -> Shown:
    devices = Device.objects.filter(expected_silent([outage]), admission="admitted")
    return Shown(outage=outage, devices=devices.count(), late=devices.late(now).count())


def _when(moment: datetime) -> str:
    return f"{moment:%-d %B %H:%M} UTC"


def _note(sentence: str, outage: PlannedOutage, actor: User, now: datetime) -> None:
    kind, about = (Kind.SITE, outage.site_id) if outage.site_id is not None else (Kind.GROUP, outage.group_id)
    record(now=now, actor=actor, kind=kind, object_id=about or 0, sentence=sentence)
