"""Every change of a delivery's phase. Each is set-based, guarded by the core's table, and leaves an event."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import (
    BigIntegerField,
    BooleanField,
    DateTimeField,
    ExpressionWrapper,
    F,
    IntegerField,
    JSONField,
    Q,
    QuerySet,
    TextField,
    Value,
)
from django.db.models.functions import Cast

from herald.attention.models import Part
from herald.attention.quarantine import Isolation
from herald.db.copy import copy_alike, copy_rows
from herald.db.expressions import JsonMember, JsonText
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.deliveries.querysets import DeliveryQuerySet
from herald.live.notify import notify
from herald_core.deliveries import (
    NO_COUNTER,
    NOT_COUNTED,
    RECALLABLE,
    ActiveOrder,
    Cause,
    Event,
    Kind,
    Phase,
    Report,
    Step,
    advance,
    is_stale,
    retry_pause,
    sources,
    steps_of_report,
    steps_of_state,
)

FIRST_RETRY_PAUSE = timedelta(minutes=10)
EVENT_BATCH = 5000
#: a turn of the clock ends, or takes back, at most so many deliveries; the rest follow at the next
BATCH_SIZE = 20_000


def move(deliveries: "QuerySet[Delivery]", event: Event, *, now: datetime, cause: str, **fields: Any) -> int:
    """Let `event` happen to all of the deliveries that are in a phase from which it can; how many.

    Rows are locked in the order of their ids, as everywhere, so that no two workers wait for each other.
    """
    with transaction.atomic():
        chosen = deliveries.filter(phase__in=[p.value for p in sources(event)]).values_list("id", flat=True)
        ids = list(chosen)
        if not ids:
            return 0
        rows = list(
            Delivery.objects.filter(id__any=ids, phase__in=[p.value for p in sources(event)])
            .order_by("id")
            .select_for_update(of=("self",))
            .values_list("id", "phase", "attempt", "rollout_id", "occurrence__schedule_id")
        )
        return _moved(rows, event, now=now, cause=cause, fields=fields)


def _moved(rows: Sequence[tuple[Any, ...]], event: Event, *, now: datetime, cause: str, fields: dict[str, Any]) -> int:
    if not rows:
        return 0
    to = advance(Phase(rows[0][1]), event)
    ids = [r[0] for r in rows]
    if to is Phase.CONFIRMED:
        fields = {**fields, "is_current_step": ExpressionWrapper(Q(hop__gte=F("hops")), BooleanField())}
    Delivery.objects.filter(id__any=ids).update(phase=to.value, phase_since=now, **fields)
    if to is Phase.CONFIRMED:
        _write_next_steps(ids, now)
    DeliveryEvent.objects.bulk_create(
        [
            DeliveryEvent(delivery_id=r[0], at=now, from_phase=r[1], to_phase=to.value, attempt=r[2], cause=cause)
            for r in rows
        ],
        batch_size=EVENT_BATCH,
    )
    notify_about({r[3] for r in rows}, {r[4] for r in rows})
    return len(rows)


def _write_next_steps(confirmed_ids: Sequence[int], now: datetime) -> None:
    """The next step of each device that has just done one and has others to come."""
    done = Delivery.objects.filter(id__any=list(confirmed_ids)).with_steps_to_come().select_related("image")
    write_deliveries(
        [
            Delivery(
                device_id=d.device_id,
                kind=d.kind,
                rollout_id=d.rollout_id,
                ring_id=d.ring_id,
                image_id=d.remaining_image_ids[0],
                target_id=d.target_id,
                hop=d.hop + 1,
                hops=d.hops,
                remaining_image_ids=d.remaining_image_ids[1:],
                phase_since=now,
                created_at=now,
                not_before=now,
                not_after=d.not_after,
                max_attempts=d.max_attempts,
                from_version=d.image.version if d.image else "",
                hold_reason=d.hold_reason,
                expedited=d.expedited,
                spread_position=d.spread_position,
                joined_late=d.joined_late,
                times_deferred=d.times_deferred,
            )
            for d in done
        ]
    )


def notify_about(rollout_ids: Collection[int | None], schedule_ids: Collection[int | None]) -> None:
    """Tell browsers which rollouts and schedules have new figures."""
    for rollout_id in sorted(i for i in rollout_ids if i):
        notify("rollout", rollout_id)
    for schedule_id in sorted(i for i in schedule_ids if i):
        notify("schedule", schedule_id)


def expire(*, now: datetime, isolation: Isolation | None = None) -> None:
    """End what was not begun in time; at most `BATCH_SIZE` of them at a turn."""

    def work(ids: Sequence[int]) -> None:
        move(Delivery.objects.filter(id__any=list(ids)).overdue(now), Event.EXPIRE, now=now, cause="its time ran out")

    (isolation or Isolation(now)).run_batch(Part.DELIVERY, Delivery.objects.overdue(now).first_ids(BATCH_SIZE), work)


def recall_lapsed(*, now: datetime, isolation: Isolation | None = None) -> None:
    """Take back offers that the device did not begin in time; they wait for the next chance."""

    def work(ids: Sequence[int]) -> None:
        lapsed = Delivery.objects.filter(id__any=list(ids)).lapsed_offers(now)
        move(lapsed, Event.RECALL, now=now, cause="not begun in time", offer_until=None)

    (isolation or Isolation(now)).run_batch(
        Part.DELIVERY, Delivery.objects.lapsed_offers(now).first_ids(BATCH_SIZE), work
    )


def offer(delivery_ids: Collection[int], *, until: datetime, now: datetime, fetch_only: bool = False) -> int:
    """Make the deliveries the active orders of their devices; with `fetch_only`, to fetch their file and keep it."""
    if not delivery_ids:
        return 0
    started = {} if fetch_only else {"offered_at": now}
    return move(
        Delivery.objects.filter(id__any=list(delivery_ids)),
        Event.OFFER,
        now=now,
        cause="offered the file, ahead of its hours" if fetch_only else "offered",
        offer_until=until,
        fetch_only=fetch_only,
        **started,
    )


@dataclass(kw_only=True)
class Change:
    """What one check-in does to the delivery in the device's hands."""

    delivery: Delivery
    steps: list[Step]
    counter: int | None = None
    boot: str = ""
    progress: int | None = None
    results: dict[str, object] = field(default_factory=dict)
    #: what the device did with the notice
    notes: list[Cause] = field(default_factory=list)

    @property
    def says_something(self) -> bool:
        return bool(self.steps) or self.counter is not None


