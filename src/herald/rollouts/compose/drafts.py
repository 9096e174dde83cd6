"""Writing rollouts down, before anything happens."""

import random
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, time, timedelta
from typing import Protocol

from django.db import transaction

from herald.fleet.models import DeviceModel
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.models import Group
from herald.groups.rules import read_rule
from herald.http.dates import check_plannable
from herald.http.errors import Invalid
from herald.images.models import Image
from herald.people.models import User
from herald.record.services import record
from herald.rollouts.intervene.lifecycle import locked
from herald.rollouts.models import ChangeRow, ManualExclusion, Ring, RingPlanVersion, Rollout, RolloutState
from herald.rollouts.preflight.plan import Plan, plan
from herald.rollouts.watch.sentence import rollout_sentence
from herald_core.changes import Choice
from herald_core.rings.assignment import RingKind
from herald_core.timing.windows import Window
from herald_core.versions import is_version


@dataclass(frozen=True, kw_only=True)
class RingDraft:
    """One ring as it is written down."""

    name: str
    kind: RingKind
    group: Group | None = None
    share_pct: float | None = None
    number: int | None = None
    confirmed_pct: float = 95.0
    soak_minutes: int = 60
    max_unreached: int | None = None
    min_tried: int | None = None
    needs_approval: bool = False


@dataclass(frozen=True, kw_only=True)
class ChangeDraft:
    """One row of the change table: which devices, and their target."""

    choice: Choice
    model: DeviceModel | None = None
    uplink: str = ""
    from_version: str = ""
    image: Image | None = None
    within: str = ""


def to(image: Image) -> list[ChangeDraft]:
    """The change table that brings one image to whatever it is for."""
    return [ChangeDraft(choice=Choice.IMAGE, image=image)]


@dataclass(frozen=True, kw_only=True)
class RolloutDraft:
    """A rollout as it is written down."""

    changes: Sequence[ChangeDraft]
    include: Sequence[Group]
    rings: Sequence[RingDraft]
    exclude: Sequence[Group] = ()
    #: devices that are named, by id
    devices: Sequence[int] = ()
    rule_filter: str = ""
    downgrades: bool = False
    follows_audience: bool = False
    window_start: time | None = None
    window_end: time | None = None
    window_days: Sequence[int] = ()
    starts_at: datetime | None = None
    prefetch: bool = False
    prefetch_start: time | None = None
    prefetch_end: time | None = None
    expires_after_hours: int = 14 * 24
    ends_at: datetime | None = None
    failure_limit_pct: float = 2.0
    failure_count_limit: int | None = None
    max_concurrent: int = 200
    max_concurrent_per_site: int | None = None
    max_starts_per_hour: int | None = None
    spread_minutes: int = 0
    max_attempts: int = 2
    freeze_override_reason: str = ""
    notice: str = ""
    defer_times: int | None = None
    defer_until: datetime | None = None
    name: str = ""
    purpose: str = ""
    ticket: str = ""
    plan_version: RingPlanVersion | None = None
    late_limit: int | None = None


#: what a draft writes as it is
COLUMNS = (
    "rule_filter",
    "downgrades",
    "follows_audience",
    "window_start",
    "window_end",
    "starts_at",
    "prefetch",
    "prefetch_start",
    "prefetch_end",
    "expires_after_hours",
    "ends_at",
    "failure_limit_pct",
    "failure_count_limit",
    "max_concurrent",
    "max_concurrent_per_site",
    "max_starts_per_hour",
    "spread_minutes",
    "max_attempts",
    "freeze_override_reason",
    "notice",
    "defer_times",
    "defer_until",
    "name",
    "purpose",
    "ticket",
    "plan_version",
    "late_limit",
)


