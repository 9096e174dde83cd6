"""Limiting people to folders of groups and to sites, saying what they then see, and lifting it."""

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import transaction
from django.db.models import Q

from herald.fleet.models import Device, Site
from herald.groups.folders import with_below
from herald.groups.models import Folder, Group, GroupMembership
from herald.http.errors import Conflict, InvalidFields
from herald.limits.models import FolderLimit, SiteLimit, TokenFolder, TokenSite
from herald.notifications.rules import drop_waiting
from herald.people.accounts import locked, note
from herald.people.models import ApiToken, Invitation, Role, User
from herald.people.tokens import make_token
from herald_core.text import in_words

#: told of each person whose limits change, within the same transaction, so that rooms let go of what they kept for them
on_changed: list[Callable[[User], None]] = []


@dataclass(frozen=True, kw_only=True)
class Limits:
    """Folders of groups and sites, by name. None of either is nobody's devices."""

    folders: Sequence[Folder]
    sites: Sequence[Site]

    @property
    def words(self) -> str:
        """What somebody is limited to, as it stands in a sentence."""
        parts = [f"the folder “{f.name}”" for f in self.folders] + [f"the site {s.name}" for s in self.sites]
        return in_words(parts) or "nothing"

    @property
    def kept(self) -> dict[str, list[int]]:
        """As an invitation keeps it."""
        return {"folders": [f.pk for f in self.folders], "sites": [s.pk for s in self.sites]}


@dataclass(frozen=True, kw_only=True)
class Reach:
    """What is within limits, in numbers. Groups are those in the folders, and below."""

    devices: int
    groups: int


def read_limits(folders: Collection[int], sites: Collection[int]) -> Limits:
    """The folders and sites of these ids.

    Raises:
        InvalidFields: some are not there; it says which.
    """
    found = Limits(
        folders=list(Folder.objects.filter(pk__in=folders).order_by("name")),
        sites=list(Site.objects.filter(pk__in=sites).order_by("name")),
    )
    problems = [
        (f"/limits/{field}", f"There is no {word} {pk}; it may have been deleted.")
        for field, word, wanted, rows in (
            ("folders", "folder", folders, found.folders),
            ("sites", "site", sites, found.sites),
        )
        for pk in sorted(set(wanted) - {row.pk for row in rows})
    ]
    if problems:
        raise InvalidFields(problems)
    return found


def reach_of(limits: Limits) -> Reach:
    """How many devices and groups are within limits."""
    folders = list(Folder.objects.all())
    inside = {pk for f in limits.folders for pk in with_below(f.pk, folders)}
    groups = list(Group.objects.filter(folder__in=inside).values_list("pk", flat=True))
    members = GroupMembership.objects.of_groups(groups).values("device_id")
    devices = Device.objects.filter(Q(pk__in=members) | Q(site__in=limits.sites))
    return Reach(devices=devices.count(), groups=len(groups))


def limits_of_people(people: Collection[User]) -> Mapping[int, Limits]:
    """What each of these people is limited to; whoever is not limited is left out."""
    limited = [u.pk for u in people if u.is_limited]
    folders = FolderLimit.objects.filter(person__in=limited).select_related("folder").order_by("folder__name")
    sites = SiteLimit.objects.filter(person__in=limited).select_related("site").order_by("site__name")
    return _gathered(limited, [(r.person_id, r.folder) for r in folders], [(r.person_id, r.site) for r in sites])


def limit_person(user_id: int, limits: Limits | None, *, actor: User | None, now: datetime) -> User:
    """Limit a person to folders and sites; None lifts it, and they see everything.

    Raises:
        NotFound: there is no such account. Conflict: administrators are not limited.
    """
    with transaction.atomic():
        user = locked([user_id])[0]
        if limits is not None and user.role == Role.ADMINISTRATOR:
            raise Conflict(f"{user} is an administrator, and administrators see all. Give them another role first.")
        before = limits_of_people([user]).get(user.pk)
        if (before and before.kept) == (limits and limits.kept):
            return user
        _write(user, limits)
        words = f"Limited {user} to {limits.words}" if limits else f"Lifted the limits of {user}, who sees everything"
        note(words, actor, user.pk, now, before=_as_kept(before), after=_as_kept(limits))
    return user