def as_in_hand(delivery: Delivery) -> ActiveOrder:
    """The delivery as the core's state machine sees it."""
    image = delivery.image
    return ActiveOrder(
        kind=Kind(delivery.kind),
        phase=Phase(delivery.phase),
        attempt=delivery.attempt,
        max_attempts=delivery.max_attempts,
        counter=delivery.report_counter,
        boot=delivery.report_boot,
        fetch_only=delivery.fetch_only,
        target_version=image.version if image else "",
        soak=timedelta(minutes=image.soak_minutes) if image else timedelta(0),
        phase_since=delivery.phase_since,
    )


def evaluate_report(
    delivery: Delivery, report: Report | None, *, firmware: str | None, healthy: bool, now: datetime
) -> Change:
    """What a check-in says about the active order: first its report, then the state it reports."""
    order = as_in_hand(delivery)
    change = Change(delivery=delivery, steps=[])
    if report is not None:
        change.steps = steps_of_report(order, report)
        if not is_stale(order, report):
            change.counter, change.progress, change.boot = report.counter, report.progress, report.boot
            change.results = dict(report.results)
            change.notes = _notes(delivery, report, now)
    reached = change.steps[-1].to if change.steps else order.phase
    since = now if change.steps else order.phase_since
    after = ActiveOrder(**{**order.__dict__, "phase": reached, "phase_since": since})
    change.steps += steps_of_state(after, firmware=firmware, healthy=healthy, now=now)
    return change


def _notes(delivery: Delivery, report: Report, now: datetime) -> list[Cause]:
    """What a report says of the notice. Putting off that is not allowed is not counted; the answer says so."""
    notes: list[Cause] = []
    rollout = delivery.rollout
    if rollout is None or not rollout.notice:
        return notes
    if report.notice_shown and delivery.notice_shown_at is None:
        notes.append(Cause.NOTICE_SHOWN)
    if report.deferred and rollout.deferral.allows(delivery.times_deferred, now):
        notes.append(Cause.DEFERRED)
    return notes


def apply_changes(changes: Sequence[Change], *, now: datetime) -> None:
    """Write the changes of many deliveries: one update, one insert of events. The rows are locked
    by the caller, in a transaction."""
    changes = [c for c in changes if c.says_something]
    if not changes:
        return
    rows = {str(c.delivery.pk): _row(c, now) for c in changes}
    key = Cast(F("id"), TextField())

    def text(name: str) -> JsonText:
        return JsonText(Value({pk: row[name] for pk, row in rows.items()}, JSONField()), key)

    results = Value({pk: row["results"] for pk, row in rows.items()}, JSONField())
    Delivery.objects.filter(id__any=[c.delivery.pk for c in changes]).update(
        phase=text("phase"),
        phase_since=Cast(text("phase_since"), DateTimeField()),
        not_before=Cast(text("not_before"), DateTimeField()),
        attempt=Cast(text("attempt"), IntegerField()),
        max_attempts=Cast(text("max_attempts"), IntegerField()),
        report_counter=Cast(text("report_counter"), BigIntegerField()),
        report_boot=text("report_boot"),
        heard_at=Cast(text("heard_at"), DateTimeField()),
        progress=Cast(text("progress"), IntegerField()),
        last_error=text("last_error"),
        last_error_text=text("last_error_text"),
        results=JsonMember(results, key),
        fetch_only=Cast(text("fetch_only"), BooleanField()),
        file_stored_at=Cast(text("file_stored_at"), DateTimeField()),
        is_current_step=Cast(text("is_current_step"), BooleanField()),
        notice_shown_at=Cast(text("notice_shown_at"), DateTimeField()),
        times_deferred=Cast(text("times_deferred"), IntegerField()),
        deferred_at=Cast(text("deferred_at"), DateTimeField()),
    )
    _write_next_steps([c.delivery.pk for c in changes if c.steps and c.steps[-1].to is Phase.CONFIRMED], now)
    DeliveryEvent.objects.bulk_create([event for c in changes for event in _events(c, now)])
    notify_about(
        {c.delivery.rollout_id for c in changes},
        {c.delivery.occurrence.schedule_id for c in changes if c.delivery.occurrence},
    )


