"""Configuration exported, compared with files, and applied: what a comparison shows is what application does.

A comparison carries everything out and undoes it, so its consequences are counted and not guessed. Its digest names
each thing with what it is before and after; application takes that digest, and where the world has moved since, it
refuses.
"""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

from django.db import transaction

from herald.configuration.kinds import KINDS, Kind
from herald.configuration.lookups import Hand
from herald.configuration.models import KeptByFile
from herald.configuration.schedules import Fires, fires_of
from herald.configuration.schema import problems_of
from herald.groups.consequences.acceptance import Agreement, gated
from herald.http.errors import Conflict, DomainError, DryRun, Invalid, InvalidFields
from herald.people.models import User
from herald.record.models import Kind as Subject
from herald.record.services import record
from herald_core.configuration import (
    Difference,
    Document,
    Verb,
    brief,
    compare,
    complete,
    digest_of,
    repeated,
    short_digest,
)

#: lists of documents, by their kind
Documents = Mapping[str, Sequence[Document]]
#: so many things that cannot be done are told at once
MOST_PROBLEMS = 20


class Moved(Conflict):
    """What is there, or what would follow, is not what was agreed to any more."""

    code = "configuration-moved"
    title = "The configuration has moved"


@dataclass(frozen=True, kw_only=True)
class Plan:
    """What is to be done. `stays` are the names, by kind, of what is there and stands in no file."""

    differences: list[Difference]
    stays: Mapping[str, list[str]]
    #: the names, by kind, of all that the files say
    named: Mapping[str, Collection[str]]
    #: when commands that are new or changed fire next
    fires: Sequence[Fires] = ()
    consequences: Mapping[str, Any] = field(default_factory=dict)

    @property
    def digest(self) -> str:
        """What is to be done, as it is sent back; that of the consequences is agreed to as for every change."""
        return digest_of(self.differences)


@dataclass(frozen=True, kw_only=True)
class Origin:
    """Where files come from: the file of each kind, and what they call their state."""

    files: Mapping[str, str] = field(default_factory=dict)
    revision: str = ""


def export() -> dict[str, list[dict[str, Any]]]:
    """All that can be kept as files, as documents without their defaults."""
    return {kind.key: [brief(document, kind.defaults) for document in kind.read()] for kind in KINDS.values()}


def compare_with(documents: Documents, *, deletes: bool, now: datetime) -> Plan:
    """What applying documents would do, and what that sets off; nothing is changed. Kinds that are not named are
    left alone.

    Raises:
        InvalidFields: a document does not fit, or cannot be carried out; with every place.
    """
    plan = _plan(documents, deletes=deletes)
    if not plan.differences:
        return plan
    fires: list[Fires] = []
    try:
        with gated(Agreement(dry_run=True), now=now, cause="configuration from files"):
            _carry_out(plan, Hand(None, now))
            fires += fires_of(plan.differences, now)
    except DryRun as shown:
        return replace(plan, fires=fires, consequences=shown.told)
    raise AssertionError("a dry run ends with what it would do")


def apply(
    documents: Documents,
    *,
    deletes: bool,
    digest: str,
    agreement: Agreement | None,
    origin: Origin,
    actor: User | None,
    now: datetime,
) -> Plan:
    """Apply documents, in one transaction, where what is to be done is what `digest` was computed of.

    Raises:
        InvalidFields: a document does not fit, or cannot be carried out; with every place.
        Moved: it is not.
        NotAgreed: it reaches more devices of something that runs than was agreed to.
    """
    with gated(agreement, now=now, cause="configuration from files"):
        plan = _plan(documents, deletes=deletes)
        if plan.digest != digest:
            raise Moved("What is there has changed since you compared. Nothing was changed; compare again.")
        _carry_out(plan, Hand(actor, now))
        _note_origins(plan, origin, actor, now)
        if plan.differences:
            record(now=now, actor=actor, kind=Subject.CONFIGURATION, object_id=0, sentence=_sentence(plan, origin))
    return plan


def origin_of(kind: str, name: str) -> tuple[KeptByFile, bool] | None:
    """From which file a thing was applied last, and whether it was changed since; None where it is in none."""
    kept = KeptByFile.objects.select_related("applied_by").filter(kind=kind, name=name).first()
    if kept is None or kind not in KINDS:
        return None
    present = _by_name(KINDS[kind], KINDS[kind].read())
    if name not in present:
        return None
    return kept, short_digest(complete(present[name], KINDS[kind].defaults)) != kept.digest