def save_draft(draft: RolloutDraft, *, actor: User | None, now: datetime, rollout: Rollout | None = None) -> Rollout:
    """Write a draft down, new or in place of what `rollout` was.

    Raises:
        Invalid: a row of the change table, a ring or the window does not fit.
        InvalidRule: the rule cannot be understood.
        Conflict: the rollout was launched already.
    """
    _check(draft, rolls_back=rollout is not None and rollout.rolls_back_id is not None)
    with transaction.atomic():
        if rollout is None:
            rollout = Rollout(seed=random.SystemRandom().randrange(2**62), created_at=now, created_by=actor)
        else:
            rollout = locked(rollout, RolloutState.DRAFT, doing="changed")
        if rollout.freeze_override_reason != draft.freeze_override_reason:
            rollout.override_approved_by = None
        for name in COLUMNS:
            setattr(rollout, name, getattr(draft, name))
        rollout.window_days = list(draft.window_days)
        rollout.overridden_by = actor if draft.freeze_override_reason else None
        if draft.freeze_override_reason and actor is None:
            raise Invalid("/freeze_override_reason", "A freeze is overridden by a person, who answers for it.")
        rollout.save()
        rollout.include.set(draft.include)
        rollout.exclude.set(draft.exclude)
        rollout.devices.set(draft.devices)
        rollout.changes.all().delete()
        ChangeRow.objects.bulk_create(
            [ChangeRow(rollout=rollout, position=i, **c.__dict__) for i, c in enumerate(draft.changes, 1)]
        )
        write_rings(rollout, draft.rings)
        sentence = f"Saved the draft: {rollout_sentence(Rollout.objects.get(pk=rollout.pk))}"
        record(now=now, actor=actor, kind="rollout", object_id=rollout.pk, sentence=sentence)
    return rollout


def write_rings(rollout: Rollout, rings: Sequence[RingDraft]) -> None:
    """Put these rings in the place of a draft's."""
    rollout.rings.all().delete()
    Ring.objects.bulk_create(
        [Ring(rollout=rollout, position=i, **{**r.__dict__, "kind": r.kind.value}) for i, r in enumerate(rings, 1)]
    )


def _check(draft: RolloutDraft, *, rolls_back: bool) -> None:
    if rolls_back and draft.changes:
        raise Invalid("/changes", "This rollout restores what each device had, so it has no change table.")
    for position, change in enumerate(draft.changes):
        _check_change(change, f"/changes/{position}", draft.changes[:position])
    if draft.rule_filter:
        read_rule(draft.rule_filter, load_vocabulary())
    check_plannable(draft.starts_at, "/starts_at")
    check_plannable(draft.ends_at, "/ends_at")
    check_plannable(draft.defer_until, "/defer_until")
    if draft.starts_at and draft.ends_at and draft.ends_at <= draft.starts_at:
        raise Invalid("/ends_at", "It ends before it starts, so nobody would get it.")
    if (draft.defer_times or draft.defer_until) and not draft.notice.strip():
        raise Invalid(
            "/notice", "An install is put off by whoever reads its notice; write one, or allow no putting off."
        )
    check_rings(draft.rings, "/rings")
    minutes = max((c.image.expected_minutes for c in draft.changes if c.image), default=0)
    check_window(draft.window_start, draft.window_end, minutes)
    check_staging(draft)


def _check_change(change: ChangeDraft, where: str, earlier: Sequence[ChangeDraft]) -> None:
    if (change.choice is Choice.IMAGE) != (change.image is not None):
        raise Invalid(f"{where}/image_id", "An image is named where the target is one image, and only there.")
    if (change.choice is Choice.WITHIN) != bool(change.within):
        raise Invalid(f"{where}/within", "A line of versions, like 5.1, is named where the target is the newest in it.")
    if change.from_version and not is_version(change.from_version):
        raise Invalid(f"{where}/from_version", f"{change.from_version[:64]} is no version.")
    if change.model and change.image and not change.image.device_models.filter(pk=change.model.pk).exists():
        raise Invalid(f"{where}/image_id", f"{change.image} is not for {change.model.name}.")
    whom = (change.model, change.uplink, change.from_version)
    if change.model is not None and whom in [(c.model, c.uplink, c.from_version) for c in earlier]:
        raise Invalid(where, "Another row is about the same devices already.")


def check_rings(rings: Sequence[RingDraft], where: str) -> None:
    """Refuse rings that do not say whom they take.

    Raises:
        Invalid: there is none, or one says nobody.
    """
    if not rings:
        raise Invalid(where, "A rollout has at least one ring.")
    for position, ring in enumerate(rings):
        wanted = {RingKind.GROUP: ring.group, RingKind.SHARE: ring.share_pct, RingKind.NUMBER: ring.number}
        if ring.kind in wanted and not wanted[ring.kind]:
            raise Invalid(f"{where}/{position}", f"Ring “{ring.name}” does not say whom it takes.")


