"""A change as people ask for it, checked against the fleet, and in words."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from herald.fleet.models import Admission, Custodian, Site
from herald.http.errors import InvalidFields
from herald_core.edits import Change
from herald_core.properties import DoesNotFit, read_interval, read_property, read_tag, read_zone
from herald_core.rules import Vocabulary
from herald_core.text import closest, in_words, is_storable, nfc


@dataclass(frozen=True, kw_only=True)
class RequestedEdit:
    """An edit as it is asked for: words, not yet checked. What is None is left as it is."""

    name: str | None = None
    site: str | None = None
    custodian: str | None = None
    admission: str | None = None
    #: empty for the site's
    own_time_zone: str | None = None
    #: seconds between check-ins
    interval: int | None = None
    set_attributes: Mapping[str, Any] = field(default_factory=dict)
    clear_attributes: Sequence[str] = ()
    add_tags: Sequence[str] = ()
    remove_tags: Sequence[str] = ()


def read_change(asked: RequestedEdit, vocabulary: Vocabulary) -> Change:
    """The change, with every word checked.

    Raises:
        InvalidFields: with every field that does not fit.
    """
    errors: list[tuple[str, str]] = []
    replace: dict[str, Any] = {}
    if asked.name is not None:
        replace["name"] = nfc(asked.name.strip())
        if not replace["name"] or len(replace["name"]) > 80 or not is_storable(replace["name"]):
            errors.append(("/name", "A device has a name of 1 to 80 characters."))
    _named(Site, "site", asked.site, replace, errors)
    _named(Custodian, "custodian", asked.custodian, replace, errors)
    if asked.admission is not None:
        replace["admission"] = asked.admission
        if asked.admission not in Admission.values:
            errors.append(("/admission", f"One of {', '.join(Admission.values)} is expected."))
    if asked.own_time_zone is not None:
        _read("own_time_zone", asked.own_time_zone, lambda zone: read_zone(zone) if zone else "", replace, errors)
    if asked.interval is not None:
        _read("interval", asked.interval, read_interval, replace, errors)
    change = Change(
        replace=replace,
        set_attributes=_attributes(asked.set_attributes, vocabulary, errors),
        clear_attributes=tuple(k for k in asked.clear_attributes if _may_be_cleared(k, vocabulary, errors)),
        add_tags=read_tags(asked.add_tags, "/add_tags", errors),
        remove_tags=read_tags(asked.remove_tags, "/remove_tags", errors),
    )
    if not errors and change.is_empty:
        errors.append(("", "Nothing to change was named."))
    if errors:
        raise InvalidFields(errors)
    return change


def _read(
    key: str, given: Any, read: Callable[[Any], Any], replace: dict[str, Any], errors: list[tuple[str, str]]
) -> None:
    """Put what was given into `replace`, as it is read."""
    try:
        replace[key] = read(given)
    except DoesNotFit as error:
        errors.append((f"/{key}", f"{error}."))


def _named(model: Any, key: str, word: str | None, replace: dict[str, Any], errors: list[tuple[str, str]]) -> None:
    """Put the id of the thing of that name into `replace`; an empty word clears it."""
    if word is None:
        return
    replace[key] = None
    if word.strip():
        names = dict(model.objects.values_list("name", "id"))
        replace[key] = names.get(nfc(word.strip()))
        if replace[key] is None:
            near = closest(word, names)
            hint = f" Did you mean {near}?" if near else ""
            errors.append((f"/{key}", f"There is no {key} called {word[:60]}.{hint}"))


def _attributes(given: Mapping[str, Any], vocabulary: Vocabulary, errors: list[tuple[str, str]]) -> dict[str, Any]:
    found = {}
    for key, value in given.items():
        spec = vocabulary.get(key)
        if not _is_attribute(key, vocabulary, errors) or spec is None:
            continue
        try:
            found[key] = read_property(value, spec)
        except DoesNotFit as error:
            errors.append((f"/set_attributes/{key}", f"{spec.label}: {error}."))
    return found


def _is_attribute(key: str, vocabulary: Vocabulary, errors: list[tuple[str, str]]) -> bool:
    spec = vocabulary.get(key)
    if spec is not None and spec.source == "attribute":
        return True
    why = "is not an attribute" if spec is None else "is reported by devices or built in, not set by people"
    errors.append((f"/set_attributes/{key}", f"{key[:40]} {why}."))
    return False


def _may_be_cleared(key: str, vocabulary: Vocabulary, errors: list[tuple[str, str]]) -> bool:
    if not _is_attribute(key, vocabulary, errors):
        return False
    spec = vocabulary.fields[key]
    if spec.required:
        errors.append((f"/clear_attributes/{key}", f"{spec.label} is required: give it another value instead."))
    return not spec.required


def read_tags(given: Sequence[str], pointer: str, errors: list[tuple[str, str]]) -> tuple[str, ...]:
    """The words as tags, each once; what is none is added to `errors`."""
    found = []
    for word in given:
        try:
            found.append(read_tag(word))
        except DoesNotFit as error:
            errors.append((pointer, f"{error}."))
    return tuple(dict.fromkeys(found))


def describe_edit(asked: RequestedEdit, count: int) -> str:
    """The edit as a sentence: “Set crop to olive and add the tag pilot on 12 devices”."""
    parts = [f"set {k} to {v}" for k, v in asked.set_attributes.items()]
    parts += [f"clear {k}" for k in asked.clear_attributes]
    if asked.add_tags:
        parts.append(f"add the tag{'s' * (len(asked.add_tags) > 1)} {', '.join(asked.add_tags)}")
    if asked.remove_tags:
        parts.append(f"take off the tag{'s' * (len(asked.remove_tags) > 1)} {', '.join(asked.remove_tags)}")
    for key in ("name", "site", "custodian"):
        value = getattr(asked, key)
        if value is not None:
            parts.append(f"set the {key} to {value}" if value else f"clear the {key}")
    if asked.own_time_zone is not None:
        zone = asked.own_time_zone
        parts.append(f"set the time zone to {zone}" if zone else "take the time zone of the site")
    if asked.interval is not None:
        parts.append(f"set the check-in interval to {asked.interval} s")
    if asked.admission is not None:
        parts.append({"retired": "retire", "admitted": "admit"}.get(asked.admission, f"set {asked.admission}"))
    text = in_words(parts)
    sentence = f"{text[:1].upper()}{text[1:]} on {count} device{'s' if count != 1 else ''}"
    return sentence if len(sentence) <= 300 else f"{sentence[:299]}…"


def to_json(change: Change) -> dict[str, Any]:
    """The change as it is kept with the edit."""
    return asdict(change)


def from_json(kept: Mapping[str, Any]) -> Change:
    """The change that was kept."""
    parts: dict[str, Any] = {k: tuple(v) if isinstance(v, list) else v for k, v in kept.items()}
    return Change(**parts)
