"""Command templates: the built-in ones kept as the core has them, own ones made in the Library, and which devices can
do what one asks."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.db import connection, transaction
from django.db.models import Q
from django.utils.text import slugify

from herald.commands.models import CommandTemplate, TemplateModel
from herald.fleet.capabilities import lacking, lacking_rule, outside, read_ends, version_clauses
from herald.fleet.models import DeviceModel
from herald.http.errors import Conflict, Invalid, InvalidFields
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.actions import BUILT_IN, HARMS, NEEDS, NO_PARAMETERS, WITH_OBJECT, Action, Harm
from herald_core.parameters import parameter_problems, schema_problems
from herald_core.rules.printer import value_text

_OF_ACTION = {b.action: b for b in BUILT_IN}


@dataclass(frozen=True, kw_only=True)
class Offer:
    """A model that offers the action, from one firmware version to another; empty is open."""

    model: DeviceModel
    from_version: str = ""
    to_version: str = ""


@dataclass(frozen=True, kw_only=True)
class TemplateDraft:
    """An own template as it is written down. `schema` is asked for where the action is the manufacturer's; `defaults`
    fills the parameters of a built-in action beforehand."""

    name: str
    action: Action
    note: str = ""
    action_name: str = ""
    schema: Mapping[str, Any] = field(default_factory=dict)
    defaults: Mapping[str, Any] = field(default_factory=dict)
    harm: Harm = Harm.DISRUPTIVE
    minutes: int = 5
    offers: Sequence[Offer] = ()


def write_built_in(**_: Any) -> None:
    """Keep the built-in templates as the core has them; safe to repeat, and run after every migration."""
    if CommandTemplate._meta.db_table not in connection.introspection.table_names():
        return  # the tables were migrated to a time before templates
    for b in BUILT_IN:
        CommandTemplate.objects.update_or_create(
            key=b.key,
            defaults={
                "name": b.name,
                "note": b.note,
                "action": b.action.value,
                "schema": dict(b.schema),
                "harm": b.harm.value,
                "minutes": b.minutes,
                "is_built_in": True,
            },
        )


def verb_phrase(template: CommandTemplate) -> str:
    """How a sentence begins before its devices are named: “Restart”, “Collect logs on”."""
    return template.name if template.key in WITH_OBJECT else f"{template.name} on"


def cannot(template: CommandTemplate, prefix: str = "") -> Q:
    """Devices that cannot do it, by the model and firmware they have now. `prefix` leads to the device."""
    found = Q(pk__in=[])
    if Action(template.action) in NEEDS:
        found |= lacking(NEEDS[Action(template.action)], prefix)
    offers = list(template.offered_by.all())
    if offers or template.action == Action.NAMED:
        found |= ~Q(**{f"{prefix}model__in": [o.model_id for o in offers]})
        for offer in offers:
            found |= Q(**{f"{prefix}model": offer.model_id}) & outside(offer.from_key, offer.to_key, prefix)
    return found


def cannot_rule(template: CommandTemplate) -> str:
    """The same as the text of a rule; empty where every device can."""
    rules = [lacking_rule(NEEDS[Action(template.action)])] if Action(template.action) in NEEDS else []
    offers = list(template.offered_by.select_related("model").order_by("model__name"))
    if offers:
        rules.append(f"not ({' or '.join(_offer_rule(o) for o in offers)})")
    rules = [f"({r})" for r in rules if r]
    return " or ".join(rules)


def _offer_rule(offer: TemplateModel) -> str:
    clauses = [f"model = {value_text(offer.model.name)}", *version_clauses(offer.from_version, offer.to_version)]
    return f"({' and '.join(clauses)})"


def save_template(
    draft: TemplateDraft, *, actor: User | None, now: datetime, template: CommandTemplate | None = None
) -> CommandTemplate:
    """Write an own template down, new or in place of what `template` was.

    Raises:
        InvalidFields: a field does not fit.
        Conflict: a built-in one is changed.
        IntegrityError: the name is taken.
    """
    if template is not None and template.is_built_in:
        raise Conflict("A built-in command cannot be changed; make one of your own from it.")
    offers = _checked(draft)
    verb = "Made" if template is None else "Changed"
    with transaction.atomic():
        template = template or CommandTemplate(key=_free_key(draft.name), created_by=actor)
        template.name, template.note = draft.name, draft.note
        template.action, template.action_name = draft.action.value, draft.action_name
        template.schema = _schema(draft)
        template.harm, template.minutes = draft.harm.value, draft.minutes
        template.save()
        template.offered_by.all().delete()
        for offer in offers:
            offer.template = template
        TemplateModel.objects.bulk_create(offers)
        sentence = f"{verb} the command “{template.name}”, {draft.harm.value}"
        record(now=now, actor=actor, kind="command", object_id=template.pk, sentence=sentence)
        notify("templates", template.pk)
    return template


def defaults_of(template: CommandTemplate) -> dict[str, Any]:
    """What an own template of a built-in action fills beforehand, as it was written down."""
    if template.action == Action.NAMED:
        return {}
    given = _OF_ACTION[Action(template.action)].schema["properties"]
    own = template.schema.get("properties", {})
    return {
        key: value["default"]
        for key, value in own.items()
        if "default" in value and given.get(key, {}).get("default") != value["default"]
    }


def retire_template(template: CommandTemplate, *, actor: User | None, now: datetime) -> None:
    """Offer an own template no more. What was made from it stays.

    Raises:
        Conflict: it is built in, or something that has not ended uses it.
    """
    with transaction.atomic():
        template = CommandTemplate.objects.select_for_update().get(pk=template.pk)
        if template.is_built_in:
            raise Conflict("A built-in command cannot be removed.")
        used = template.schedules.exclude(state="ended").count()
        if used:
            raise Conflict(f"{used} scheduled command{'s' if used > 1 else ''} not ended use it; end them first.")
        if template.retired_at is None:
            CommandTemplate.objects.filter(pk=template.pk).update(retired_at=now)
            sentence = f"Removed the command “{template.name}”"
            record(now=now, actor=actor, kind="command", object_id=template.pk, sentence=sentence)
            notify("templates", template.pk)


def _checked(draft: TemplateDraft) -> list[TemplateModel]:
    problems: list[tuple[str, str]] = []
    if not draft.name.strip():
        problems.append(("/name", "A command has a name."))
    if draft.action is Action.NAMED:
        if not draft.action_name:
            problems.append(("/action_name", "Write the manufacturer’s word for the action."))
        if not draft.offers:
            problems.append(("/models", "Say which models offer it; with none of them it is for nobody."))
        problems += [(f"/schema{place}", words) for place, words in schema_problems(draft.schema or NO_PARAMETERS)]
    else:
        built_in = _OF_ACTION[draft.action]
        if draft.action_name:
            problems.append(("/action_name", "Only an action that the manufacturer named has a word of its own."))
        if draft.schema:
            problems.append(("/schema", "The parameters of a built-in action are given; fill them with defaults."))
        if HARMS.index(draft.harm) < HARMS.index(built_in.harm):
            problems.append(("/harm", f"{built_in.name} is {built_in.harm.value}; it cannot be called less."))
        optional = {**built_in.schema, "required": []}
        problems += [(f"/defaults{place}", words) for place, words in parameter_problems(optional, draft.defaults)]
    if not 1 <= draft.minutes <= 1440:
        problems.append(("/minutes", "Minutes from 1 to 1440 are expected."))
    rows: dict[int, TemplateModel] = {}
    for index, offer in enumerate(draft.offers):
        low, high, wrong = read_ends(f"/models/{index}", offer.from_version, offer.to_version)
        problems += wrong
        if offer.model.pk in rows:
            problems.append((f"/models/{index}/model", f"{offer.model.name} is there twice."))
        rows[offer.model.pk] = TemplateModel(
            model=offer.model, from_version=offer.from_version, from_key=low, to_version=offer.to_version, to_key=high
        )
    if problems:
        raise InvalidFields(problems)
    return list(rows.values())


def _schema(draft: TemplateDraft) -> dict[str, Any]:
    """The parameters of an own template: as they were written, or a built-in action's with other defaults."""
    if draft.action is Action.NAMED:
        return dict(draft.schema or NO_PARAMETERS)
    given = _OF_ACTION[draft.action].schema
    properties = {
        key: {**value, "default": draft.defaults[key]} if key in draft.defaults else value
        for key, value in given["properties"].items()
    }
    return {**given, "properties": properties}


def _free_key(name: str) -> str:
    base = slugify(name)[:34] or "command"
    taken = set(CommandTemplate.objects.filter(key__startswith=base).values_list("key", flat=True))
    return next(k for k in (base, *(f"{base}-{n}" for n in range(2, len(taken) + 3))) if k not in taken)


def find_template(key: str) -> CommandTemplate:
    """The template of that key, or name.

    Raises:
        Invalid: there is none, or it is offered no more.
    """
    found: CommandTemplate | None = CommandTemplate.objects.filter(Q(key=key) | Q(name=key)).first()
    if found is None or found.retired_at is not None:
        known = ", ".join(CommandTemplate.objects.offered().values_list("key", flat=True))
        raise Invalid("/template", f"There is no command {key[:60]}; there are {known}.")
    return found
