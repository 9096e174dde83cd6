"""The tree of folders: who is in it, and verbs on it."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction
from django.db.models import Count, IntegerField, ProtectedError, Value

from herald.groups.models import Folder, Group, GroupMembership
from herald.http.errors import Conflict, Invalid
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.text import nfc


@dataclass(frozen=True, kw_only=True)
class FolderRow:
    """A folder with how many distinct devices are in its groups and those of the folders in it."""

    id: int
    name: str
    parent: int | None
    device_count: int


def list_folders() -> list[FolderRow]:
    """Every folder, by name."""
    folders = list(Folder.objects.order_by("name", "id"))
    groups = dict(Group.objects.values_list("pk", "folder_id"))
    counts = _devices_in(folders, groups)
    seen = {f.pk for f in folders}
    return [
        FolderRow(
            id=f.pk,
            name=f.name,
            parent=f.parent_id if f.parent_id in seen else None,  # whoever asks may not see what it is in
            device_count=counts.get(f.pk, 0),
        )
        for f in folders
    ]


def _devices_in(folders: list[Folder], groups: Mapping[int, int | None]) -> dict[int, int]:
    """How many devices are in each folder and those below it, each device once. One question, with a part for each
    folder, so that each part goes by the index."""
    parts = []
    for folder in folders:
        inside = with_below(folder.pk, folders)
        if ids := [pk for pk, folder_id in groups.items() if folder_id in inside]:
            members = GroupMembership.objects.of_groups(ids).order_by()
            parts.append(
                members.annotate(folder=Value(folder.pk, IntegerField()))
                .values_list("folder")
                .annotate(n=Count("device_id", distinct=len(ids) > 1))
            )
    return dict(parts[0].union(*parts[1:], all=True)) if parts else {}


def with_below(folder_id: int, folders: list[Folder]) -> set[int]:
    """The id of a folder and those of all below it; `folders` are all there are."""
    return {folder_id, *(f.pk for f in _below(folder_id, folders))}


def _below(folder_id: int, folders: list[Folder]) -> list[Folder]:
    children = [f for f in folders if f.parent_id == folder_id]
    return [*children, *(f for c in children for f in _below(c.pk, folders))]


def make_folder(name: str, parent: Folder | None, *, actor: User | None, now: datetime) -> Folder:
    """A new, empty folder.

    Raises:
        Invalid: the name is empty, or taken beside it.
    """
    with transaction.atomic():
        folder = Folder(parent=parent)
        _call(folder, name)
        folder.save()
        record(now=now, actor=actor, kind="folder", object_id=folder.pk, sentence=f"Made the folder “{folder.name}”")
        notify("group")
    return folder


def change_folder(
    folder: Folder, *, name: str | None = None, parent: Folder | None, actor: User | None, now: datetime
) -> Folder:
    """Rename a folder, and put it where it is to be: into `parent`, or at the top.

    Raises:
        Invalid: the name is empty or taken there, or the folder would be inside itself.
    """
    with transaction.atomic():
        folders = list(Folder.objects.select_for_update().order_by("id"))
        folder = next(f for f in folders if f.pk == folder.pk)
        if parent is not None and parent.pk in with_below(folder.pk, folders):
            raise Invalid("/parent", f"“{folder.name}” cannot be inside itself.")
        folder.parent = parent
        _call(folder, folder.name if name is None else name)
        folder.save()
        where = f"in “{parent.name}”" if parent else "at the top"
        sentence = f"The folder “{folder.name}” is now {where}"
        record(now=now, actor=actor, kind="folder", object_id=folder.pk, sentence=sentence)
        notify("group")
    return folder


def delete_folder(folder: Folder, *, actor: User | None, now: datetime) -> None:
    """Delete an empty folder.

    Raises:
        Conflict: groups or folders are in it, or people are limited to it.
    """
    with transaction.atomic():
        groups, folders = folder.groups.count(), folder.children.count()
        if groups or folders:
            words = f"{groups} groups and {folders} folders" if folders else f"{groups} groups"
            raise Conflict(f"“{folder.name}” has {words} in it. Move those first.")
        sentence = f"Deleted the folder “{folder.name}”"
        record(now=now, actor=actor, kind="folder", object_id=folder.pk, sentence=sentence)
        try:
            folder.delete()
        except ProtectedError as error:
            n = len(error.protected_objects)
            who = "1 person is" if n == 1 else f"{n} people are"
            raise Conflict(f"{who} limited to “{folder.name}”. Change their limits first.") from None
        notify("group")


def _call(folder: Folder, name: str) -> None:
    folder.name = nfc(name).strip()
    if not folder.name or len(folder.name) > 80:
        raise Invalid("/name", "A folder has a name of 1 to 80 characters.")
    if Folder.objects.filter(parent=folder.parent, name=folder.name).exclude(pk=folder.pk).exists():
        raise Invalid("/name", f"There is a folder called “{folder.name}” there already.")
