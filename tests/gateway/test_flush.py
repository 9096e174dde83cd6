"""Check-ins: what is stored, what is answered, what is ignored."""

import json
from datetime import datetime, timedelta
from typing import Any

import jwt
import pytest
from django.db import connection, transaction
from django.test.utils import CaptureQueriesContext
from hypothesis import given, settings
from hypothesis import strategies as st

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.fleet.models import Device, MembershipQueueEntry, PropertyDefinition
from herald.fleet.secrets import hash_secret
from herald.fleet.services import ask_to_report
from herald.gateway.flush import PendingCheckIn, counters, flush
from herald.gateway.messages import Answer, ProtocolError, read_check_in
from herald.http.errors import Conflict
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.models import Rollout
from herald_core.versions import version_key
from tests.factories import NOW, launched, make_device, make_devices, make_draft, make_image, make_static

pytestmark = pytest.mark.django_db


def arrive(device: Device | str, **message: Any) -> PendingCheckIn:
    import msgspec

    secret = device if isinstance(device, str) else f"secret-{device.uid}"
    return PendingCheckIn(hash_secret(secret), read_check_in(msgspec.json.encode(message)))


def answer_to(device: Device, *, now: Any = NOW, **message: Any) -> Answer:
    answer = flush([arrive(device, **message)], now=now)[0]
    assert isinstance(answer, Answer), answer
    return answer


def offered(device: Device, **image: Any) -> tuple[Rollout, Delivery]:
    """The device with an install offered to it."""
    rollout = launched(make_draft(make_static(f"G{device.pk}", [device]), make_image(**image)))
    deliveries.offer(
        Delivery.objects.of_rollout(rollout.pk).values_list("id", flat=True), until=NOW + timedelta(hours=1), now=NOW
    )
    return rollout, Delivery.objects.get(rollout=rollout)


def said(delivery: Delivery, phase: str, counter: int, **more: Any) -> dict[str, Any]:
    return {"order": f"{delivery.pk}.{delivery.attempt}", "counter": counter, "phase": phase, **more}


def statements(device: Device, **message: Any) -> int:
    with CaptureQueriesContext(connection) as asked:
        answer_to(device, **message)
    return len(asked)


def test_what_a_device_says_again_is_only_a_call_with_its_facts_or_without() -> None:
    device = make_device(facts={})
    same = {"firmware": "5.2.0", "boot": "7", "health": {"ok": True}}
    statements(device, **same, facts={"battery": 80})
    quiet = statements(device, **same)
    assert quiet == statements(device, **same, facts={"battery": 80}) == statements(device, **same)
    for change in ({"facts": {"battery": 79}}, {"boot": "8"}, {"health": {"ok": False}}, {"firmware": "5.2.1"}):
        assert statements(device, **{**same, **change}) > quiet, change
    device.refresh_from_db()
    assert (device.firmware, device.boots, device.healthy, device.facts) == ("5.2.1", 2, True, {"battery": 79})


def test_facts_that_come_back_to_what_they_were_are_stored_again() -> None:
    device = make_device(facts={})
    for battery in (80, 79, 80):
        answer_to(device, firmware="5.2.0", facts={"battery": battery})
        answer_to(device, firmware="5.2.0")
        device.refresh_from_db()
        assert device.facts == {"battery": battery}


def test_facts_and_firmware_are_stored_and_marked() -> None:
    device = make_device(facts={"battery": 80})
    answer = answer_to(device, firmware="v5.2", facts={"battery": 79, "uplink": "e\u0301"})
    device.refresh_from_db()
    assert (device.firmware, device.firmware_key) == ("v5.2", version_key("5.2.0"))
    assert device.facts == {"battery": 79, "uplink": "é"}
    assert device.last_check_in == NOW
    assert MembershipQueueEntry.objects.get().device_id == device.pk
    assert (answer.order, answer.admission, answer.next_check_in_seconds) == (None, "admitted", 900)


