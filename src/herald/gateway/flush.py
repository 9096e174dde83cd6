"""Writing a batch of check-ins: a few set-based statements for all of them, in one transaction."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple

from django.db import transaction
from django.db.models import (
    BigIntegerField,
    BooleanField,
    Case,
    DateTimeField,
    Exists,
    ExpressionWrapper,
    F,
    IntegerField,
    JSONField,
    OuterRef,
    Q,
    TextField,
    Value,
    When,
)
from django.db.models.functions import Cast, Coalesce
from django.db.models.sql import Query

from herald.db.compiled import Compiled, update_of
from herald.db.expressions import IsNotNull, JsonMember, JsonSince, JsonText, NotTrue
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.editing import fact_sort_keys, replaced_keys
from herald.fleet.live_view import ASKED_FOR, CALLS_EVERY_SECONDS, LIVE_FOR
from herald.fleet.models import Admission, Device, MembershipQueueEntry, PropertyDefinition
from herald.fleet.presence import heard_in_time
from herald.fleet.properties import note_reported
from herald.gateway.messages import Answer, CheckIn, Order, ProtocolError, delivery_and_attempt
from herald_core.deliveries import ACTIVE, Cause, Kind, Phase, Report, is_stale
from herald_core.versions import version_key_or_none

UNKNOWN = ProtocolError(401, "unknown-device", "No device has this secret.")
_SECRET = F("secret_hash")
#: how soon a device that is asked to say everything is to call again
REPORT_SECONDS = 5
RETIRED = ProtocolError(410, "retired", "This device is retired.")


@dataclass(frozen=True, slots=True)
class PendingCheckIn:
    """A check-in with the hash of the secret that it came with."""

    secret_hash: str
    message: CheckIn


@dataclass
class Counters:
    """What was answered and ignored; shown at /device/v1/health."""

    check_ins: int = 0
    unknown_devices: int = 0
    ignored_reports: int = 0


counters = Counters()


def flush(arrivals: Sequence[PendingCheckIn], *, now: datetime) -> list[Answer | ProtocolError]:
    """Store the check-ins and answer each, in their order; committed when this returns."""
    latest = {a.secret_hash: a for a in arrivals}
    with transaction.atomic():
        rows = _known_devices(latest, now)
        changed = _store(rows, latest, now)
        live = _live(rows, now)
        matters = [
            r.id for r in rows.values() if r.admission != Admission.RETIRED and (r.id in changed or not r.was_on_time)
        ]
        MembershipQueueEntry.objects.note(matters, now)
        orders = _take_reports(rows, arrivals, now)
    counters.check_ins += len(arrivals)
    return [_answer(rows.get(a.secret_hash), a, orders, live, now) for a in arrivals]


def _live(rows: Mapping[str, "Known"], now: datetime) -> set[int]:
    """The devices that are watched live; whoever was to be told so is told now, and is live from now on."""
    asked = {r.id for r in rows.values() if r.live_asked_at is not None}
    begin = {r.id for r in rows.values() if r.live_asked_at is not None and r.live_asked_at > now - ASKED_FOR}
    if begin:
        Device.objects.by_ids(list(begin)).update(live_until=now + LIVE_FOR)
    if asked:
        Device.objects.by_ids(list(asked)).update(live_asked_at=None)
    return begin | {r.id for r in rows.values() if r.live_until is not None and r.live_until > now}


class Known(NamedTuple):
    """What the batch must know of a device before it is written."""

    id: int
    secret_hash: str
    admission: str
    check_in_interval_seconds: int
    said_digest: int | None
    facts_digest: int | None
    healthy: bool
    firmware: str | None
    report_asked_at: datetime | None
    live_asked_at: datetime | None
    live_until: datetime | None
    was_on_time: bool
    is_busy: bool


def _known_devices(latest: Mapping[str, PendingCheckIn], now: datetime) -> dict[str, Known]:
    """The devices that the secrets belong to, by hash, locked.

    Every gateway locks the devices of its batch in the same order, so that no two wait for each other.
    """
    return {row[1]: Known(*row) for row in _KNOWN.rows(list(latest), now)}


def _known_query(hashes: list[str], now: datetime) -> Query:
    """All that is asked of devices, asked at once: with few calls, what a call costs is the number of queries."""
    query: Query = (
        Device.objects.locked_by_secrets(hashes)
        .annotate(
            was_on_time=ExpressionWrapper(heard_in_time(now), BooleanField()),
            is_busy=Exists(Delivery.objects.in_hand().filter(device_id=OuterRef("pk"))),
        )
        .values_list(*Known._fields)
        .query
    )
    return query


def _heard_query(ids: list[int], now: datetime) -> Query:
    return update_of(Device.objects.by_ids(ids), last_check_in=now)


_MOMENTS = datetime(2026, 1, 1, tzinfo=UTC), datetime(2026, 1, 2, tzinfo=UTC)
_KNOWN = Compiled(_known_query, (["a"], _MOMENTS[0]), (["b"], _MOMENTS[1]))
_HEARD = Compiled(_heard_query, ([1], _MOMENTS[0]), ([2], _MOMENTS[1]))


def _store(rows: Mapping[str, Known], latest: Mapping[str, PendingCheckIn], now: datetime) -> set[int]:
    """Write the check-ins; the devices whose firmware or facts are new.

    Most devices say again what they said last, which the digest tells without reading their facts:
    for them only the time of the call is written.
    """
    heard = {key: row for key, row in rows.items() if row.admission != Admission.RETIRED}
    told = [row.id for key, row in heard.items() if row.report_asked_at and latest[key].message.facts is not None]
    if told:
        Device.objects.by_ids(told).update(report_asked_at=None)
    digests = {key: latest[key].message.digests() for key in heard}
    news = {key: latest[key] for key, row in heard.items() if _is_news(row, *digests[key])}
    quiet = [row.id for key, row in heard.items() if key not in news]
    if quiet:
        _HEARD.change(quiet, now)
    if not news:
        return set()
    known = PropertyDefinition.objects.types()
    note_reported({k for a in news.values() for k in a.message.facts or ()}, known, now)
    version_facts = [k for k, (source, kind) in known.items() if source == "fact" and kind == "version"]
    said = _reported(news, digests, version_facts)
    changed = _really_changed(news, said)
    _store_news(news, said, version_facts, now)
    return changed


def _is_news(row: Known, said: int, facts: int | None) -> bool:
    return row.said_digest != said or (facts is not None and row.facts_digest != facts)


def _reported(
    news: Mapping[str, PendingCheckIn], digests: Mapping[str, tuple[int, int | None]], version_facts: Sequence[str]
) -> dict[str, Value]:
    """What the batch reports, one JSON parameter for each column: the value by secret hash.

    One for each, as a parameter that several expressions use is sent and read once for each of them.
    """
    columns: dict[str, dict[str, Any]] = {
        "firmware": {},
        "key": {},
        "facts": {},
        "healthy": {},
        "fault": {},
        "boot": {},
    }
    for secret, arrival in news.items():
        message = arrival.message
        if message.firmware is not None:
            columns["firmware"][secret] = message.firmware
            columns["key"][secret] = version_key_or_none(message.firmware)
        if message.facts is not None:
            columns["facts"][secret] = message.facts
        if message.health is not None:
            columns["healthy"][secret] = message.health.ok
            columns["fault"][secret] = message.health.fault[:200].replace("\x00", "")
        if message.boot:
            columns["boot"][secret] = message.boot
    columns["digest"] = {secret: digests[secret][0] for secret in news}
    columns["facts_digest"] = {secret: digests[secret][1] for secret in columns["facts"]}
    columns["version_keys"] = {s: fact_sort_keys(facts, version_facts) for s, facts in columns["facts"].items()}
    return {name: Value(values, JSONField()) for name, values in columns.items()}


def _really_changed(news: Mapping[str, PendingCheckIn], said: Mapping[str, Value]) -> set[int]:
    """Those whose firmware or facts differ from what is stored: the order of keys, for one, does not count."""
    facts, firmware = JsonMember(said["facts"], _SECRET), JsonText(said["firmware"], _SECRET)
    same_firmware = ExpressionWrapper(
        Q(firmware=Coalesce(firmware, F("firmware"), output_field=TextField())), BooleanField()
    )
    differs = ~Q(facts=Coalesce(facts, F("facts"))) | Q(NotTrue(same_firmware)) & Q(IsNotNull(firmware))
    return set(Device.objects.filter(differs, secret_hash__any=list(news)).values_list("id", flat=True))


def _store_news(
    news: Mapping[str, PendingCheckIn], said: Mapping[str, Value], version_facts: Sequence[str], now: datetime
) -> None:
    def text_or_kept(name: str, column: str) -> Coalesce:
        return Coalesce(JsonText(said[name], _SECRET), F(column), output_field=TextField())

    Device.objects.filter(secret_hash__any=list(news)).update(
        last_check_in=now,
        first_seen=Coalesce(F("first_seen"), Value(now)),
        facts=Coalesce(JsonMember(said["facts"], _SECRET), F("facts")),
        facts_since=Case(
            When(
                Q(IsNotNull(JsonMember(said["facts"], _SECRET))),
                then=JsonSince(
                    JsonMember(said["facts"], _SECRET), F("facts"), F("facts_since"), Value(now, DateTimeField())
                ),
            ),
            default=F("facts_since"),
        ),
        firmware=text_or_kept("firmware", "firmware"),
        firmware_key=text_or_kept("key", "firmware_key"),
        healthy=Coalesce(Cast(JsonText(said["healthy"], _SECRET), BooleanField()), F("healthy")),
        fault=text_or_kept("fault", "fault"),
        boot=text_or_kept("boot", "boot"),
        boots=Case(When(_booted_again(said), then=F("boots") + 1), default=F("boots"), output_field=IntegerField()),
        version_keys=Coalesce(
            replaced_keys(version_facts, JsonMember(said["version_keys"], _SECRET)), F("version_keys")
        ),
        said_digest=Cast(JsonText(said["digest"], _SECRET), BigIntegerField()),
        facts_digest=Coalesce(Cast(JsonText(said["facts_digest"], _SECRET), BigIntegerField()), F("facts_digest")),
    )


def _booted_again(said: Mapping[str, Value]) -> Q:
    """True of a device that names another boot than the one it named before."""
    told = JsonText(said["boot"], _SECRET)
    same = ExpressionWrapper(Q(boot=Coalesce(told, F("boot"), output_field=TextField())), BooleanField())
    return Q(boot__gt="") & Q(IsNotNull(told)) & Q(NotTrue(same))


def _take_reports(rows: Mapping[str, Known], arrivals: Sequence[PendingCheckIn], now: datetime) -> dict[int, Delivery]:
    """Let the reports and states change the active orders; the orders, by device."""
    admitted = {key: r for key, r in rows.items() if r.admission == Admission.ADMITTED}
    if not admitted:
        return {}
    busy = [r.id for r in admitted.values() if r.is_busy]
    if not busy:
        return {}
    orders = {d.device_id: d for d in Delivery.objects.orders_of(busy)}
    changes, seen = [], set()
    for arrival in reversed(arrivals):  # the last word of a device counts
        row = admitted.get(arrival.secret_hash)
        delivery = orders.get(row.id) if row else None
        if row is None or delivery is None or row.id in seen:
            continue
        seen.add(row.id)
        changes.append(_judged(delivery, arrival.message, row, now))
    _attach_permits(orders.values())
    deliveries.apply_changes(changes, now=now)
    for change in changes:
        if change.steps:
            change.delivery.phase = change.steps[-1].to.value
        change.delivery.times_deferred += Cause.DEFERRED in change.notes
    return orders


def _attach_permits(orders: Iterable[Delivery]) -> None:
    """Give orders of rollouts that may take devices down the leave for it."""
    down = [d for d in orders if d.rollout and (d.rollout.downgrades or d.rollout.rolls_back_id)]
    if down:
        permits = Delivery.objects.downgrade_permits({d.rollout_id for d in down if d.rollout_id})
        for delivery in down:
            delivery.permit = permits.get((delivery.rollout_id or 0, delivery.image_id or 0), "")


def _judged(delivery: Delivery, message: CheckIn, row: Known, now: datetime) -> deliveries.Change:
    return deliveries.evaluate_report(
        delivery,
        _report_for(delivery, message),
        firmware=message.firmware if message.firmware is not None else row.firmware,
        healthy=message.health.ok if message.health is not None else row.healthy,
        now=now,
    )


def _report_for(delivery: Delivery, message: CheckIn) -> Report | None:
    """The report, if it is about this order and attempt."""
    report = message.report
    if report is None:
        return None
    about, attempt = delivery_and_attempt(report.order)
    found = Report(
        attempt=attempt,
        counter=report.counter,
        phase=report.phase,
        progress=report.progress,
        error=report.error,
        error_text=report.error_text,
        results=report.results,
        boot=report.boot,
        notice_shown=report.notice_shown,
        deferred=report.deferred,
    )
    if about != delivery.pk or is_stale(deliveries.as_in_hand(delivery), found):
        counters.ignored_reports += 1
        return None
    return found


def _answer(
    row: Known | None, arrival: PendingCheckIn, orders: Mapping[int, Delivery], live: Collection[int], now: datetime
) -> Answer | ProtocolError:
    if row is None:
        counters.unknown_devices += 1
        return UNKNOWN
    if row.admission == Admission.RETIRED:
        return RETIRED
    answer = Answer(admission=row.admission, next_check_in_seconds=row.check_in_interval_seconds)
    if row.report_asked_at is not None and arrival.message.facts is None:
        answer.report, answer.next_check_in_seconds = True, min(answer.next_check_in_seconds, REPORT_SECONDS)
    if row.id in live:
        answer.report, answer.next_check_in_seconds = True, min(answer.next_check_in_seconds, CALLS_EVERY_SECONDS)
    delivery = orders.get(row.id)
    if delivery is not None and _may_have(delivery, now):
        answer.order = order_of(delivery, now)
        if delivery.phase == Phase.CONFIRMING and delivery.image and delivery.image.soak_minutes:
            answer.next_check_in_seconds = min(answer.next_check_in_seconds, delivery.image.soak_minutes * 60)
    report = arrival.message.report
    if report is not None and (answer.order is None or answer.order.id != report.order):
        answer.withdrawn = [report.order]
    return answer


def _may_have(delivery: Delivery, now: datetime) -> bool:
    """Whether the order still stands: it is not closed, and an untouched offer is not past its time."""
    if delivery.phase == Phase.OFFERED:
        return delivery.offer_until is not None and delivery.offer_until > now
    return Phase(delivery.phase) in ACTIVE


def order_of(delivery: Delivery, now: datetime) -> Order:
    """The order as the device is told it. Its times are seconds from now, so that no device's clock matters."""
    until = delivery.offer_until or delivery.not_after
    common: dict[str, Any] = {
        "id": f"{delivery.pk}.{delivery.attempt}",
        "not_after_seconds": max(0, int((until - now) / timedelta(seconds=1))),
    }
    if delivery.kind == Kind.COMMAND.value and delivery.occurrence is not None:
        return Order(kind="command", **delivery.occurrence.order, **common)
    image = delivery.image
    if image is None:
        raise ValueError(f"delivery {delivery.pk} has nothing to deliver")
    return Order(
        kind="install",
        version=image.version,
        size=image.size_bytes,
        sha256=image.sha256,
        jws=image.signature,
        downgrade=delivery.permit,
        expected_minutes=image.expected_minutes,
        fetch_only=delivery.fetch_only,
        **_notice(delivery, now),
        **common,
    )


def _notice(delivery: Delivery, now: datetime) -> dict[str, Any]:
    """What is to be shown before an install, and whether that may be put off; nothing where only the file comes."""
    rollout = delivery.rollout
    if rollout is None or not rollout.notice or delivery.fetch_only:
        return {}
    may_defer = rollout.deferral.allows(delivery.times_deferred, now)
    until = rollout.defer_until if may_defer else None
    seconds = max(0, int((until - now) / timedelta(seconds=1))) if until else 0
    return {"notice": rollout.notice, "may_defer": may_defer, "defer_until_seconds": seconds}
