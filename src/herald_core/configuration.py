"""Configuration kept as documents: what is wanted, against what is there.

A document says one thing of a kind, as a group or a freeze, in plain values. It is known by its name among those of its
kind. Fields that it leaves out have their defaults, so a document that says a default and one that leaves it out are
the same.
"""

import hashlib
import json
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

Document = Mapping[str, Any]


class Verb(StrEnum):
    """What is to be done with something."""

    ADD = "add"
    CHANGE = "change"
    DELETE = "delete"


@dataclass(frozen=True)
class Difference:
    """One thing that is not as it is wanted. `fields` holds what differs, before and after; of what is added, all that
    is not a default, and of what is deleted nothing."""

    kind: str
    name: str
    verb: Verb
    wanted: Document = field(default_factory=dict)
    fields: Mapping[str, tuple[Any, Any]] = field(default_factory=dict)
    #: its position among the wanted ones
    position: int = 0


@dataclass(frozen=True)
class Comparison:
    """What differs of a kind, and the names of those that are there, are not among the wanted ones, and stay."""

    differences: list[Difference]
    stays: list[str]


def complete(document: Document, defaults: Document) -> dict[str, Any]:
    """A document with each field that it leaves out."""
    return {**defaults, **document}


def brief(document: Document, defaults: Document) -> dict[str, Any]:
    """A document without the fields that hold their defaults, in the order of the document."""
    return {k: v for k, v in document.items() if k not in defaults or defaults[k] != v}


def repeated(names: Sequence[str]) -> list[str]:
    """Names that are there more than once."""
    return sorted(name for name, count in Counter(names).items() if count > 1)


def compare(
    kind: str,
    wanted: Mapping[str, Document],
    present: Mapping[str, Document],
    defaults: Document,
    *,
    deletes: bool = False,
) -> Comparison:
    """What is to be done so that everything wanted is there as it is wanted, in the order of `wanted`, both by name.

    What is there and not wanted stays, unless `deletes`.
    """
    found = []
    for position, (name, document) in enumerate(wanted.items()):
        after = complete(document, defaults)
        if name not in present:
            fields = {k: (None, v) for k, v in brief(after, defaults).items()}
            found.append(Difference(kind, name, Verb.ADD, after, fields, position))
            continue
        before = complete(present[name], defaults)
        fields = {k: (before.get(k), after.get(k)) for k in after if before.get(k) != after.get(k)}
        if fields:
            found.append(Difference(kind, name, Verb.CHANGE, after, fields, position))
    others = sorted(set(present) - set(wanted))
    if deletes:
        found += [Difference(kind, name, Verb.DELETE) for name in others]
    return Comparison(found, [] if deletes else others)


def short_digest(value: Any) -> str:
    """A short digest of plain values, the same wherever it is computed."""
    text = json.dumps(value, sort_keys=True, ensure_ascii=False, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:32]


def digest_of(differences: Sequence[Difference]) -> str:
    """A digest of all that is to be done, with what it is to be done to: it is another where the world has moved."""
    return short_digest(
        [[d.kind, d.name, d.verb.value, {k: list(v) for k, v in d.fields.items()}] for d in differences]
    )