def test_an_order_carries_the_notice_and_after_a_step_the_next_one_is_offered_anew() -> None:
    make_image("5.0.1", b"stone", min_version="4.8.0")
    device = make_device(firmware="4.9.2")
    image = make_image("5.2.1", min_version="5.0.0")
    rollout = launched(make_draft(make_static("G", [device]), image, notice="Valves stay shut."))
    tick_rollouts(now=NOW)
    answer = answer_to(device)
    assert answer.order is not None
    assert (answer.order.version, answer.order.notice) == ("5.0.1", "Valves stay shut.")
    done = Delivery.objects.get()
    answer_to(device, report=said(done, "installing", 1))
    answer = answer_to(device, firmware="5.0.1", report=said(done, "confirming", 2))
    assert (answer.order, answer.withdrawn) == (None, [f"{done.pk}.1"])
    tick_rollouts(now=NOW)
    again = answer_to(device)
    assert again.order is not None and again.order.version == "5.2.1"
    assert [d.phase for d in Delivery.objects.of_rollout(rollout.pk)] == ["offered"]


def test_nothing_new_marks_nothing() -> None:
    device = make_device(facts={"battery": 80})
    answer_to(device, firmware="5.1.0", facts={"battery": 80}, health={"ok": True})
    answer_to(device)
    assert MembershipQueueEntry.objects.count() == 0


def test_a_device_that_was_late_is_looked_at_again() -> None:
    device = make_device(last_check_in=NOW - timedelta(hours=3))
    answer_to(device)
    assert MembershipQueueEntry.objects.count() == 1


def test_unknown_and_retired_devices_learn_nothing_else() -> None:
    retired = make_device(admission="retired")
    answers = flush([arrive("forged"), arrive(retired, firmware="9")], now=NOW)
    assert [a.status for a in answers if isinstance(a, ProtocolError)] == [401, 410]
    retired.refresh_from_db()
    assert retired.firmware == "5.1.0"


def test_a_waiting_device_gets_no_orders() -> None:
    device = make_device()
    offered(device)
    Device.objects.update(admission="waiting")
    answer = answer_to(device)
    assert (answer.admission, answer.order) == ("waiting", None)


def test_an_order_is_given_again_until_it_is_done() -> None:
    device = make_device()
    _, delivery = offered(device)
    first, second = answer_to(device).order, answer_to(device).order
    assert first is not None and first == second
    assert (first.id, first.version, first.kind) == (f"{delivery.pk}.1", "5.2.1", "install")
    assert first.not_after_seconds == 3600
    assert first.size == 8 and len(first.sha256) == 64 and first.jws.count(".") == 2


def test_an_offer_past_its_time_is_not_given() -> None:
    device = make_device()
    offered(device)
    assert answer_to(device, now=NOW + timedelta(hours=1)).order is None


def test_from_offer_to_confirmed() -> None:
    device = make_device()
    _, delivery = offered(device)
    for counter, phase in enumerate(("accepted", "fetching", "staged", "installing"), 1):
        answer_to(device, firmware="5.1.0", report=said(delivery, phase, counter))
        delivery.refresh_from_db()
        assert delivery.phase == phase
    answer = answer_to(device, firmware="5.2.1", health={"ok": True}, report=said(delivery, "confirming", 5))
    delivery.refresh_from_db()
    assert (delivery.phase, answer.order) == ("confirmed", None)
    steps = list(DeliveryEvent.objects.order_by("id").values_list("to_phase", flat=True))
    assert steps == ["offered", "accepted", "fetching", "staged", "installing", "confirming", "confirmed"]


def test_delivered_is_not_done() -> None:
    device = make_device()
    _, delivery = offered(device, soak_minutes=10)
    answer = answer_to(device, firmware="5.2.1", report=said(delivery, "confirming", 1))
    delivery.refresh_from_db()
    assert delivery.phase == "confirming"  # the soak is not over
    assert answer.next_check_in_seconds == 600
    answer_to(device, firmware="5.2.1", now=NOW + timedelta(minutes=10))
    delivery.refresh_from_db()
    assert delivery.phase == "confirmed"


