"""What the columns of files mean: checked, and kept under names for files of the same kind."""

from collections.abc import Collection, Mapping
from datetime import datetime

from django.db import transaction

from herald.fleet.vocabulary import load_vocabulary
from herald.http.errors import Conflict, Invalid
from herald.imports.models import SavedMapping
from herald.imports.planning import OWN_FIELDS, guess_mapping
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.text import is_storable, nfc


def check_mapping(mapping: Mapping[str, str]) -> None:
    """Refuse what no file can set.

    Raises:
        Invalid: a field is unknown or named twice.
    """
    vocabulary = load_vocabulary()
    for column, key in mapping.items():
        spec = vocabulary.get(key)
        if key not in OWN_FIELDS and (spec is None or spec.source != "attribute"):
            raise Invalid(f"/mapping/{column}", f"{key[:40]} is no field that a file can set.")
        if list(mapping.values()).count(key) > 1:
            raise Invalid(f"/mapping/{column}", f"Two columns cannot both be {key}.")


def mapping_for(headings: Collection[str]) -> dict[str, str]:
    """What a file's columns mean: as it was kept for a file with the same columns, else by their names.

    Of several kept ones, the one that was kept last counts; a field that is no more is left out.
    """
    vocabulary = load_vocabulary()
    for kept in SavedMapping.objects.order_by("-created_at", "-id"):
        if set(kept.mapping) == set(headings):
            return {h: k for h, k in kept.mapping.items() if k in OWN_FIELDS or vocabulary.get(k) is not None}
    return guess_mapping(headings, vocabulary)


def keep_mapping(
    name: str, mapping: Mapping[str, str], headings: Collection[str], *, actor: User | None, now: datetime
) -> SavedMapping:
    """Keep a mapping under a name, in place of the one that had it; columns not taken are kept as such.

    Raises:
        Invalid: the name is none, or the mapping does not fit.
    """
    name = nfc(name).strip()
    if not name or len(name) > 80 or not is_storable(name):
        raise Invalid("/name", "A kept mapping has a name of 1 to 80 characters.")
    if not mapping:
        raise Invalid("/mapping", "No column means anything yet, so there is nothing to keep.")
    check_mapping(mapping)
    with transaction.atomic():
        whole = {h: mapping.get(h, "") for h in headings}
        kept, _ = SavedMapping.objects.update_or_create(name=name, defaults={"mapping": whole, "created_at": now})
        sentence = f"Kept what columns mean as “{name}”"
        record(now=now, actor=actor, kind="mapping", object_id=kept.pk, sentence=sentence)
        notify("import")
    return kept


def forget_mapping(kept: SavedMapping) -> None:
    """Delete a kept mapping; files that were read by it stay as they are.

    Raises:
        Conflict: an import that repeats goes by it.
    """
    if repeated := kept.repeated.order_by("name").first():
        raise Conflict(f"The import “{repeated}” repeats by this mapping; remove that first.")
    kept.delete()
    notify("import")