def _events(change: Change, now: datetime) -> list[DeliveryEvent]:
    events, phase = [], change.delivery.phase
    for cause in change.notes:
        about = {"delivery_id": change.delivery.pk, "at": now, "attempt": change.delivery.attempt}
        events.append(DeliveryEvent(**about, from_phase=phase, to_phase=phase, cause=cause.value))
    for step in change.steps:
        events.append(
            DeliveryEvent(
                delivery_id=change.delivery.pk,
                at=now,
                from_phase=phase,
                to_phase=step.to.value,
                attempt=change.delivery.attempt,
                cause=step.cause[:120],
                detail=step.detail[:300],
            )
        )
        phase = step.to.value
    return events


def _row(change: Change, now: datetime) -> dict[str, Any]:
    """The delivery's columns after the change."""
    delivery, steps = change.delivery, change.steps
    row: dict[str, Any] = {
        "phase": steps[-1].to.value if steps else delivery.phase,
        "phase_since": (now if steps else delivery.phase_since).isoformat(),
        "not_before": delivery.not_before.isoformat(),
        "attempt": delivery.attempt,
        "max_attempts": delivery.max_attempts,
        "report_counter": delivery.report_counter if change.counter is None else change.counter,
        "report_boot": delivery.report_boot if change.counter is None else change.boot,
        "heard_at": _iso(delivery.heard_at if change.counter is None else now),
        "progress": delivery.progress if change.progress is None else change.progress,
        "last_error": delivery.last_error,
        "last_error_text": delivery.last_error_text,
        "results": change.results or delivery.results,
        "is_current_step": delivery.is_current_step,
        "fetch_only": delivery.fetch_only,
        "file_stored_at": _iso(delivery.file_stored_at),
        "notice_shown_at": _iso(now if Cause.NOTICE_SHOWN in change.notes else delivery.notice_shown_at),
        "times_deferred": delivery.times_deferred + (Cause.DEFERRED in change.notes),
        "deferred_at": _iso(now if Cause.DEFERRED in change.notes else delivery.deferred_at),
    }
    if row["phase"] == Phase.CONFIRMED.value:
        row["is_current_step"] = delivery.hop >= delivery.hops
    for step in steps:
        if step.event in (Event.RETRY, Event.FAIL):
            row |= {"last_error": step.cause[:60], "last_error_text": step.detail[:300]}
        if step.event is Event.RETRY:
            pause = retry_pause(FIRST_RETRY_PAUSE, delivery.attempt, step.cause)
            row |= {
                "attempt": delivery.attempt + 1,
                # an attempt that nobody is to blame for is not counted
                "max_attempts": delivery.max_attempts + (step.cause in NOT_COUNTED),
                "not_before": max(now + pause, delivery.not_before).isoformat(),
                "report_counter": NO_COUNTER,
                "progress": 0,
                "fetch_only": False,
                "file_stored_at": None,  # what came of the file is not known
            }
        if step.event is Event.STORE_FILE:
            # the install is an order of its own, and this one was no attempt at it
            row |= {"attempt": delivery.attempt + 1, "max_attempts": delivery.max_attempts + 1}
            row |= {"report_counter": NO_COUNTER, "progress": 0, "fetch_only": False, "file_stored_at": now.isoformat()}
    return row


def _iso(moment: datetime | None) -> str | None:
    return moment.isoformat() if moment else None


def withdraw(deliveries: "QuerySet[Delivery]", *, now: datetime, cause: str) -> int:
    """Take deliveries back that no device has begun to install."""
    return move(deliveries, Event.WITHDRAW, now=now, cause=cause)


def recall(deliveries: "QuerySet[Delivery]", *, now: datetime, cause: str) -> int:
    """Take offers back that no device has accepted; they wait again."""
    return move(deliveries, Event.RECALL, now=now, cause=cause, offer_until=None)


