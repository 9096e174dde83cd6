"""A rollout told to its end: who, what, when, rings, failures by cause, how long it took; to read and as tables."""

from collections import Counter, defaultdict
from collections.abc import Iterator
from datetime import datetime
from typing import Any

from herald.calendar.models import FreezeTime
from herald.calendar.services import freezes_between, held_by
from herald.deliveries.models import Delivery
from herald.http.export import Table
from herald.record.models import RecordEntry
from herald.rollouts.capacity import AHEAD
from herald.rollouts.intervene import holds
from herald.rollouts.models import ExcludedDevice, Rollout
from herald.rollouts.watch import overview
from herald.rollouts.watch.sentence import rollout_sentence
from herald.rollouts.watch.steps import Steps, steps_of
from herald_core.deliveries import Phase
from herald_core.preflight import WORDS, Outcome
from herald_core.rings.gates import RingCounts

MOST_ACTS = 500
COLUMNS = (
    "device", "uid", "model", "hardware", "site", "ring", "from version", "target", "phase", "since", "attempts",
    "error", "error in words", "held because", "notice shown", "times put off",
)  # fmt: skip


def report(rollout: Rollout, *, now: datetime) -> dict[str, Any]:
    """Everything that a report says, of a rollout that was launched."""
    shown = overview.detail(rollout, now)
    steps = steps_of(rollout)
    shared = holds.common_causes(rollout, now=now)
    return {
        "rollout": shown,
        "sentence": rollout_sentence(rollout),
        "milestones": steps.milestones,
        "rings": ring_times(rollout, steps),
        "failures": steps.failures,
        "failed_devices": failed_devices(rollout),
        "shared": [{"rule": c.rule, "failed": c.cause.failed_with, "tried": c.cause.tried_with} for c in shared.causes],
        "left_out": left_out(rollout),
        "fetches": steps.fetches,
        "installs": steps.installs,
        "acts": [
            {"at": a.at, "who": str(a.actor) if a.actor else "", "what": a.sentence}
            for a in RecordEntry.objects.about("rollout", rollout.pk).select_related("actor").order_by("id")[:MOST_ACTS]
        ],
        "made_at": now,
    }


def ring_times(rollout: Rollout, steps: Steps) -> list[dict[str, Any]]:
    """How each ring went: opened, first and last confirmed, gate met, by phases."""
    phases: dict[int, Counter[str]] = defaultdict(Counter)
    for _, ring, phase, count in Delivery.objects.counts_by_ring([rollout.pk]):
        phases[ring][phase] += count
    return [
        {
            "position": ring.position,
            "name": ring.name,
            "devices": sum(phases[ring.pk].values()),
            "confirmed": phases[ring.pk][Phase.CONFIRMED],
            "failed": phases[ring.pk][Phase.FAILED],
            "tried": RingCounts.of_phases(phases[ring.pk]).tried,
            "opened_at": ring.opened_at,
            "first_at": steps.rings.get(ring.pk, (None, None))[0],
            "last_at": steps.rings.get(ring.pk, (None, None))[1],
            "gate_met_at": ring.gate_met_at,
            "approved_by": str(ring.approved_by) if ring.approved_by else None,
        }
        for ring in rollout.rings.all()
    ]


def left_out(rollout: Rollout) -> list[dict[str, Any]]:
    """Why devices of the audience did not take part, and how many."""
    counts = Counter(ExcludedDevice.objects.filter(rollout=rollout).values_list("outcome", flat=True))
    return [{"words": WORDS[Outcome(o)], "devices": n} for o, n in counts.most_common()]


def failed_devices(rollout: Rollout, most: int = 500) -> list[dict[str, Any]]:
    """The devices that failed for good, by the last error."""
    failed = Delivery.objects.of_rollout(rollout.pk).filter(phase=Phase.FAILED.value).listed()
    return [
        {
            "device": d.device.name,
            "model": d.device.model.name,
            "site": d.device.site.name if d.device.site else "",
            "from_version": d.from_version,
            "error": d.last_error,
            "text": d.last_error_text,
        }
        for d in failed.order_by("last_error", "device__name")[:most]
    ]


