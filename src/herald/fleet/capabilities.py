"""The table of what models and firmware can do: read by preflight and by the clock, changed in the Library."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction
from django.db.models import Q

from herald.fleet.models import CapabilityRange, Device, DeviceModel
from herald.http.errors import InvalidFields
from herald.live.notify import notify
from herald.people.models import User
from herald.record.services import record
from herald_core.capabilities import WORDS, Capability, Supported
from herald_core.rules.printer import value_text
from herald_core.versions import version_key_or_none


@dataclass(frozen=True, kw_only=True)
class RangeDraft:
    """Which firmware has a capability, as it is written down; an empty version is open."""

    capability: Capability
    never: bool = False
    from_version: str = ""
    to_version: str = ""

    @property
    def limits(self) -> bool:
        return self.never or bool(self.from_version or self.to_version)


@dataclass(frozen=True, kw_only=True)
class Cell:
    """A capability of a model, with how many devices have not got it and the rule that finds them."""

    range: RangeDraft
    words: str
    without: int
    rule: str


@dataclass(frozen=True, kw_only=True)
class ModelCapabilities:
    """What a model can do, capability by capability."""

    model: DeviceModel
    cells: Sequence[Cell]


def supported_now() -> Supported:
    """The table as the core reads it."""
    return Supported({(r.model_id, Capability(r.capability)): r.as_range for r in CapabilityRange.objects.all()})


def lacking(capability: Capability, prefix: str = "") -> Q:
    """Devices that have not got a capability, by the model and firmware they have now. `prefix` leads to the device."""
    return _any_of(CapabilityRange.objects.filter(capability=capability.value).order_by("id"), prefix)


def lacking_rule(capability: Capability) -> str:
    """The same as the text of a rule; empty where no model is limited."""
    ranges = CapabilityRange.objects.filter(capability=capability.value).select_related("model").order_by("model__name")
    parts = [_rule(r.model.name, _draft_of(r)) for r in ranges]
    return " or ".join(f"({p})" for p in parts) if len(parts) > 1 else "".join(parts)


def table() -> list[ModelCapabilities]:
    """Every model, by name, with all capabilities."""
    drafts: dict[int, list[RangeDraft]] = {}
    for kept in CapabilityRange.objects.all():
        drafts.setdefault(kept.model_id, []).append(_draft_of(kept))
    return [capabilities_of(m, drafts.get(m.pk, [])) for m in DeviceModel.objects.order_by("name")]


def capabilities_of(model: DeviceModel, drafts: Sequence[RangeDraft]) -> ModelCapabilities:
    """What a model could do if these ranges were kept.

    Raises:
        InvalidFields: a range does not fit.
    """
    ranges = {r.capability: r for r in _checked(model, drafts)}
    written = {d.capability: d for d in drafts}
    cells = []
    for capability in Capability:
        limited = ranges.get(capability.value)
        without = Device.objects.filter(_any_of([limited], "")).count() if limited else 0
        draft = written.get(capability, RangeDraft(capability=capability))
        rule = _rule(model.name, draft) if limited else ""
        cells.append(Cell(range=draft, words=WORDS[capability], without=without, rule=rule))
    return ModelCapabilities(model=model, cells=cells)


def set_capabilities(
    model: DeviceModel, drafts: Sequence[RangeDraft], *, actor: User | None, now: datetime
) -> ModelCapabilities:
    """Keep these ranges in place of those that the model had.

    Raises:
        InvalidFields: a range does not fit.
    """
    with transaction.atomic():
        model = DeviceModel.objects.select_for_update().get(pk=model.pk)
        kept = CapabilityRange.objects.filter(model=model)
        before = {r.capability: _said(_draft_of(r)) for r in kept}
        ranges = _checked(model, drafts)
        kept.delete()
        CapabilityRange.objects.bulk_create(ranges)
        after = {r.capability: _said(_draft_of(r)) for r in ranges}
        changed = sorted(f for f in {*before, *after} if before.get(f) != after.get(f))
        if changed:
            parts = [f"{WORDS[Capability(f)].lower()} {after.get(f, 'on all firmware')}" for f in changed]
            sentence = f"Changed what {model.name} can do: {'; '.join(parts)}"
            record(
                now=now,
                actor=actor,
                kind="model",
                object_id=model.pk,
                sentence=sentence,
                before={f: before.get(f) for f in changed},
                after={f: after.get(f) for f in changed},
            )
            notify("fleet")
    return capabilities_of(model, drafts)


def _checked(model: DeviceModel, drafts: Sequence[RangeDraft]) -> list[CapabilityRange]:
    errors: list[tuple[str, str]] = []
    ranges: dict[Capability, CapabilityRange] = {}
    for index, draft in enumerate(drafts):
        if draft.capability in ranges:
            errors.append((f"/ranges/{index}/capability", f"{WORDS[draft.capability]} is there twice."))
        low, high, wrong = read_ends(f"/ranges/{index}", draft.from_version, draft.to_version)
        errors += wrong
        if draft.never and (draft.from_version or draft.to_version):
            errors.append((f"/ranges/{index}/never", "A capability that no firmware has takes no versions."))
        if draft.limits:
            ranges[draft.capability] = CapabilityRange(
                model=model,
                capability=draft.capability.value,
                never=draft.never,
                from_version=draft.from_version,
                from_key=low,
                to_version=draft.to_version,
                to_key=high,
            )
    if errors:
        raise InvalidFields(errors)
    return list(ranges.values())


def _any_of(ranges: Iterable[CapabilityRange], prefix: str) -> Q:
    found = Q(pk__in=[])
    for kept in ranges:
        model = Q(**{f"{prefix}model": kept.model_id})
        if kept.never:
            found |= model
            continue
        found |= model & outside(kept.from_key, kept.to_key, prefix)
    return found


def outside(from_key: str | None, to_key: str | None, prefix: str = "") -> Q:
    """Devices whose firmware is not from one version to another, both included, or is not known; open where None, and
    with both open nobody."""
    found = Q(pk__in=[])
    if from_key is not None or to_key is not None:
        found |= Q(**{f"{prefix}firmware_key__isnull": True})
    if from_key is not None:
        found |= Q(**{f"{prefix}firmware_key__lt": from_key})
    if to_key is not None:
        found |= Q(**{f"{prefix}firmware_key__gt": to_key})
    return found


def version_clauses(from_version: str, to_version: str) -> list[str]:
    """The lines of a rule that finds firmware from one version to another, both included; open where empty."""
    ends = ((">=", from_version), ("<=", to_version))
    return [f"firmware {op} {value_text(version)}" for op, version in ends if version]


def read_ends(place: str, from_version: str, to_version: str) -> tuple[str | None, str | None, list[tuple[str, str]]]:
    """The keys of two versions between which firmware lies, open where empty; and what does not fit, each with its
    place below `place`."""
    wrong = [
        (f"{place}/{end}", f"{text[:60]} is no version, like 5.2.1.")
        for end, text in (("from_version", from_version), ("to_version", to_version))
        if text and version_key_or_none(text) is None
    ]
    low, high = version_key_or_none(from_version), version_key_or_none(to_version)
    if low is not None and high is not None and low > high:
        wrong.append((f"{place}/to_version", f"It ends before it begins, at {from_version}."))
    return low, high, wrong


def _rule(model: str, draft: RangeDraft) -> str:
    clause = f"model = {value_text(model)}"
    inside = version_clauses(draft.from_version, draft.to_version)
    if draft.never:
        return clause
    return f"{clause} and not ({' and '.join(inside)})" if len(inside) > 1 else f"{clause} and not {inside[0]}"


def _draft_of(kept: CapabilityRange) -> RangeDraft:
    return RangeDraft(
        capability=Capability(kept.capability),
        never=kept.never,
        from_version=kept.from_version,
        to_version=kept.to_version,
    )


def _said(draft: RangeDraft) -> str:
    if draft.never:
        return "on no firmware"
    words = [
        f"from {draft.from_version}" if draft.from_version else "",
        f"to {draft.to_version}" if draft.to_version else "",
    ]
    return " ".join(w for w in words if w)
