"""Parameters of commands: which schemas are taken, which values fit, and in which words they are refused."""

from typing import Any

import pytest

from herald_core.parameters import HIDDEN, filled, parameter_problems, parameter_words, schema_problems, shown


def schema(required: tuple[str, ...] = (), **properties: Any) -> dict[str, Any]:
    return {
        "type": "object", "properties": properties, "required": list(required), "additionalProperties": False,
    }  # fmt: skip


HOURS = {"type": "integer", "title": "Hours", "minimum": 1, "maximum": 168, "default": 24, "x-unit": "hours"}
LEVEL = {"type": "string", "enum": ["info", "error"], "default": "info"}
KEY = {"type": "string", "title": "Key", "pattern": "^[a-z]+$", "maxLength": 5, "description": "letters only"}
ALL = schema(("key",), hours=HOURS, level=LEVEL, key=KEY, quiet={"type": "boolean"}, share={"type": "number"})


@pytest.mark.parametrize(
    ("given", "pointer", "words"),
    [
        ({}, "/key", "Key is needed."),
        ({"key": ""}, "/key", "Key is needed."),
        ({"key": "a", "other": 1}, "/other", "no parameter other; it has hours, level, key"),
        ({"key": "a", "hours": 0}, "/hours", "A number from 1 to 168 hours is expected."),
        ({"key": "a", "hours": 1.5}, "/hours", "A whole number is expected."),
        ({"key": "a", "hours": "1"}, "/hours", "A whole number is expected."),
        ({"key": "a", "hours": True}, "/hours", "A whole number is expected."),
        ({"key": "a", "level": "loud"}, "/level", "One of info, error is expected."),
        ({"key": "A"}, "/key", "It must fit the pattern ^[a-z]+$: letters only."),
        ({"key": "abcdef"}, "/key", "A text of 0 to 5 characters is expected."),
        ({"key": "a" * 2000}, "/key", "At most 1000 characters are taken."),
        ({"key": "a", "quiet": "yes"}, "/quiet", "True or false is expected."),
        ({"key": "a", "share": "half"}, "/share", "A number is expected."),
    ],
)
def test_values_that_do_not_fit_are_refused_in_words(given: dict[str, Any], pointer: str, words: str) -> None:
    [(place, said)] = parameter_problems(ALL, given)
    assert place == pointer and words in said


def test_what_is_not_given_has_its_default() -> None:
    assert filled(ALL, {"key": "a", "level": "error"}) == {"hours": 24, "level": "error", "key": "a"}
    assert parameter_problems(ALL, filled(ALL, {"key": "a"})) == []


def test_parameters_in_words_and_what_is_secret_hidden() -> None:
    assert parameter_words(ALL, {"key": "a", "quiet": True}) == "hours 24, level info, key a, quiet yes"
    secret = schema(code={"type": "string", "x-secret": True})
    assert shown(secret, {"code": "x"}) == {"code": HIDDEN} and shown(secret, {"code": ""}) == {"code": ""}
    assert parameter_words(secret, {"code": "x"}) == f"code {HIDDEN}"
    assert parameter_words(schema(), {}) == ""


@pytest.mark.parametrize(
    ("given", "pointer"),
    [
        ({"type": "array"}, ""),
        ({**schema(), "allOf": []}, ""),
        ({**schema(), "properties": []}, "/properties"),
        (schema(**{f"p{n}": HOURS for n in range(21)}), "/properties"),
        (schema(Upper=HOURS), "/properties/Upper"),
        (schema(x={"type": "object"}), "/properties/x/type"),
        (schema(x=None), "/properties/x/type"),
        (schema(x={**HOURS, "pattern": "x"}), "/properties/x/pattern"),
        (schema(x={**HOURS, "title": "x" * 201}), "/properties/x/title"),
        (schema(x={**LEVEL, "enum": []}), "/properties/x/enum"),
        (schema(x={**LEVEL, "default": "loud"}), "/properties/x/default"),
        (schema(x={**HOURS, "minimum": "one", "default": 3}), "/properties/x/minimum"),
        (schema(("y",), x=HOURS), "/required"),
    ],
)
def test_schemas_that_have_no_field_on_screen_are_refused(given: dict[str, Any], pointer: str) -> None:
    assert [place for place, _ in schema_problems(given)][:1] == [pointer]


def test_a_schema_with_every_type_is_taken() -> None:
    plain = schema(hours=HOURS, level=LEVEL, quiet={"type": "boolean", "default": False}, share={"type": "number"})
    assert schema_problems(plain) == []
