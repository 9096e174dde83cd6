"""Every kind of thing that can be kept as files: what a document of it says, what is there, and how it is written.

This list is the one place: export, comparison, application, the JSON Schema and the tests go by it. It is in the order
in which things are made, as later ones name earlier ones. Writing goes through the services that people's acts go
through, so the same is refused, and the same is on record.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.db.models import QuerySet

from herald.calendar.models import Freeze
from herald.calendar.services import FreezeDraft, delete_freeze, save_freeze
from herald.catalog.attributes import Definition, change_attribute, delete_attribute, make_attribute
from herald.catalog.facts import change_fact, define_fact
from herald.catalog.reference_data import MODELS, SITES, ReferenceTable, change_object, create_object, delete_object
from herald.catalog.tags import describe_tag
from herald.commands.models import CommandTemplate
from herald.commands.templates import Offer, TemplateDraft, defaults_of, retire_template, save_template
from herald.configuration import groups, schedules, schema
from herald.configuration.lookups import Hand, named
from herald.fleet.models import DeviceModel, PropertyDefinition, Site, Tag
from herald.groups.folders import delete_folder, make_folder
from herald.groups.models import Group
from herald.groups.services import delete_group
from herald.http.errors import Conflict
from herald.http.fields import read_moment
from herald.rollouts.compose.drafts import RingDraft, check_rings
from herald.rollouts.compose.ring_plans import delete_ring_plan, save_ring_plan
from herald.rollouts.models import RingPlan
from herald_core.actions import NO_PARAMETERS, Action, Harm
from herald_core.configuration import Document, brief
from herald_core.rings.assignment import RingKind
from herald_core.rules import FieldType


@dataclass(frozen=True, kw_only=True)
class Kind:
    """A kind of thing. `read` gives what is there, `add`, `change` and `delete` write; without `delete` what is there
    stays. `change` is given the fields that differ."""

    key: str
    #: what one of them is called
    word: str
    document: schema.DocumentSchema
    read: Callable[[], list[dict[str, Any]]]
    add: Callable[[Document, Hand], Any]
    change: Callable[[str, Document, frozenset[str], Hand], Any]
    delete: Callable[[str, Hand], Any] | None = None
    name_of: Callable[[Document], str] = field(default=lambda document: str(document["name"]))
    #: a whole document in the one form in which it is compared
    normal: Callable[[dict[str, Any]], dict[str, Any]] = field(default=lambda document: document)

    @property
    def defaults(self) -> Document:
        """What a field holds that a document leaves out."""
        return self.document.defaults


# -- models and sites ------------------------------------------------------------------------------


def _plainly(document: schema.DocumentSchema, rows: QuerySet[Any]) -> Callable[[], list[dict[str, Any]]]:
    """Reads rows whose columns are the fields of their documents."""
    return lambda: [{f: getattr(row, f) for f in document.properties} for row in rows.all()]


def _reference(key: str, table: ReferenceTable, document: schema.DocumentSchema) -> Kind:
    def row_of(name: str) -> Any:
        return table.table._default_manager.get(name=name)

    return Kind(
        key=key,
        word=table.word,
        document=document,
        read=_plainly(document, table.table._default_manager.order_by("name")),
        add=lambda d, by: create_object(table, d, actor=by.actor, now=by.now),
        change=lambda name, d, differs, by: change_object(
            table, row_of(name), {k: d[k] for k in sorted(differs)}, actor=by.actor, now=by.now
        ),
        delete=lambda name, by: delete_object(table, row_of(name), actor=by.actor, now=by.now),
    )


def _describe_tag(document: Document, by: Hand) -> None:
    describe_tag(document["slug"], note=document["note"], colour=document["colour"], actor=by.actor, now=by.now)


# -- attributes and facts --------------------------------------------------------------------------


def _definition(document: Document) -> Definition:
    return Definition(**{**document, "type": FieldType(document["type"])})


def _change_fact(name: str, document: Document, differs: frozenset[str], by: Hand) -> None:
    fields: dict[str, Any] = {k: document[k] for k in ("label", "unit", "note") if k in differs}
    if "type" in differs:
        fields["type"] = FieldType(document["type"])
    change_fact(name, **fields, actor=by.actor, now=by.now)


# -- freezes, ring plans and commands --------------------------------------------------------------

_FREEZE = ("name", "starts_at", "ends_at", "why", "repeats_yearly", "time_zone", "everywhere")


def _read_freezes() -> list[dict[str, Any]]:
    found = Freeze.objects.filter(source=None).prefetch_related("groups", "sites").order_by("name", "starts_at")
    return [
        {
            **{f: getattr(z, f) for f in _FREEZE},
            "starts_at": z.starts_at.isoformat(),
            "ends_at": z.ends_at.isoformat(),
            "groups": sorted(g.name for g in z.groups.all()),
            "sites": sorted(s.name for s in z.sites.all()),
        }
        for z in found
    ]


def _normal_freeze(document: dict[str, Any]) -> dict[str, Any]:
    """Moments in UTC, and names in their order: neither says anything else."""
    moments = {name: read_moment(document[name], name).isoformat() for name in ("starts_at", "ends_at")}
    return {**document, **moments, **{key: sorted(set(document[key])) for key in ("groups", "sites")}}


def _freeze_name(document: Document) -> str:
    return f"{document['name']} from {document['starts_at']}"


def _freeze_named(name: str) -> Freeze:
    by_name: dict[str, Freeze] = {
        _freeze_name({"name": z.name, "starts_at": z.starts_at.isoformat()}): z
        for z in Freeze.objects.filter(source=None)
    }
    return by_name[name]


def _save_freeze(document: Document, by: Hand, freeze: Freeze | None = None) -> None:
    draft = FreezeDraft(
        **{f: document[f] for f in _FREEZE if f not in ("starts_at", "ends_at")},
        starts_at=datetime.fromisoformat(document["starts_at"]),
        ends_at=datetime.fromisoformat(document["ends_at"]),
        groups=[named(Group, name, f"/groups/{n}") for n, name in enumerate(document["groups"])],
        sites=[named(Site, name, f"/sites/{n}") for n, name in enumerate(document["sites"])],
    )
    save_freeze(draft, actor=by.actor, now=by.now, freeze=freeze)


def _read_plans() -> list[dict[str, Any]]:
    names = dict(Group.objects.values_list("pk", "name"))
    plans = []
    for plan in RingPlan.objects.filter(archived=False).prefetch_related("versions").order_by("name"):
        rings = []
        for ring in plan.versions.all()[0].rings:
            # the group of a plan may be gone since
            said = {**schema.RING.defaults, **ring, "group": names.get(ring.get("group_id"))}
            rings.append(brief({k: said[k] for k in schema.RING.properties}, schema.RING.defaults))
        plans.append({"name": plan.name, "note": plan.note, "rings": rings})
    return plans


def _save_plan(document: Document, by: Hand) -> None:
    rings = [{**schema.RING.defaults, **ring} for ring in document["rings"]]
    drafts, kept = [], []
    for n, ring in enumerate(rings):
        group = named(Group, ring["group"], f"/rings/{n}/group") if ring["group"] else None
        said = {k: v for k, v in ring.items() if k not in ("group", "kind")}
        drafts.append(RingDraft(**said, kind=RingKind(ring["kind"]), group=group))
        kept.append({**said, "kind": ring["kind"], "group_id": group.pk if group else None})
    check_rings(drafts, "/rings")
    save_ring_plan(document["name"], kept, note=document["note"], actor=by.actor, now=by.now)


def _read_templates() -> list[dict[str, Any]]:
    own = CommandTemplate.objects.filter(is_built_in=False, retired_at=None)
    return [
        {
            "name": t.name,
            "action": t.action,
            "note": t.note,
            "action_name": t.action_name,
            "schema": t.schema if t.action == Action.NAMED and t.schema != NO_PARAMETERS else {},
            "defaults": defaults_of(t),
            "harm": t.harm,
            "minutes": t.minutes,
            "models": [
                brief(
                    {"model": o.model.name, "from_version": o.from_version, "to_version": o.to_version},
                    schema.OFFER.defaults,
                )
                for o in t.offered_by.select_related("model").order_by("model__name")
            ],
        }
        for t in own.order_by("name")
    ]


def _save_template(document: Document, by: Hand, template: CommandTemplate | None = None) -> None:
    if template is None and CommandTemplate.objects.filter(name=document["name"]).exists():
        raise Conflict("A command that is built in, or was removed, has this name; choose another.")
    offers = [{**schema.OFFER.defaults, **offer} for offer in document["models"]]
    draft = TemplateDraft(
        **{k: document[k] for k in ("name", "note", "action_name", "schema", "defaults", "minutes")},
        action=Action(document["action"]),
        harm=Harm(document["harm"]),
        offers=[
            Offer(**{**o, "model": named(DeviceModel, o["model"], f"/models/{n}/model")}) for n, o in enumerate(offers)
        ],
    )
    save_template(draft, actor=by.actor, now=by.now, template=template)


def _own_template(name: str) -> CommandTemplate:
    return CommandTemplate.objects.get(name=name, is_built_in=False)


KINDS: Mapping[str, Kind] = {
    kind.key: kind
    for kind in (
        _reference("models", MODELS, schema.MODEL),
        _reference("sites", SITES, schema.SITE),
        Kind(
            key="tags",
            word="tag",
            document=schema.TAG,
            name_of=lambda d: str(d["slug"]),
            read=_plainly(schema.TAG, Tag.objects.order_by("slug")),
            add=_describe_tag,
            change=lambda name, d, differs, by: _describe_tag(d, by),
        ),
        Kind(
            key="attributes",
            word="attribute",
            document=schema.ATTRIBUTE,
            name_of=lambda d: str(d["key"]),
            read=_plainly(schema.ATTRIBUTE, PropertyDefinition.objects.filter(source="attribute").order_by("key")),
            add=lambda d, by: make_attribute(_definition(d), actor=by.actor, now=by.now),
            change=lambda name, d, differs, by: change_attribute(_definition(d), actor=by.actor, now=by.now),
            delete=lambda name, by: delete_attribute(name, actor=by.actor, now=by.now),
        ),
        Kind(
            key="facts",
            word="fact",
            document=schema.FACT,
            name_of=lambda d: str(d["key"]),
            read=_plainly(schema.FACT, PropertyDefinition.objects.filter(source="fact").order_by("key")),
            add=lambda d, by: define_fact(**{**d, "type": FieldType(d["type"])}, actor=by.actor, now=by.now),
            change=_change_fact,
        ),
        Kind(
            key="folders",
            word="folder",
            document=schema.FOLDER,
            name_of=groups.folder_name,
            read=groups.read_folders,
            add=lambda d, by: make_folder(
                d["path"][-1], groups.folder_at(d["path"][:-1], "/path"), actor=by.actor, now=by.now
            ),
            change=lambda name, d, differs, by: None,  # a folder is nothing but its path
            delete=lambda name, by: delete_folder(groups.folder_named(name), actor=by.actor, now=by.now),
        ),
        Kind(
            key="groups",
            word="group",
            document=schema.GROUP,
            normal=lambda d: {**d, "rule": d["rule"].strip()},
            read=groups.read_groups,
            add=groups.add_group,
            change=groups.change_group_by,
            delete=lambda name, by: delete_group(Group.objects.get(name=name), actor=by.actor, now=by.now),
        ),
        Kind(
            key="freezes",
            word="freeze",
            document=schema.FREEZE,
            normal=_normal_freeze,
            name_of=_freeze_name,
            read=_read_freezes,
            add=_save_freeze,
            change=lambda name, d, differs, by: _save_freeze(d, by, _freeze_named(name)),
            delete=lambda name, by: delete_freeze(_freeze_named(name), actor=by.actor, now=by.now),
        ),
        Kind(
            key="ring-plans",
            word="ring plan",
            document=schema.RING_PLAN,
            normal=lambda d: {**d, "rings": [brief(ring, schema.RING.defaults) for ring in d["rings"]]},
            read=_read_plans,
            add=_save_plan,
            change=lambda name, d, differs, by: _save_plan(d, by),
            delete=lambda name, by: delete_ring_plan(RingPlan.objects.get(name=name), actor=by.actor, now=by.now),
        ),
        Kind(
            key="command-templates",
            word="command",
            document=schema.COMMAND_TEMPLATE,
            normal=lambda d: {**d, "models": [brief(offer, schema.OFFER.defaults) for offer in d["models"]]},
            read=_read_templates,
            add=_save_template,
            change=lambda name, d, differs, by: _save_template(d, by, _own_template(name)),
            delete=lambda name, by: retire_template(_own_template(name), actor=by.actor, now=by.now),
        ),
        Kind(
            key=schedules.KEY,
            word="scheduled command",
            document=schema.SCHEDULE,
            normal=schedules.normal,
            read=schedules.read,
            add=schedules.save,
            change=lambda name, d, differs, by: schedules.change(name, d, by),
            delete=schedules.end,
        ),
    )
}