def _plan(documents: Documents, *, deletes: bool) -> Plan:
    problems = problems_of(documents, {k.key: k.document for k in KINDS.values()})
    if problems:
        raise InvalidFields(problems)
    differences, stays, named = [], {}, {}
    for kind in KINDS.values():
        if kind.key not in documents:
            continue
        wanted = _wanted(kind, documents)
        if twice := repeated([kind.name_of(d) for d in wanted]):
            raise InvalidFields([(f"/kinds/{kind.key}", f"{', '.join(twice[:5])} is there more than once.")])
        by_name = _by_name(kind, wanted)
        found = compare(
            kind.key,
            by_name,
            _by_name(kind, kind.read()),
            kind.defaults,
            deletes=deletes and kind.delete is not None,
        )
        differences += found.differences
        stays[kind.key], named[kind.key] = found.stays, by_name.keys()
    return Plan(differences=differences, stays=stays, named=named)


def _wanted(kind: Kind, documents: Documents) -> list[dict[str, Any]]:
    """The documents of a kind, whole and in the form in which they are compared.

    Raises:
        InvalidFields: a field cannot be read; with every place.
    """
    wanted, problems = [], []
    for n, document in enumerate(documents[kind.key]):
        try:
            wanted.append(kind.normal(complete(document, kind.defaults)))
        except Invalid as error:
            problems += [(f"/kinds/{kind.key}/{n}{e['pointer']}", e["message"]) for e in error.extra["errors"]]
    if problems:
        raise InvalidFields(problems)
    return wanted


def _by_name(kind: Kind, documents: Sequence[Document]) -> dict[str, Document]:
    return {kind.name_of(document): document for document in documents}


def _carry_out(plan: Plan, by: Hand) -> None:
    """Do all of it. Things of one kind may name each other, as groups in rules do, so those that cannot be done are
    tried again as long as others can."""
    in_order = list(KINDS.values())
    problems = [told for kind in in_order for told in _of_kind(kind, plan, by, (Verb.ADD, Verb.CHANGE))]
    if not problems:  # from the last kind to the first, as later ones name earlier ones
        problems = [told for kind in reversed(in_order) for told in _of_kind(kind, plan, by, (Verb.DELETE,))]
    if problems:
        raise InvalidFields(problems[:MOST_PROBLEMS])


def _of_kind(kind: Kind, plan: Plan, by: Hand, verbs: tuple[Verb, ...]) -> list[tuple[str, str]]:
    waiting = [d for d in plan.differences if d.kind == kind.key and d.verb in verbs]
    while waiting:
        refused = [(d, error) for d in waiting if (error := _try(kind, d, by)) is not None]
        if len(refused) == len(waiting):
            return [told for d, error in refused for told in _told(d, error)]
        waiting = [d for d, _ in refused]
    return []


def _try(kind: Kind, difference: Difference, by: Hand) -> DomainError | None:
    """Do one thing; why it cannot be done, with nothing of it done."""
    try:
        with transaction.atomic():
            if difference.verb is Verb.ADD:
                kind.add(difference.wanted, by)
            elif difference.verb is Verb.CHANGE:
                kind.change(difference.name, difference.wanted, frozenset(difference.fields), by)
            elif kind.delete is not None:
                kind.delete(difference.name, by)
    except DomainError as error:
        return error
    return None


def _told(difference: Difference, error: DomainError) -> list[tuple[str, str]]:
    place = f"/kinds/{difference.kind}"
    if difference.verb is Verb.DELETE:
        return [(place, error.detail)]
    named = KINDS[difference.kind].word
    errors = error.extra.get("errors") or [{"pointer": "", "message": error.detail}]
    return [
        (
            f"{place}/{difference.position}{e.get('pointer', '')}",
            f"The {named} “{difference.name}”: {_in_rule(e)}{e['message']}",
        )
        for e in errors
    ]


def _in_rule(error: Mapping[str, Any]) -> str:
    return f"Line {error['line']}, column {error['column']}: " if "line" in error else ""


def _note_origins(plan: Plan, origin: Origin, actor: User | None, now: datetime) -> None:
    for key, names in plan.named.items():
        kind = KINDS[key]
        present = _by_name(kind, kind.read())
        KeptByFile.objects.filter(kind=key).exclude(name__in=list(names)).delete()
        rows = [
            KeptByFile(
                kind=kind.key,
                name=name,
                file=origin.files.get(kind.key, "")[:200],
                revision=origin.revision,
                applied_at=now,
                applied_by=actor,
                digest=short_digest(complete(present[name], kind.defaults)),
            )
            for name in names
            if name in present
        ]
        KeptByFile.objects.bulk_create(
            rows,
            update_conflicts=True,
            unique_fields=["kind", "name"],
            update_fields=["file", "revision", "applied_at", "applied_by", "digest"],
        )


def _sentence(plan: Plan, origin: Origin) -> str:
    counts = {verb: sum(d.verb is verb for d in plan.differences) for verb in Verb}
    words = {Verb.ADD: "added", Verb.CHANGE: "changed", Verb.DELETE: "deleted"}
    said = ", ".join(f"{count} {words[verb]}" for verb, count in counts.items() if count)
    return f"Configuration from files{f' at {origin.revision}' if origin.revision else ''}: {said}"
