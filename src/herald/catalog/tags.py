"""Verbs on tags: note, rename, merge, delete; each over devices and rules in one transaction."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction

from herald.fleet import editing
from herald.fleet.models import Device, Tag
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.consequences.acceptance import Agreement, consequences_of, require
from herald.groups.consequences.cascade import (
    GroupEffect,
    Records,
    RuleIndex,
    differences,
    effects_of,
    groups_reading,
    rules_naming,
)
from herald.groups.membership import lock_membership
from herald.groups.models import Group
from herald.groups.services import replace_in_rules
from herald.http.errors import Conflict, Invalid, NotFound
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.edits import Change, edited
from herald_core.properties import DoesNotFit, read_tag
from herald_core.rules.rename import rename_value

CHUNK = 5000


@dataclass(frozen=True, kw_only=True)
class TagRow:
    """A tag with how many devices carry it and the groups whose rules name it."""

    slug: str
    note: str
    colour: int
    devices: int
    groups: list[Group]


@dataclass(frozen=True, kw_only=True)
class Renaming:
    """What giving a tag another name would do; a merge where that name is taken."""

    merges: bool
    devices: int
    rules: list[Group]
    groups: list[GroupEffect]


def list_tags() -> list[TagRow]:
    """Every tag that is defined or carried, by name."""
    counts = Device.objects.tag_counts()
    known = {t.slug: t for t in Tag.objects.all()}
    rules = RuleIndex()
    return [
        TagRow(
            slug=slug,
            note=known[slug].note if slug in known else "",
            colour=known[slug].colour if slug in known else 0,
            devices=counts.get(slug, 0),
            groups=rules.naming("tag", slug),
        )
        for slug in sorted({*counts, *known})
    ]


def preview_renaming(old: str, new: str, *, now: datetime) -> Renaming:
    """What renaming or merging a tag would do to devices, rules and groups.

    Raises:
        NotFound, Invalid: there is no such tag, or the new name is none.
    """
    old, new = _checked(old, new)
    vocabulary = load_vocabulary()
    rules = groups_reading("tag", old)
    change = Change(remove_tags=(old,), add_tags=(new,))

    def after(records: Records) -> Records:
        return {
            pk: {**r, "tag": frozenset(edited({"tags": r["tag"], "attributes": {}}, change)["tags"])}
            if old in r["tag"]
            else r
            for pk, r in records.items()
        }

    ids = list(Device.objects.with_any_tag([old, new]).order_by("id").values_list("pk", flat=True))
    rewritten = {g.pk: rename_value(g.rule, "tag", old, new, vocabulary) for g in rules}
    return Renaming(
        merges=Tag.objects.filter(slug=new).exists(),
        devices=Device.objects.with_any_tag([old]).count(),
        rules=rules,
        groups=effects_of(ids, after, frozenset({"tag"}), now=now, rules=rewritten),
    )


def rename_tag(
    old: str, new: str, *, actor: User | None, now: datetime, agreement: Agreement | None = None
) -> Renaming:
    """Give a tag another name, on devices and in rules. Where that name is taken, the two are one from now on.

    Raises:
        NotAgreed: something that runs would reach other devices than was agreed to.
    """
    with transaction.atomic():
        lock_membership()
        done = preview_renaming(old, new, now=now)
        require(consequences_of(differences(done.groups)), agreement)
        old, new = _checked(old, new)
        editing.rename_tag(old, new)
        _edit_all(list(Device.objects.with_any_tag([old]).values_list("pk", flat=True)), old, new, now)
        replace_in_rules("tag", old, new, now=now)
        verb = "Merged" if done.merges else "Renamed"
        sentence = f"{verb} the tag {old} into {new}: {done.devices} devices, {len(done.rules)} rules"
        record(now=now, actor=actor, kind="tag", object_id=0, sentence=sentence)
        notify("fleet")
    return done


def describe_tag(slug: str, *, note: str, colour: int, actor: User | None, now: datetime) -> None:
    """Say what a tag means, and its colour slot; makes the tag where it is new.

    Raises:
        Invalid: the name is no tag.
    """
    slug = _slug(slug, "/slug")
    editing.describe_tag(slug, note=note[:300], colour=colour)
    record(now=now, actor=actor, kind="tag", object_id=0, sentence=f"Described the tag {slug}: {note}"[:300])


def delete_tag(slug: str, *, actor: User | None, now: datetime, agreement: Agreement | None = None) -> int:
    """Take a tag off every device and forget it; how many devices.

    Raises:
        NotFound: there is no such tag.
        Conflict: rules name it; the list is in `uses`.
        NotAgreed: something that runs would reach other devices than was agreed to: a rule may ask for no tag at all.
    """
    with transaction.atomic():
        lock_membership()
        _must_exist(slug)
        if uses := rules_naming("tag", slug):
            said = "; ".join(f"{u.within} names it" for u in uses)
            raise Conflict(f"{slug} is in use: {said}. Change those first.", uses=[u.__dict__ for u in uses])
        ids = list(Device.objects.with_any_tag([slug]).values_list("pk", flat=True))
        if agreement is not None:
            effects = effects_of(ids, lambda rs: _without(rs, slug), frozenset({"tag"}), now=now)
            require(consequences_of(differences(effects)), agreement)
        _edit_all(ids, slug, None, now)
        editing.forget_tag(slug)
        sentence = f"Deleted the tag {slug}, which {len(ids)} devices had"
        record(now=now, actor=actor, kind="tag", object_id=0, sentence=sentence)
        notify("fleet")
    return len(ids)


def _without(records: Records, slug: str) -> Records:
    return {pk: {**r, "tag": frozenset(r["tag"]) - {slug}} for pk, r in records.items()}


def _edit_all(device_ids: Sequence[int], old: str, new: str | None, now: datetime) -> None:
    change = Change(remove_tags=(old,), add_tags=(new,) if new else ())
    vocabulary, ids = load_vocabulary(), sorted(device_ids)
    for start in range(0, len(ids), CHUNK):
        states = editing.read_states(ids[start : start + CHUNK], lock=True)
        editing.write_states({pk: edited(s, change) for pk, s in states.items()}, vocabulary, now=now)


def _checked(old: str, new: str) -> tuple[str, str]:
    _must_exist(old)
    new = _slug(new, "/to")
    if new == old:
        raise Invalid("/to", "That is its name already.")
    return old, new


def _must_exist(slug: str) -> None:
    if not Tag.objects.filter(slug=slug).exists() and not Device.objects.with_any_tag([slug]).exists():
        raise NotFound(f"There is no tag {slug[:60]}.")


def _slug(word: str, pointer: str) -> str:
    try:
        return read_tag(word)
    except DoesNotFit as error:
        raise Invalid(pointer, f"{error}.") from error
