"""Parameters of commands: a small part of JSON Schema that has a field on screen for each of its types."""

import re
from collections.abc import Iterator, Mapping
from typing import Any

from jsonschema import Draft202012Validator
from jsonschema.exceptions import SchemaError, ValidationError

MAX_PARAMETERS = 20
MAX_TEXT = 1_000
MAX_ENUM = 100
#: What is shown in place of a secret; sent back, it stands for the secret that is kept.
HIDDEN = "••••••"
_KEY = re.compile(r"[a-z][a-z0-9_]{0,39}\Z")
_TYPES = ("string", "integer", "number", "boolean")
#: What a parameter may say, by type; all may say these. A pattern is for built-in templates only: one that somebody
#: writes could keep the server busy for as long as it takes.
_COMMON = frozenset({"type", "title", "description", "default"})
_OF_TYPE: Mapping[str, frozenset[str]] = {
    "string": _COMMON | {"enum", "minLength", "maxLength"},
    "integer": _COMMON | {"minimum", "maximum", "x-unit"},
    "number": _COMMON | {"minimum", "maximum", "x-unit"},
    "boolean": _COMMON,
}
#: Texts in a schema that people read.
_READ = ("title", "description", "x-unit")

Problem = tuple[str, str]


def schema_problems(schema: Mapping[str, Any]) -> list[Problem]:
    """What keeps this from being the schema of a template's parameters: each place, and what would fit."""
    if set(schema) - {"type", "properties", "required", "additionalProperties"} or schema.get("type") != "object":
        return [("", "A schema has type “object”, properties, required and additionalProperties, and nothing else.")]
    properties, required = schema.get("properties", {}), schema.get("required", [])
    if not isinstance(properties, dict) or not isinstance(required, list):
        return [("/properties", "properties is an object, required a list of their names.")]
    if len(properties) > MAX_PARAMETERS:
        return [("/properties", f"A command has at most {MAX_PARAMETERS} parameters.")]
    found = [p for key, value in properties.items() for p in _of_parameter(key, value)]
    found += [
        ("/required", f"{str(k)[:40]} is required, and is no parameter.") for k in required if k not in properties
    ]
    return found


def _of_parameter(key: str, value: Any) -> Iterator[Problem]:
    place = f"/properties/{key}"
    if not _KEY.match(key):
        yield place, "A parameter's key is lower-case letters, digits and _, and begins with a letter."
        return
    if not isinstance(value, dict) or value.get("type") not in _TYPES:
        yield f"{place}/type", f"The type is one of {', '.join(_TYPES)}."
        return
    for unknown in sorted(set(value) - _OF_TYPE[value["type"]]):
        yield f"{place}/{unknown}", f"{unknown} does not go with {value['type']}."
    for name in _READ:
        if not isinstance(value.get(name, ""), str) or len(value.get(name, "")) > 200:
            yield f"{place}/{name}", "A text of at most 200 characters is expected."
    choices = value.get("enum")
    if choices is not None and (
        not isinstance(choices, list)
        or not 1 <= len(choices) <= MAX_ENUM
        or not all(isinstance(c, str) and 0 < len(c) <= 80 for c in choices)
    ):
        yield f"{place}/enum", f"1 to {MAX_ENUM} texts of at most 80 characters are expected."
    try:
        Draft202012Validator.check_schema(_without_read(value))
    except SchemaError as error:
        yield f"{place}{_pointer(error.absolute_path)}", error.message[:200]
        return
    if "default" in value and any(Draft202012Validator(_without_read(value)).iter_errors(value["default"])):
        yield f"{place}/default", "The default does not fit what the parameter asks for."


def _without_read(value: Mapping[str, Any]) -> dict[str, Any]:
    return {k: v for k, v in value.items() if k not in _READ and k != "default"}


def filled(schema: Mapping[str, Any], given: Mapping[str, Any]) -> dict[str, Any]:
    """The parameters with defaults where nothing is given."""
    defaults = {k: p["default"] for k, p in schema.get("properties", {}).items() if "default" in p}
    return {**defaults, **given}


def parameter_problems(schema: Mapping[str, Any], given: Mapping[str, Any]) -> list[Problem]:
    """What does not fit the schema: each parameter, and what would."""
    found: list[Problem] = []
    properties = schema.get("properties", {})
    for key in sorted(set(given) - set(properties)):
        known = ", ".join(properties) or "none"
        found.append((f"/{key}", f"This command has no parameter {key[:40]}; it has {known}."))
    for key in schema.get("required", []):
        if given.get(key) in (None, ""):
            found.append((f"/{key}", f"{_title(properties, key)} is needed."))
    for key, value in given.items():
        if key not in properties or (value in (None, "") and key in schema.get("required", [])):
            continue
        if isinstance(value, str) and len(value) > MAX_TEXT:
            found.append((f"/{key}", f"At most {MAX_TEXT} characters are taken."))
            continue
        error = next(Draft202012Validator(_without_read(properties[key])).iter_errors(value), None)
        if error is not None:
            found.append((f"/{key}", _said(error, properties[key])))
    return found


def _said(error: ValidationError, parameter: Mapping[str, Any]) -> str:
    """What a value must be, in words."""
    unit = f" {parameter['x-unit']}" if parameter.get("x-unit") else ""
    low, high = parameter.get("minimum"), parameter.get("maximum")
    match error.validator:
        case "enum":
            return f"One of {', '.join(parameter['enum'])} is expected."
        case "minimum" | "maximum" if low is not None and high is not None:
            return f"A number from {low} to {high}{unit} is expected."
        case "minimum":
            return f"A number from {low}{unit} on is expected."
        case "maximum":
            return f"A number up to {high}{unit} is expected."
        case "pattern":
            hint = f": {parameter['description']}" if parameter.get("description") else ""
            return f"It must fit the pattern {parameter['pattern']}{hint}."
        case "minLength" | "maxLength":
            shortest, longest = parameter.get("minLength", 0), parameter.get("maxLength", MAX_TEXT)
            return f"A text of {shortest} to {longest} characters is expected."
    words = {"string": "A text", "integer": "A whole number", "number": "A number", "boolean": "True or false"}
    return f"{words[parameter['type']]} is expected."


def shown(schema: Mapping[str, Any], given: Mapping[str, Any]) -> dict[str, Any]:
    """The parameters as they may be shown: what is secret is hidden."""
    properties = schema.get("properties", {})
    return {k: HIDDEN if properties.get(k, {}).get("x-secret") and v else v for k, v in given.items()}


def parameter_words(schema: Mapping[str, Any], given: Mapping[str, Any]) -> str:
    """The parameters in one line: “hours 24, level info”; empty for none."""
    properties = schema.get("properties", {})
    values = shown(schema, filled(schema, given))
    values = {k: v for k, v in values.items() if k in properties and v not in (None, "")}
    return ", ".join(f"{k.replace('_', ' ')} {_value_words(v)}" for k, v in values.items())


def _value_words(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value) if len(str(value)) <= 40 else f"{str(value)[:39]}…"


def _title(properties: Mapping[str, Any], key: str) -> str:
    return str(properties.get(key, {}).get("title") or key)


def _pointer(path: Any) -> str:
    return "".join(f"/{p}" for p in path)
