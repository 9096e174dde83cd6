"""Folders and groups as documents: a folder is the names from the top down to it, a group what it is kept to."""

from typing import Any

from herald.configuration.lookups import Hand, named
from herald.fleet.models import DeviceModel
from herald.groups.models import Folder, Group, GroupKind
from herald.groups.services import change_group, create_group
from herald.http.errors import Conflict, Invalid
from herald_core.configuration import Document

BETWEEN_FOLDERS = " / "


def _paths() -> dict[int, list[str]]:
    """The names from the top down to each folder, by its id."""
    rows = {f.pk: f for f in Folder.objects.all()}

    def path(folder: Folder) -> list[str]:
        above = path(rows[folder.parent_id]) if folder.parent_id else []
        return [*above, folder.name]

    return {pk: path(folder) for pk, folder in rows.items()}


def folder_at(path: list[str], pointer: str) -> Folder | None:
    """The folder to which names lead from the top; None for no names.

    Raises:
        Invalid: there is none.
    """
    folder = None
    for name in path:
        found = Folder.objects.filter(parent=folder, name=name).first()
        if found is None:
            raise Invalid(pointer, f"There is no folder “{BETWEEN_FOLDERS.join(path)}”.")
        folder = found
    return folder


def read_folders() -> list[dict[str, Any]]:
    """Every folder, from the top down."""
    return [{"path": path} for path in sorted(_paths().values())]


def folder_name(document: Document) -> str:
    """What a folder is called among all."""
    return BETWEEN_FOLDERS.join(document["path"])


def folder_named(name: str) -> Folder:
    """The folder of this name."""
    pk = next(pk for pk, path in _paths().items() if BETWEEN_FOLDERS.join(path) == name)
    return Folder.objects.get(pk=pk)


def read_groups() -> list[dict[str, Any]]:
    """Every group, by name."""
    paths = _paths()
    return [
        {
            "name": g.name,
            "kind": g.kind,
            "rule": g.rule,
            "note": g.note,
            "folder": paths[g.folder_id] if g.folder_id else [],
            "family": g.family.name if g.family else "",
            "only_model": g.only_model.name if g.only_model else None,
        }
        for g in Group.objects.select_related("family", "only_model").order_by("name")
    ]


def _group_fields(document: Document, names: frozenset[str]) -> dict[str, Any]:
    fields: dict[str, Any] = {k: document[k] for k in ("note", "family") if k in names}
    if "rule" in names and document["kind"] == GroupKind.RULE:
        fields["rule"] = document["rule"]
    if "folder" in names:
        fields["folder"] = folder_at(document["folder"], "/folder")
    if "only_model" in names:
        model = document["only_model"]
        fields["only_model"] = named(DeviceModel, model, "/only_model") if model else None
    return fields


def add_group(document: Document, by: Hand) -> None:
    """Make a group."""
    fields = _group_fields(document, frozenset(document))
    if document["kind"] == GroupKind.STATIC and document["rule"]:
        raise Invalid("/rule", "A static group has no rule; its members are picked by hand.")
    create_group(name=document["name"], kind=document["kind"], **fields, actor=by.actor, now=by.now)


def change_group_by(name: str, document: Document, differs: frozenset[str], by: Hand) -> None:
    """Change a group in the fields that differ."""
    if "kind" in differs:
        raise Conflict("Files do not turn a static group into one by a rule, or back: do it on its page.")
    if "rule" in differs and document["kind"] == GroupKind.STATIC:
        raise Invalid("/rule", "A static group has no rule; its members are picked by hand.")
    group = Group.objects.get(name=name)
    change_group(group, **_group_fields(document, differs), actor=by.actor, now=by.now)
