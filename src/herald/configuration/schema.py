"""The JSON Schema (2020-12) of what can be kept as files: one document a thing, one list a kind."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, cast

from jsonschema import Draft202012Validator, FormatChecker
from jsonschema.exceptions import ValidationError

from herald.commands.models import FreezeChoice, LateChoice, OverlapChoice
from herald.fleet.models import PROPERTY_TYPES
from herald.groups.models import GroupKind
from herald.rollouts.models import RingKindChoice
from herald_core.actions import Action, Harm
from herald_core.facts import FOUND
from herald_core.text import is_storable
from herald_core.timing.windows import DEVICE_CLOCK

#: the form of documents; a file says which it is written in
VERSION = 1
MOST_DOCUMENTS = 5000


def _text(most: int, least: int = 0) -> dict[str, Any]:
    return {"type": "string", "minLength": least, "maxLength": most}


def _one_of(values: Iterable[str]) -> dict[str, Any]:
    return {"enum": sorted(values)}


def _list(items: Mapping[str, Any], most: int = 1000, least: int = 0) -> dict[str, Any]:
    return {"type": "array", "items": items, "maxItems": most, "minItems": least}


def _whole(least: int, most: int) -> dict[str, Any]:
    return {"type": "integer", "minimum": least, "maximum": most}


def _or_none(schema: Mapping[str, Any]) -> dict[str, Any]:
    return {"anyOf": [schema, {"type": "null"}]}


_NAME = _text(80, 1)
_YES_NO = {"type": "boolean"}
_PATH = _list(_NAME, most=20)
_MOMENT = {"type": "string", "format": "date-time", "maxLength": 40}


@dataclass(frozen=True)
class DocumentSchema:
    """The fields of a document, what those hold that it leaves out, and what it is in a sentence."""

    about: str
    properties: Mapping[str, Mapping[str, Any]]
    defaults: Mapping[str, Any]

    def as_json(self) -> dict[str, Any]:
        """As JSON Schema has it."""
        return {
            "type": "object",
            "description": self.about,
            "properties": {
                name: {**schema, "default": self.defaults[name]} if name in self.defaults else dict(schema)
                for name, schema in self.properties.items()
            },
            "required": [name for name in self.properties if name not in self.defaults],
            "additionalProperties": False,
        }


MODEL = DocumentSchema("A model of devices.", {"name": _text(60, 1), "family": _text(60, 1)}, {})
SITE = DocumentSchema(
    "A place.",
    {"name": _NAME, "region": _text(80), "time_zone": _text(64, 1), "transfers_at_once": _whole(1, 100_000)},
    {"region": "", "transfers_at_once": 20},
)
ATTRIBUTE = DocumentSchema(
    "A property that people set on devices.",
    {
        "key": _text(40, 1),
        "label": _text(80, 1),
        "type": _one_of(t.value for t in PROPERTY_TYPES),
        "unit": _text(20),
        "choices": _list(_text(200, 1)),
        "note": _text(300),
        "default": {},
        "required": _YES_NO,
    },
    {"unit": "", "choices": [], "note": "", "default": None, "required": False},
)
FACT = DocumentSchema(
    "A property that devices report. One that none has reported yet is known beforehand, so that rules may name it.",
    {
        "key": _text(40, 1),
        "label": _text(80, 1),
        "type": _one_of(t.value for t in FOUND),
        "unit": _text(20),
        "note": _text(300),
    },
    {"unit": "", "note": ""},
)
FOLDER = DocumentSchema(
    "A place for groups: the names from the top down to it.", {"path": _list(_NAME, most=20, least=1)}, {}
)
GROUP = DocumentSchema(
    "A group of devices. The members of a static one are no configuration: they stay as they are.",
    {
        "name": _NAME,
        "kind": _one_of(GroupKind.values),
        "rule": _text(20_000),
        "note": _text(500),
        "folder": _PATH,
        "family": {**_text(80), "description": "groups of one family exclude each other"},
        "only_model": _or_none(_text(60, 1)),
    },
    {"kind": "rule", "rule": "", "note": "", "folder": [], "family": "", "only_model": None},
)
FREEZE = DocumentSchema(
    "A time in which nothing is installed. It is known by its name and when it begins.",
    {
        "name": _NAME,
        "starts_at": _MOMENT,
        "ends_at": _MOMENT,
        "why": _text(300),
        "repeats_yearly": _YES_NO,
        "time_zone": _text(64, 1),
        "everywhere": _YES_NO,
        "groups": _list(_NAME),
        "sites": _list(_NAME),
    },
    {"why": "", "repeats_yearly": False, "time_zone": "UTC", "everywhere": False, "groups": [], "sites": []},
)
RING = DocumentSchema(
    "A ring of a plan.",
    {
        "name": _text(60, 1),
        "kind": _one_of(RingKindChoice.values),
        "group": _or_none(_NAME),
        "share_pct": _or_none({"type": "number", "minimum": 0.01, "maximum": 100}),
        "number": _or_none(_whole(1, 1_000_000)),
        "confirmed_pct": {"type": "number", "minimum": 1, "maximum": 100},
        "soak_minutes": _whole(0, 100_000),
        "max_unreached": _or_none(_whole(0, 10_000_000)),
        "min_tried": _or_none(_whole(1, 10_000_000)),
        "needs_approval": _YES_NO,
    },
    {
        "group": None,
        "share_pct": None,
        "number": None,
        "confirmed_pct": 95.0,
        "soak_minutes": 60,
        "max_unreached": None,
        "min_tried": None,
        "needs_approval": False,
    },
)
RING_PLAN = DocumentSchema(
    "Rings kept under a name.",
    {"name": _text(60, 1), "note": _text(300), "rings": _list(RING.as_json(), most=50, least=1)},
    {"note": ""},
)
OFFER = DocumentSchema(
    "A model that offers an action, from one version of its firmware to another.",
    {"model": _text(60, 1), "from_version": _text(64), "to_version": _text(64)},
    {"from_version": "", "to_version": ""},
)
COMMAND_TEMPLATE = DocumentSchema(
    "A command of one’s own.",
    {
        "name": _text(60, 1),
        "action": _one_of(a.value for a in Action),
        "note": _text(300),
        "action_name": _text(60),
        "schema": {"type": "object"},
        "defaults": {"type": "object"},
        "harm": _one_of(h.value for h in Harm),
        "minutes": _whole(1, 1440),
        "models": _list(OFFER.as_json()),
    },
    {
        "note": "",
        "action_name": "",
        "schema": {},
        "defaults": {},
        "harm": Harm.DISRUPTIVE.value,
        "minutes": 5,
        "models": [],
    },
)
TAG = DocumentSchema(
    "What a tag means. Which devices have it is no configuration.",
    {"slug": _text(60, 1), "note": _text(300), "colour": _whole(0, 100)},
    {"note": "", "colour": 0},
)
_LOCAL_TIME = _text(16, 16)
SCHEDULE = DocumentSchema(
    "A command that comes again and again, for groups. It is known by its name; what runs once or now is no "
    "configuration, and a destructive one is made by no file.",
    {
        "name": _NAME,
        "template": {**_text(60, 1), "description": "the name of the command"},
        "parameters": {"type": "object"},
        "reason": _text(300),
        "ticket": _text(200),
        "include": _list(_NAME, least=1),
        "exclude": _list(_NAME),
        "clock": {**_text(64, 1), "description": "device, or a time zone"},
        "starts_on": {**_text(10, 10), "description": "a day, like 2026-12-24"},
        "time_of_day": {**_text(8, 5), "description": "like 05:30"},
        "rule": {**_text(500, 1), "description": "an RRULE (RFC 5545)"},
        "excluded": _list(_LOCAL_TIME),
        "spread_minutes": _whole(0, 10_079),
        "expires_after_minutes": _whole(1, 10_080),
        "max_concurrent": _whole(1, 1_000_000),
        "at_once_per_site": _or_none(_whole(1, 1_000_000)),
        "freezes": _one_of(FreezeChoice.values),
        "late": _one_of(LateChoice.values),
        "overlap": _one_of(OverlapChoice.values),
    },
    {
        "parameters": {},
        "reason": "",
        "ticket": "",
        "exclude": [],
        "clock": DEVICE_CLOCK,
        "excluded": [],
        "spread_minutes": 20,
        "expires_after_minutes": 120,
        "max_concurrent": 500,
        "at_once_per_site": None,
        "freezes": FreezeChoice.WAIT.value,
        "late": LateChoice.DROP.value,
        "overlap": OverlapChoice.WAIT.value,
    },
)


def problems_of(documents: Mapping[str, Any], schemas: Mapping[str, DocumentSchema]) -> list[tuple[str, str]]:
    """What does not fit in lists of documents by kind, each with its place (RFC 6901)."""
    found = [
        (f"/kinds/{kind}", f"There is no kind {kind}; there are {', '.join(schemas)}.")
        for kind in documents
        if kind not in schemas
    ]
    for kind, schema in schemas.items():
        if kind in documents:
            validator = Draft202012Validator(
                _list(schema.as_json(), most=MOST_DOCUMENTS), format_checker=FormatChecker()
            )
            errors = sorted(validator.iter_errors(documents[kind]), key=lambda e: list(map(str, e.absolute_path)))
            found += [(_pointer(kind, error), _words(error)) for error in errors]
    return found[:50]


def _pointer(kind: str, error: ValidationError) -> str:
    return "/".join(["", "kinds", kind, *(str(part) for part in error.absolute_path)])


def _words(error: ValidationError) -> str:
    """What does not fit; the value itself is cut, as it may be as long as a file."""
    asked, given, schema = cast(Any, error.validator_value), cast(Any, error.instance), cast(Any, error.schema)
    if error.validator == "required":
        return f"It lacks {', '.join(name for name in asked if name not in given)}."
    if error.validator == "additionalProperties":
        known = schema["properties"]
        unknown = [name for name in given if name not in known]
        return f"{', '.join(map(str, unknown))[:100]} is not known here; known are {', '.join(known)}."
    if error.validator == "enum":
        return f"One of {', '.join(map(str, asked))} is expected."
    said = error.message if is_storable(error.message) else "It does not fit."
    return said if len(said) <= 200 else f"{said[:80]} … {said[-80:]}"


def json_schema(schemas: Mapping[str, DocumentSchema]) -> dict[str, Any]:
    """The JSON Schema of a file: it says its form, one kind, and the things of it."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Brisk Herald configuration",
        "type": "object",
        "oneOf": [
            {
                "type": "object",
                "properties": {
                    "herald": {"const": VERSION},
                    "kind": {"const": kind},
                    "things": _list(schema.as_json(), most=MOST_DOCUMENTS),
                },
                "required": ["herald", "kind", "things"],
                "additionalProperties": False,
            }
            for kind, schema in schemas.items()
        ],
    }