def make_scoped_token(
    user: User, *, name: str, days: int | None, reads_only: bool, limits: Limits | None, now: datetime
) -> str:
    """A token that opens only what is within limits; with None, what its owner sees. Its letters, shown once.

    Raises:
        InvalidFields: its owner has a token of this name, or is themselves limited, and not to these folders and sites.
    """
    if limits is not None and user.is_limited:
        _check_within(user, limits)
    with transaction.atomic():
        letters, token = make_token(
            user,
            name=name,
            days=days,
            reads_only=reads_only,
            is_limited=limits is not None,
            words=_words(limits),
            now=now,
        )
        if limits is not None:
            TokenFolder.objects.bulk_create([TokenFolder(token=token, folder=f) for f in limits.folders])
            TokenSite.objects.bulk_create([TokenSite(token=token, site=s) for s in limits.sites])
    return letters


def limits_of_tokens(found: Collection[ApiToken]) -> Mapping[int, Limits]:
    """What each of these tokens is limited to; those that are not are left out."""
    limited = [t.pk for t in found if t.is_limited]
    folders = TokenFolder.objects.filter(token__in=limited).select_related("folder").order_by("folder__name")
    sites = TokenSite.objects.filter(token__in=limited).select_related("site").order_by("site__name")
    return _gathered(limited, [(r.token_id, r.folder) for r in folders], [(r.token_id, r.site) for r in sites])


def _gathered(
    holders: Sequence[int], folders: Sequence[tuple[int, Folder]], sites: Sequence[tuple[int, Site]]
) -> dict[int, Limits]:
    """The limits of each holder, from pairs of a holder and what it is limited to; none of either is nothing."""
    found: dict[int, tuple[list[Folder], list[Site]]] = {pk: ([], []) for pk in holders}
    for pk, folder in folders:
        found[pk][0].append(folder)
    for pk, site in sites:
        found[pk][1].append(site)
    return {pk: Limits(folders=f, sites=s) for pk, (f, s) in found.items()}


def _check_within(user: User, limits: Limits) -> None:
    """Refuse a site of which somebody sees some devices only, as they are in groups of theirs."""
    whole = set(SiteLimit.objects.filter(person=user).values_list("site_id", flat=True))
    problems = [
        ("/limits/sites", f"You are not limited to the site {s.name} as a whole; name a folder instead.")
        for s in limits.sites
        if s.pk not in whole
    ]
    if problems:
        raise InvalidFields(problems)


def _words(limits: Limits | None) -> str:
    return f"for {limits.words} only" if limits is not None else ""


def take_from_invitation(user: User, invitation: Invitation) -> None:
    """Give a new account what its invitation limits it to. What has been deleted since is left out, and nothing takes
    its place."""
    if invitation.limits is None:
        return
    kept: Mapping[str, Any] = invitation.limits
    folders = Folder.objects.filter(pk__in=kept["folders"])
    _write(user, Limits(folders=list(folders), sites=list(Site.objects.filter(pk__in=kept["sites"]))))


def _write(user: User, limits: Limits | None) -> None:
    user.is_limited = limits is not None
    user.save(update_fields=["is_limited"])
    drop_waiting([user.pk])  # it may be about what is theirs to see no more
    for tell in on_changed:
        tell(user)
    FolderLimit.objects.filter(person=user).delete()
    SiteLimit.objects.filter(person=user).delete()
    if limits is not None:
        FolderLimit.objects.bulk_create([FolderLimit(person=user, folder=f) for f in limits.folders])
        SiteLimit.objects.bulk_create([SiteLimit(person=user, site=s) for s in limits.sites])


def _as_kept(limits: Limits | None) -> dict[str, str]:
    return {"sees": limits.words if limits else "everything"}