def test_replayed_late_and_foreign_reports_change_nothing() -> None:
    device, other = make_devices(2)
    _, delivery = offered(device)
    answer_to(device, report=said(delivery, "installing", 7))
    before = counters.ignored_reports
    for report in (
        said(delivery, "installing", 7),
        said(delivery, "failed", 3, error="old"),
        {**said(delivery, "failed", 99), "order": f"{delivery.pk}.2"},
        {**said(delivery, "failed", 99), "order": "999999.1"},
    ):
        answer_to(device, report=report)
    forged = answer_to(other, report=said(delivery, "failed", 99))
    assert forged.withdrawn == [f"{delivery.pk}.1"]
    delivery.refresh_from_db()
    assert (delivery.phase, delivery.report_counter) == ("installing", 7)
    assert counters.ignored_reports - before == 4


def test_a_failure_is_tried_again_after_a_pause_then_counts() -> None:
    device = make_device()
    _, delivery = offered(device)
    answer_to(device, report=said(delivery, "failed", 1, error="flash-verify", error_text="other bytes"))
    delivery.refresh_from_db()
    assert (delivery.phase, delivery.attempt, delivery.last_error) == ("waiting", 2, "flash-verify")
    assert delivery.not_before == NOW + timedelta(minutes=10)
    deliveries.offer([delivery.pk], until=NOW + timedelta(hours=1), now=NOW)
    answer_to(device, report=said(delivery, "failed", 1, error="flash-verify"))
    delivery.refresh_from_db()
    assert delivery.phase == "failed"


@pytest.mark.parametrize(("error", "phase", "pause"), [("bad-hash", "waiting", 0), ("no-space", "failed", None)])
def test_what_chance_explains_is_tried_at_once_and_what_is_hopeless_never(
    error: str, phase: str, pause: int | None
) -> None:
    device = make_device()
    _, delivery = offered(device)
    answer_to(device, report=said(delivery, "failed", 1, error=error))
    delivery.refresh_from_db()
    assert (delivery.phase, delivery.last_error) == (phase, error)
    if pause is not None:
        assert delivery.not_before == NOW + timedelta(minutes=pause)


def test_an_order_to_go_down_carries_signed_leave_and_no_other_does() -> None:
    down, up = make_device(firmware="9.0.0"), make_device(firmware="5.1.0")
    image = make_image()
    rollout = launched(make_draft(make_static("G", [down, up]), image, downgrades=True))
    ids = Delivery.objects.of_rollout(rollout.pk).values_list("id", flat=True)
    deliveries.offer(ids, until=NOW + timedelta(hours=1), now=NOW)
    order = answer_to(down).order
    assert order is not None
    leave = json.loads(jwt.api_jws.decode(order.downgrade, options={"verify_signature": False}))
    assert (leave["rollout"], leave["version"]) == (rollout.pk, image.version)
    assert leave["not_after"] == (NOW + timedelta(days=14)).isoformat(timespec="seconds")
    _, delivery = offered(make_device(), version="6.0.0")
    plain = answer_to(delivery.device).order
    assert plain is not None and plain.downgrade == ""


def test_coming_back_on_the_old_version_is_a_failure() -> None:
    device = make_device()
    _, delivery = offered(device)
    answer_to(device, firmware="5.1.0", report=said(delivery, "confirming", 1))
    delivery.refresh_from_db()
    assert (delivery.phase, delivery.last_error) == ("waiting", "wrong-version")


def test_one_batch_holds_many_devices_and_the_last_word_of_each() -> None:
    devices = make_devices(40)
    rollout = launched(make_draft(make_static("G", devices)))
    ids = Delivery.objects.of_rollout(rollout.pk).values_list("id", flat=True)
    deliveries.offer(ids, until=NOW + timedelta(hours=1), now=NOW)
    by_device = {d.device_id: d for d in Delivery.objects.all()}
    arrivals = [arrive(d, report=said(by_device[d.pk], "accepted", 1)) for d in devices]
    arrivals.append(arrive(devices[0], report=said(by_device[devices[0].pk], "fetching", 2)))
    answers = flush(arrivals, now=NOW)
    assert all(isinstance(a, Answer) and a.order for a in answers)
    counts = {p: Delivery.objects.filter(phase=p).count() for p in ("accepted", "fetching")}
    assert counts == {"accepted": 39, "fetching": 1}