def check_window(start: time | None, end: time | None, minutes: int) -> None:
    """Refuse a window in which no install of so many minutes could begin.

    Raises:
        Invalid: it has one end only, or is too short.
    """
    if (start is None) != (end is None):
        raise Invalid("/window_end", "A window has a start and an end; give both or neither.")
    if start is None or end is None:
        return
    if start == end:
        raise Invalid("/window_end", "The window ends when it starts, so it would never be open.")
    if Window(start=start, end=end).length < timedelta(minutes=minutes):
        message = f"The window is shorter than the {minutes} minutes that the install takes, so none would start."
        raise Invalid("/window_end", message)


class Staging(Protocol):
    """Whatever says when files are fetched ahead of which hours."""

    @property
    def prefetch(self) -> bool: ...
    @property
    def prefetch_start(self) -> time | None: ...
    @property
    def prefetch_end(self) -> time | None: ...
    @property
    def window_start(self) -> time | None: ...


def check_staging(draft: Staging) -> None:
    """Refuse hours for fetching ahead where nothing is fetched ahead, and fetching ahead of no hours.

    Raises:
        Invalid: as said, or the hours have one end only.
    """
    start, end = draft.prefetch_start, draft.prefetch_end
    if (start is None) != (end is None):
        raise Invalid("/prefetch_end", "The hours for files have a start and an end; give both or neither.")
    if start is not None and start == end:
        raise Invalid("/prefetch_end", "The hours for files end when they start, so no file would be fetched.")
    if start is not None and not draft.prefetch:
        raise Invalid(
            "/prefetch_start", "Files are not fetched ahead, so they have no hours; ask for that, or clear them."
        )
    if draft.prefetch and draft.window_start is None:
        message = "There is no window to fetch files ahead of: devices install at any hour. Give a window."
        raise Invalid("/prefetch", message)


def preflight(rollout: Rollout, *, now: datetime) -> Plan:
    """Who would take part in which ring, and who not and why, now."""
    return plan(rollout, list(rollout.rings.select_related("group")), now=now)


def exclude_devices(rollout: Rollout, devices: Sequence[int], reason: str, *, actor: User | None, now: datetime) -> int:
    """Take devices, by their ids, out of a draft; how many are out now.

    Raises:
        Conflict: it was launched. Invalid: no reason is given.
    """
    if not reason.strip():
        raise Invalid("/reason", "Say why, for those who miss the devices.")
    with transaction.atomic():
        locked(rollout, RolloutState.DRAFT, doing="changed")
        rows = [ManualExclusion(rollout_id=rollout.pk, device_id=d, reason=reason.strip()[:120]) for d in devices]
        ManualExclusion.objects.bulk_create(
            rows, update_conflicts=True, unique_fields=["rollout", "device"], update_fields=["reason"]
        )
        sentence = f"Excluded {len(rows)} devices: {reason.strip()}"
        record(now=now, actor=actor, kind="rollout", object_id=rollout.pk, sentence=sentence[:300])
    return rollout.taken_out.count()


def undo_exclusions(rollout: Rollout, devices: Sequence[int], *, actor: User | None, now: datetime) -> int:
    """Let devices that were taken out of a draft take part again; how many are still out.

    Raises:
        Conflict: it was launched.
    """
    with transaction.atomic():
        locked(rollout, RolloutState.DRAFT, doing="changed")
        count, _ = rollout.taken_out.filter(device__in=list(devices)).delete()
        sentence = f"Included {count} excluded devices again"
        record(now=now, actor=actor, kind="rollout", object_id=rollout.pk, sentence=sentence)
    return rollout.taken_out.count()


def delete_draft(rollout: Rollout, *, actor: User | None, now: datetime) -> None:
    """Discard a draft.

    Raises:
        Conflict: it was launched; then it is part of the record.
    """
    with transaction.atomic():
        draft = locked(rollout, RolloutState.DRAFT, doing="discarded")
        sentence = f"Discarded the draft {draft.pk}: {rollout_sentence(draft)}"
        record(now=now, actor=actor, kind="rollout", object_id=draft.pk, sentence=sentence)
        draft.delete()
