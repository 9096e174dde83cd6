"""A device that is watched live says all of its facts every few seconds, for ten minutes from its next call on."""

from datetime import datetime, timedelta
from typing import Any

import msgspec
import pytest
from rest_framework.test import APIClient

from herald.fleet.live_view import ASKED_FOR, LIVE_FOR, MOST_LIVE, start_live_view, stop_live_view
from herald.fleet.models import Device
from herald.gateway.flush import PendingCheckIn, flush
from herald.gateway.messages import Answer, read_check_in
from herald.http.errors import Conflict
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, make_device, make_devices

pytestmark = pytest.mark.django_db
MINUTE = timedelta(minutes=1)


def calls(device: Device, now: datetime, **said: Any) -> Answer:
    arrival = PendingCheckIn(
        device.secret_hash or "", read_check_in(msgspec.json.encode({"firmware": "5.1.0", **said}))
    )
    (answer,) = flush([arrival], now=now)
    assert isinstance(answer, Answer)
    return answer


def told(answer: Answer) -> tuple[bool, int]:
    return answer.report, answer.next_check_in_seconds


def test_it_is_live_from_its_next_call_on_and_calls_as_usual_after_ten_minutes() -> None:
    device, other = make_devices(2)
    usual = told(calls(device, NOW))
    start_live_view(device, actor=None, now=NOW)
    begins = NOW + 20 * MINUTE  # it calls no sooner
    assert told(calls(device, begins)) == (True, 5)
    assert told(calls(other, begins)) == usual
    said = calls(device, begins + LIVE_FOR - MINUTE, facts={"battery": 80})
    assert told(said) == (True, 5)
    assert told(calls(device, begins + LIVE_FOR, facts={"battery": 79})) == usual
    device.refresh_from_db()
    assert (device.live_asked_at, device.live_until, device.facts["battery"]) == (None, begins + LIVE_FOR, 79)


def test_a_device_that_calls_long_after_it_was_asked_is_not_live() -> None:
    device = make_device()
    usual = told(calls(device, NOW))
    start_live_view(device, actor=None, now=NOW)
    assert told(calls(device, NOW + ASKED_FOR)) == usual
    device.refresh_from_db()
    assert (device.live_asked_at, device.live_until) == (None, None)


def test_it_is_stopped_and_asked_for_once_more() -> None:
    device = make_device()
    usual = told(calls(device, NOW))
    start_live_view(device, actor=None, now=NOW)
    calls(device, NOW)
    stop_live_view(device)
    assert told(calls(device, NOW + MINUTE)) == usual
    for minutes in (2, 9):
        start_live_view(device, actor=None, now=NOW + minutes * MINUTE)
        calls(device, NOW + minutes * MINUTE)
    device.refresh_from_db()
    assert device.live_until == NOW + 9 * MINUTE + LIVE_FOR


def test_who_does_not_call_is_not_watched_and_not_all_are_at_once(client: APIClient) -> None:
    quiet = make_device(last_check_in=NOW - timedelta(days=9))
    with clock.fixed(NOW):
        for device in (quiet, make_device(secret_hash=None), make_device(admission="retired")):
            refused = client.post(f"/api/v1/devices/id:{device.pk}/live")
            assert refused.status_code == 409, device
        for device in make_devices(MOST_LIVE):
            start_live_view(device, actor=None, now=NOW)
        one_more = make_device()
        refused = client.post(f"/api/v1/devices/id:{one_more.pk}/live")
        assert "which is the most" in refused.json()["detail"]
        assert client.delete(f"/api/v1/devices/id:{device.pk}/live").status_code == 204
        shown = client.post(f"/api/v1/devices/id:{one_more.pk}/live").json()
        assert (shown["live_asked_at"] is not None, shown["live_until"]) == (True, None)
    assert RecordEntry.objects.latest("id").sentence == f"Watches {one_more.name} live"
    # what was asked for long ago counts no more
    start_live_view(make_device(last_check_in=NOW + ASKED_FOR), actor=None, now=NOW + ASKED_FOR)
    with pytest.raises(Conflict, match="does not call"):
        start_live_view(make_device(secret_hash=None), actor=None, now=NOW)