def test_the_number_of_statements_does_not_grow_with_the_batch(django_assert_max_num_queries: Any) -> None:
    devices = make_devices(60)
    with django_assert_max_num_queries(11):  # a key that is new is looked up and noted
        flush([arrive(d, facts={"n": -1}) for d in devices], now=NOW)
    PropertyDefinition.objects.create(key="n", source="fact", label="N", type="number")
    with django_assert_max_num_queries(9):
        flush([arrive(d, facts={"n": i}) for i, d in enumerate(devices)], now=NOW)


def test_restarts_are_counted_by_the_boots_that_a_device_names() -> None:
    device = make_device()
    for boot in ("a", "a", "", "b", "b", "c"):
        answer_to(device, firmware="5.1.0", **({"boot": boot} if boot else {}))
    device.refresh_from_db()
    assert (device.boot, device.boots) == ("c", 2)
    with pytest.raises(ProtocolError, match="boot"):
        read_check_in(json.dumps({"boot": "x" * 41}).encode())


def test_a_fault_is_stored_and_shown() -> None:
    device = make_device()
    answer_to(device, health={"ok": False, "fault": "fan stuck"})
    device.refresh_from_db()
    assert (device.healthy, device.fault) == (False, "fan stuck")


@pytest.mark.parametrize(
    ("body", "code"),
    [
        (b"{", "malformed"),
        (b'{"firmware": 5}', "malformed"),
        (b'{"firmware": "a b"}', "bad-version"),
        (b'{"facts": {"A b": 1}}', "bad-fact-key"),
        (b'{"facts": {"a": [1]}}', "bad-fact"),
        (b'{"facts": {"a": "\\u0000"}}', "bad-fact"),
        (b'{"facts": {"a": 1e300}}', "bad-fact"),
        (b'{"facts": {"a": "' + b"x" * 9000 + b'"}}', "fact-too-long"),
        (b'{"facts": {' + b",".join(b'"f%d":1' % i for i in range(201)) + b"}}", "too-many-facts"),
        (b'{"report": {"order": "x", "counter": 1, "phase": "done"}}', "bad-order-id"),
        (b'{"report": {"order": "1.1", "counter": 1, "phase": "exploded"}}', "bad-phase"),
        (b'{"report": {"order": "1.1", "counter": -1, "phase": "done"}}', "bad-report"),
        (b'{"report": {"order": "1.1", "counter": 1, "phase": "done", "progress": 101}}', "bad-report"),
        (b'{"report": {"order": "1.1", "counter": 1, "phase": "done", "results": {"a": "\\u0000"}}}', "bad-report"),
    ],
)
def test_what_does_not_fit_is_refused_by_name(body: bytes, code: str) -> None:
    with pytest.raises(ProtocolError) as caught:
        read_check_in(body)
    assert (caught.value.status, caught.value.code) == (422, code)


def test_unknown_fields_are_kept_out_and_not_fatal() -> None:
    message = read_check_in(b'{"firmware": "5.2", "shoe_size": 44, "facts": {"a": null, "b": true}}')
    assert message.facts == {"b": True}


json_values = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(), st.floats(allow_nan=False), st.text(max_size=8)),
    lambda inner: st.one_of(st.lists(inner, max_size=2), st.dictionaries(st.text(max_size=5), inner, max_size=3)),
    max_leaves=6,
)
bodies = st.dictionaries(
    st.sampled_from(["firmware", "facts", "health", "report", "other"]),
    st.one_of(
        json_values, st.dictionaries(st.sampled_from(["battery", "order", "counter", "phase", "ok"]), json_values)
    ),
    max_size=4,
)


@settings(max_examples=150)
@given(bodies)
def test_any_body_is_stored_or_refused(body: dict[str, Any]) -> None:
    with transaction.atomic():
        device = make_device()
        try:
            message = read_check_in(json.dumps(body).encode())
        except ProtocolError as refusal:
            assert refusal.status == 422 and refusal.detail
        else:
            answer = flush([PendingCheckIn(hash_secret(f"secret-{device.uid}"), message)], now=NOW)[0]
            assert isinstance(answer, Answer)
        transaction.set_rollback(True)


