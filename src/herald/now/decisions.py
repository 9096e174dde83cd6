"""What waits for a person's decision: rollouts that halted, are paused, or whose gate a person must open; commands that
wait for a second person. Those that nobody chose are attention items, too, so that somebody hears of them."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from herald.attention.models import Item, ItemKind
from herald.attention.services import close_item, open_item
from herald.commands.models import Schedule, ScheduleState
from herald.rollouts.models import Rollout
from herald.rollouts.watch import overview
from herald_core.rollouts.status import GateState

#: items for the decisions about rollouts; a pause was somebody's choice, and is none
_KINDS = {"halted": ItemKind.HALTED, "stuck": ItemKind.STUCK, "approval": ItemKind.APPROVAL}
DECISIONS = (*_KINDS.values(),)


@dataclass(frozen=True)
class Decision:
    """What a person must decide about a rollout: its kind, the rollout, and the facts in words."""

    kind: str
    rollout: int
    title: str
    detail: str


def decisions_about(rows: Sequence[dict[str, Any]]) -> list[Decision]:
    """What a person must decide about these rollouts, at most one thing each."""
    return [d for row in rows if (d := _decision(row)) is not None]


def keep_decisions(*, now: datetime) -> None:
    """Open an item for what waits for a decision, and close those of what does not any more."""
    rollouts = list(Rollout.objects.listed().moving())
    found = {
        (_KINDS[d.kind], "rollout", d.rollout): d.title
        for d in decisions_about(overview.rows(rollouts, now) if rollouts else [])
        if d.kind in _KINDS
    }
    for schedule in Schedule.objects.filter(state=ScheduleState.PROPOSED):
        title = f"“{schedule.name or schedule.template.name}” waits for a second person"
        found[ItemKind.APPROVAL, "schedule", schedule.pk] = title
    for (kind, object_kind, object_id), words in found.items():
        open_item(kind, cause=words, object_kind=object_kind, object_id=object_id, now=now)
    for item in Item.objects.open().of_kinds(DECISIONS):
        if (item.kind, item.object_kind, item.object_id) not in found:
            close_item(ItemKind(item.kind), object_kind=item.object_kind, object_id=item.object_id, now=now)


def _decision(rollout: dict[str, Any]) -> Decision | None:
    """What a person must decide about a rollout, if anything."""
    title = f"{rollout['target']} on {rollout['audience']}"
    phases = rollout["phases"]
    counts = (
        f"{phases.get('confirmed', 0)} confirmed, {phases.get('failed', 0)} failed, {phases.get('waiting', 0)} wait"
    )
    if rollout["state"] == "halted":
        return _about("halted", rollout, f"“{title}” stopped itself", f"{rollout['reason']}. {counts}.")
    if rollout["state"] == "paused":
        return _about("paused", rollout, f"“{title}” is paused", f"Nothing new is offered. {counts}.")
    for ring in rollout["rings"]:
        if ring["stuck"]:
            missing = ", ".join(c["name"] for c in ring["criteria"] if not c["met"] and c["name"] != "soak")
            detail = f"All its devices are through, but the gate is not met ({missing}). {counts}."
            return _about("stuck", rollout, f"“{title}” cannot leave ring {ring['position']} by itself", detail)
        if ring["gate"]["code"] == GateState.APPROVAL:
            detail = f"Ring {ring['position']}, {ring['name']}, is through and nobody has approved it yet. {counts}."
            return _about("approval", rollout, f"“{title}” waits for an approval", detail)
    return None


def _about(kind: str, rollout: dict[str, Any], title: str, detail: str) -> Decision:
    return Decision(kind, rollout["id"], title, detail)