def take_steps(steps: Mapping[tuple[int, int], Sequence[int]]) -> None:
    """Give waiting deliveries another way: for a delivery and the image it gets next, the images after that."""
    by_way: dict[tuple[int, tuple[int, ...]], list[int]] = {}
    for (delivery_id, image_id), ahead in steps.items():
        by_way.setdefault((image_id, tuple(ahead)), []).append(delivery_id)
    for (image_id, rest), ids in by_way.items():
        Delivery.objects.filter(id__any=ids).waiting().exclude(image=image_id, remaining_image_ids=list(rest)).update(
            image=image_id,
            remaining_image_ids=list(rest),
            hops=F("hop") + len(rest),
            target=rest[-1] if rest else image_id,
            file_stored_at=None,
        )


def supersede(deliveries: "QuerySet[Delivery]", *, now: datetime, cause: str) -> int:
    """Take deliveries back that another order has taken the place of."""
    return move(deliveries, Event.SUPERSEDE, now=now, cause=cause)


def rejoin(deliveries: "QuerySet[Delivery]", *, now: datetime, cause: str) -> int:
    """Let deliveries wait again that were withdrawn as their device left the audience."""
    return move(deliveries, Event.READMIT, now=now, cause=cause, file_stored_at=None)


def confirm_late(deliveries: "QuerySet[Delivery]", *, now: datetime) -> int:
    """Confirm what had failed or expired, where the device reports the wanted version and good health after all."""
    return move(deliveries, Event.CONFIRM_LATE, now=now, cause="runs the version after all", late=True)


def mark_lost(deliveries: "QuerySet[Delivery]", *, reason: str, now: datetime) -> int:
    """Count confirmed devices as lost, for a reason; an empty one says that they are well again. How many changed."""
    with transaction.atomic():
        confirmed = deliveries.filter(phase=Phase.CONFIRMED.value).exclude(lost=reason)
        rows = list(
            Delivery.objects.filter(id__any=list(confirmed.values_list("id", flat=True)))
            .order_by("id")
            .select_for_update(of=("self",))
            .values_list("id", "attempt", "rollout_id")
        )
        Delivery.objects.filter(id__any=[r[0] for r in rows]).update(lost=reason)
        cause = f"lost after confirming: {reason}" if reason else "is well again"
        DeliveryEvent.objects.bulk_create(
            [
                DeliveryEvent(
                    delivery_id=pk,
                    at=now,
                    from_phase=Phase.CONFIRMED.value,
                    to_phase=Phase.CONFIRMED.value,
                    attempt=attempt,
                    cause=cause,
                )
                for pk, attempt, _ in rows
            ],
            batch_size=EVENT_BATCH,
        )
        notify_about({r[2] for r in rows}, ())
    return len(rows)


def retry(deliveries: "QuerySet[Delivery]", *, now: datetime, cause: str) -> int:
    """Give those that failed or expired another attempt, at once."""
    return move(
        deliveries,
        Event.RETRY_MANUALLY,
        now=now,
        cause=cause,
        attempt=F("attempt") + 1,
        max_attempts=F("attempt") + 1,
        report_counter=NO_COUNTER,
        progress=0,
        not_before=now,
    )


def extend_expiry(deliveries: DeliveryQuerySet, *, until: datetime) -> None:
    """Let waiting deliveries have until then before they expire, where they had less."""
    deliveries.waiting().filter(not_after__lt=until).update(not_after=until)


def put_in_ring(deliveries: "QuerySet[Delivery]", ring_id: int) -> None:
    """Have the deliveries belong to another ring of their rollout."""
    deliveries.update(ring=ring_id)


def set_expiry(deliveries: DeliveryQuerySet, *, until: datetime) -> None:
    """Let what no device has begun to install expire at that moment."""
    deliveries.filter(phase__in=[p.value for p in RECALLABLE]).update(not_after=until)


def expedite(deliveries: DeliveryQuerySet, *, now: datetime) -> int:
    """Let waiting deliveries go as soon as a window allows: before their ring opens, without the pause of a retry."""
    changed: int = deliveries.waiting().update(expedited=True, not_before=now)
    return changed


def hold(deliveries: "QuerySet[Delivery]", *, reason: str) -> int:
    """Hold waiting deliveries back with a reason, or let them go with none; how many."""
    return deliveries.update(hold_reason=reason)


def write_deliveries(rows: Sequence[Delivery]) -> None:
    """Write new deliveries, waiting or found done."""
    copy_rows(rows)


def write_alike(like: Delivery, devices: Iterable[tuple[int, datetime]]) -> None:
    """Write new deliveries that are as one, but for their devices and the moments from which each may be offered."""
    copy_alike(like, ("device_id", "not_before"), devices)