@given(st.binary(max_size=40))
def test_any_bytes_are_refused_by_name(body: bytes) -> None:
    try:
        read_check_in(body)
    except ProtocolError as refusal:
        assert refusal.status == 422 and refusal.code


def test_what_was_said_before_is_not_looked_at_again_and_news_always_is() -> None:
    device = make_device()
    answer_to(device, firmware="5.2.0", facts={"battery": 79, "uplink": "cellular"})
    MembershipQueueEntry.objects.all().delete()

    same = [{"battery": 79, "uplink": "cellular"}, {"uplink": "cellular", "battery": 79}, None]
    for facts in same:
        answer_to(device, firmware="5.2.0", facts=facts)
    assert not MembershipQueueEntry.objects.exists()

    answer_to(device, firmware="5.2.0", facts={"battery": 78, "uplink": "cellular"})
    assert MembershipQueueEntry.objects.get().device_id == device.pk
    answer_to(device, firmware="5.2.0", facts={"battery": 79, "uplink": "cellular"})  # back to an earlier word
    device.refresh_from_db()
    assert device.facts["battery"] == 79
    assert MembershipQueueEntry.objects.count() == 2


def test_a_reported_version_is_compared_as_one() -> None:
    PropertyDefinition.objects.create(key="bootloader", source="fact", label="Bootloader", type="version")
    device = make_device(facts={"bootloader": "1.9"}, version_keys={"bootloader": version_key("1.9"), "own": "kept"})
    answer_to(device, facts={"bootloader": "1.10"})
    device.refresh_from_db()
    assert device.version_keys == {"bootloader": version_key("1.10"), "own": "kept"}
    answer_to(device, facts={})
    device.refresh_from_db()
    assert device.version_keys == {"own": "kept"}


def test_each_fact_has_the_time_since_when_it_is_so() -> None:
    device = make_device()
    later = NOW + timedelta(hours=1)
    answer_to(device, facts={"battery": 80, "uplink": "cellular"})
    answer_to(device, now=later, facts={"battery": 79, "uplink": "cellular"})
    answer_to(device, now=later + timedelta(hours=1), firmware="5.2.0")
    device.refresh_from_db()
    since = {key: datetime.fromisoformat(text) for key, text in device.facts_since.items()}
    assert since == {"battery": later, "uplink": NOW}


def test_a_device_that_is_asked_to_report_is_told_until_it_has() -> None:
    device = make_device()
    ask_to_report(device, actor=None, now=NOW)
    told = answer_to(device, firmware="5.1.0")
    assert (told.report, told.next_check_in_seconds) == (True, 5)
    again = answer_to(device)
    assert again.report is True
    done = answer_to(device, facts={"battery": 80})
    assert (done.report, done.next_check_in_seconds) == (False, 900)
    device.refresh_from_db()
    assert device.report_asked_at is None
    assert answer_to(device).report is False


def test_a_device_that_will_not_call_cannot_be_asked() -> None:
    for device in (make_device(admission="retired"), make_device(secret_hash=None)):
        with pytest.raises(Conflict, match="cannot be asked"):
            ask_to_report(device, actor=None, now=NOW)


FACTS = st.dictionaries(st.sampled_from(["battery", "uplink", "boots"]), st.sampled_from([1, 2, "a", True]), max_size=3)


@settings(max_examples=30)
@given(st.lists(st.one_of(st.none(), FACTS), min_size=1, max_size=6))
def test_the_time_of_a_fact_is_that_of_the_call_that_first_said_so(calls: list[dict[str, Any] | None]) -> None:
    with transaction.atomic():
        device = make_device()
        known: dict[str, Any] = {}
        since: dict[str, Any] = {}
        for hour, facts in enumerate(calls):
            at = NOW + timedelta(hours=hour)
            answer_to(device, now=at, **({} if facts is None else {"facts": facts}))
            if facts is not None:
                same = {k for k, v in facts.items() if k in known and known[k] == v and type(known[k]) is type(v)}
                since = {k: since[k] if k in same else at for k in facts}
                known = facts
            device.refresh_from_db()
            assert device.facts == known
            assert {k: datetime.fromisoformat(t) for k, t in device.facts_since.items()} == since
        transaction.set_rollback(True)