def breakdown(rollout: Rollout, field: str) -> list[dict[str, Any]]:
    """For each value of a field how many devices are in each phase, the largest first."""
    phases: dict[str, Counter[str]] = defaultdict(Counter)
    for value, phase, count in Delivery.objects.by_field(rollout.pk, field):
        phases[value or ""][phase] += count
    rows = [{"value": v, "total": sum(p.values()), "phases": dict(p)} for v, p in phases.items()]
    return sorted(rows, key=lambda r: (-r["total"], r["value"]))


def freezes_of(rollout: Rollout, *, now: datetime) -> list[dict[str, Any]]:
    """Freezes from the launch on that hold devices of the rollout, and how many; also those it goes on in."""
    if rollout.launched_at is None:
        return []
    until = rollout.ended_at or now + AHEAD
    mine = Delivery.objects.of_rollout(rollout.pk)
    found = [
        freeze_row(freeze, mine.filter(held_by(freeze, "device_id")).count())
        for freeze in freezes_between(rollout.launched_at, until)
    ]
    return [f for f in found if f["devices"]]


def freeze_row(freeze: FreezeTime, devices: int) -> dict[str, Any]:
    """A freeze, and how many devices of a rollout it holds."""
    whole = {"id": freeze.pk, "name": freeze.name, "starts_at": freeze.starts_at, "ends_at": freeze.ends_at}
    return {**whole, "devices": devices}


def devices_table(rollout: Rollout, name: str = "devices") -> Table:
    """One line for each device of the rollout."""
    return Table(name, COLUMNS, _device_rows(rollout))


def _device_rows(rollout: Rollout) -> Iterator[list[Any]]:
    rows = Delivery.objects.of_rollout(rollout.pk).listed().select_related("target").order_by("ring", "device__name")
    for d in rows.iterator(chunk_size=2000):
        yield [
            d.device.name,
            d.device.uid,
            d.device.model.name,
            d.device.hardware_revision,
            d.device.site.name if d.device.site else "",
            d.ring.position if d.ring else "",
            d.from_version,
            d.target.version if d.target else "",
            d.phase,
            _time(d.phase_since),
            d.attempt,
            d.last_error,
            d.last_error_text,
            d.hold_reason,
            _time(d.notice_shown_at),
            d.times_deferred,
        ]


def sheets(rollout: Rollout, *, now: datetime) -> list[Table]:
    """The report as tables, times in UTC."""
    told = report(rollout, now=now)
    phases = told["rollout"]["phases"]
    summary = [
        ("rollout", told["sentence"]),
        ("number", rollout.pk),
        ("state", rollout.get_state_display()),
        ("reason", rollout.reason),
        ("launched", _time(rollout.launched_at)),
        ("launched by", told["rollout"]["launched_by"] or "a script"),
        ("ended", _time(rollout.ended_at)),
        ("devices tried", told["rollout"]["tried"]),
        *((f"devices {phase}", count) for phase, count in sorted(phases.items())),
        *((row["words"], row["devices"]) for row in told["left_out"]),
        *((f"{m['share']:.0%} of the installs confirmed", _time(m["at"])) for m in told["milestones"]),
        ("fetch, median seconds", told["fetches"].median),
        ("install, median seconds", told["installs"].median),
    ]
    rings = told["rings"]
    names = [name for name in (rings[0] if rings else {}) if name != "approved_by"]
    return [
        Table("summary", ("what", "value"), summary),
        Table("rings", names, [[_plain(r[n]) for n in names] for r in rings]),
        Table("failures", ("cause", "attempts"), [(f["cause"], f["attempts"]) for f in told["failures"]]),
        Table("acts", ("at", "who", "what"), [(_time(a["at"]), a["who"], a["what"]) for a in told["acts"]]),
        devices_table(rollout),
    ]


def _plain(value: Any) -> Any:
    return _time(value) if isinstance(value, datetime) else "" if value is None else value


def _time(value: datetime | None) -> str:
    return value.isoformat(timespec="seconds") if value else ""
