"""Files fetched ahead: offered while the window is shut, kept, and installed in the window as orders of their own."""

from datetime import datetime, time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.calendar.services import FreezeDraft, save_freeze
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.deliveries.waiting import waits_of
from herald.fleet.models import Device
from herald.http.errors import Invalid
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import edit, lifecycle
from herald.rollouts.models import Rollout
from herald.rollouts.watch.forecast import forecast_rollout
from herald.rollouts.watch.overview import detail
from herald.rollouts.watch.sentence import rollout_sentence
from herald_core.deliveries import Report
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_site,
    make_static,
    make_user,
    ring,
)

pytestmark = pytest.mark.django_db
HOUR = timedelta(hours=1)
#: opens three hours after NOW
NIGHT = {"window_start": time(5), "window_end": time(7)}


def ahead_of_nights(devices: list[Device], **fields: Any) -> Rollout:
    return launched(make_draft(make_static("G", devices), **{**NIGHT, "prefetch": True, **fields}))


def says(delivery: Delivery, phase: str, now: datetime, **report: Any) -> Delivery:
    """The device reports on its order."""
    delivery.refresh_from_db()
    said = Report(attempt=delivery.attempt, counter=delivery.report_counter + 1, phase=phase, **report)
    change = deliveries.evaluate_report(delivery, said, firmware="5.1.0", healthy=True, now=now)
    deliveries.apply_changes([change], now=now)
    delivery.refresh_from_db()
    return delivery


def only(rollout: Rollout) -> Delivery:
    return Delivery.objects.of_rollout(rollout.pk).get()


def test_a_file_comes_ahead_and_the_install_in_its_hours() -> None:
    rollout = ahead_of_nights([make_device()])
    tick_rollouts(now=NOW)
    delivery = only(rollout)
    assert (delivery.phase, delivery.fetch_only, delivery.offered_at) == ("offered", True, None)
    assert delivery.offer_until == NOW + 3 * HOUR  # then the install itself can be offered
    says(delivery, "fetching", NOW)
    says(delivery, "staged", NOW + HOUR)
    assert (delivery.phase, delivery.fetch_only, delivery.file_stored_at) == ("waiting", False, NOW + HOUR)
    assert (delivery.attempt, delivery.max_attempts) == (2, 3)  # as many tries at the install as before
    causes = list(DeliveryEvent.objects.filter(delivery=delivery).order_by("id").values_list("to_phase", "cause"))
    assert causes[-2:] == [("staged", "reported staged"), ("waiting", "file-stored")]
    tick_rollouts(now=NOW + HOUR)
    assert only(rollout).phase == "waiting"  # not fetched a second time
    assert detail(rollout, NOW + HOUR)["with_file"] == 1
    tick_rollouts(now=NOW + 3 * HOUR)
    delivery = only(rollout)
    assert (delivery.phase, delivery.fetch_only) == ("offered", False)
    assert delivery.offer_until == NOW + 5 * HOUR - timedelta(minutes=10)


def test_a_waiting_device_says_that_its_file_is_there() -> None:
    rollout = ahead_of_nights([make_device()])
    tick_rollouts(now=NOW)
    delivery = only(rollout)
    assert _reason(delivery) == "its next check-in, ahead of its window"
    says(delivery, "fetching", NOW)
    assert _reason(delivery) == "the device to fetch the file, ahead of its window"
    says(delivery, "staged", NOW)
    assert _reason(delivery) == "its window; its file is there"
    other = Delivery.objects.get(pk=delivery.pk)
    other.file_stored_at = None
    assert _reason(other) == "its window"


def _reason(delivery: Delivery) -> str:
    assert delivery.rollout is not None
    found = waits_of([delivery], NOW)[delivery.pk]
    return found.reason if found else ""


def test_who_has_the_file_goes_first_when_the_window_opens() -> None:
    first, second = make_devices(2)
    rollout = ahead_of_nights([first, second], max_concurrent=1)
    tick_rollouts(now=NOW)
    one = Delivery.objects.get(phase="offered")
    says(one, "staged", NOW)
    Device.objects.exclude(pk=one.device_id).update(last_check_in=NOW + 3 * HOUR - timedelta(minutes=14))
    Device.objects.filter(pk=one.device_id).update(last_check_in=NOW + 3 * HOUR)
    tick_rollouts(now=NOW + 3 * HOUR)
    assert Delivery.objects.of_rollout(rollout.pk).get(phase="offered").pk == one.pk


def test_files_have_hours_of_their_own_by_the_clock_of_the_device() -> None:
    here, there = make_device(), make_device(site=make_site("There", "Asia/Kolkata"))  # 02:00 and 07:30
    rollout = ahead_of_nights([here, there], prefetch_start=time(7), prefetch_end=time(8))
    tick_rollouts(now=NOW)
    offered = Delivery.objects.of_rollout(rollout.pk).get(phase="offered")
    assert (offered.device_id, offered.fetch_only) == (there.pk, True)
    assert offered.offer_until == NOW + timedelta(minutes=30)
    tick_rollouts(now=NOW + HOUR)
    assert not Delivery.objects.filter(device=here, phase="offered").exists()


def test_a_freeze_holds_files_too_and_ends_their_offers() -> None:
    frozen, soon = make_devices(2)
    for starts, device in ((NOW - HOUR, frozen), (NOW + HOUR, soon)):
        group = make_static(f"F{device.pk}", [device])
        draft = FreezeDraft(name=f"F{device.pk}", starts_at=starts, ends_at=NOW + 9 * HOUR, groups=[group])
        save_freeze(draft, actor=None, now=NOW)
    ahead_of_nights([frozen, soon])
    tick_rollouts(now=NOW)
    assert Delivery.objects.get(device=frozen).phase == "waiting"
    assert Delivery.objects.get(device=soon).offer_until == NOW + HOUR


def test_files_come_before_the_day_on_which_the_rollout_begins() -> None:
    begins = NOW + timedelta(days=2)
    rollout = ahead_of_nights([make_device()], starts_at=begins)
    tick_rollouts(now=NOW)
    delivery = only(rollout)
    assert (delivery.phase, delivery.fetch_only) == ("offered", True)
    says(delivery, "staged", NOW)
    assert delivery.not_before == begins
    tick_rollouts(now=NOW + 3 * HOUR)
    assert only(rollout).phase == "waiting"
    assert _reason(only(rollout)) == "its start"
    tick_rollouts(now=begins + 3 * HOUR)
    assert only(rollout).phase == "offered"


def test_a_spoiled_file_is_fetched_again_and_the_day_is_kept() -> None:
    begins = NOW + timedelta(days=2)
    rollout = ahead_of_nights([make_device()], starts_at=begins, max_attempts=3)
    tick_rollouts(now=NOW)
    delivery = only(rollout)
    says(delivery, "failed", NOW, error="bad-hash")
    assert (delivery.phase, delivery.attempt, delivery.file_stored_at) == ("waiting", 2, None)
    assert delivery.not_before == begins
    tick_rollouts(now=NOW)
    assert only(rollout).phase == "offered"


def test_files_fetched_ahead_are_no_starts_but_take_room() -> None:
    rollout = ahead_of_nights(make_devices(5), max_concurrent=3, max_starts_per_hour=1)
    tick_rollouts(now=NOW)
    assert Delivery.objects.of_rollout(rollout.pk).filter(phase="offered", fetch_only=True).count() == 3
    for delivery in Delivery.objects.filter(phase="offered"):
        says(delivery, "staged", NOW)
    tick_rollouts(now=NOW + 3 * HOUR)
    offered = Delivery.objects.of_rollout(rollout.pk).filter(phase="offered")
    assert [d.fetch_only for d in offered] == [False]


def test_a_kept_file_holds_nothing_up() -> None:
    """A device that keeps a file has no order in hand: another rollout, of higher rank, may go to it."""
    device = make_device()
    rollout = ahead_of_nights([device])
    tick_rollouts(now=NOW)
    says(only(rollout), "staged", NOW)
    urgent = launched(make_draft(make_static("U", [device]), only(rollout).image, rings=[ring()]))
    lifecycle.order_by_rank([urgent.pk, rollout.pk], actor=None, now=NOW)
    tick_rollouts(now=NOW)
    assert only(urgent).phase == "offered"
    assert only(rollout).file_stored_at is not None


def test_staging_that_makes_no_sense_is_refused() -> None:
    group, image = make_static("G", [make_device()]), make_image()
    for fields, words in (
        ({"prefetch": True}, "no window to fetch files ahead of"),
        ({**NIGHT, "prefetch_start": time(1), "prefetch_end": time(2)}, "not fetched ahead"),
        ({**NIGHT, "prefetch": True, "prefetch_start": time(1)}, "give both or neither"),
        ({**NIGHT, "prefetch": True, "prefetch_start": time(1), "prefetch_end": time(1)}, "end when they start"),
    ):
        with pytest.raises(Invalid, match=words):
            make_draft(group, image, **fields)  # type: ignore[arg-type]


def test_it_is_said_and_can_be_changed_while_the_rollout_is_open() -> None:
    rollout = ahead_of_nights([make_device()])
    assert ", fetching files ahead, stopping at" in rollout_sentence(rollout)
    with pytest.raises(Invalid, match="no window"):
        edit.differences(rollout, {"window_start": None, "window_end": None}, {}, now=NOW)
    hours = {"prefetch_start": time(8), "prefetch_end": time(20)}
    told = edit.edit_open_rollout(rollout, hours, {}, actor=make_user(), now=NOW)
    assert [(d.what, d.before, d.after) for d in told] == [
        ("files from", "none", "08:00"),
        ("files until", "none", "20:00"),
    ]
    rollout.refresh_from_db()
    assert "fetching files ahead 08:00–20:00" in rollout_sentence(rollout)
    tick_rollouts(now=NOW)
    assert only(rollout).phase == "waiting"
    assert forecast_rollout(rollout, now=NOW).forecast.end.median > 3 * 3600


def test_the_api_takes_it_and_refuses_words_beside_the_field() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    body = {
        "changes": [{"choice": "image", "image_id": make_image().pk}],
        "include": [make_static("G", [make_device()]).pk],
        "rings": [{"name": "All", "kind": "rest"}],
        "prefetch": True,
    }
    refused = client.post("/api/v1/rollouts", {**body, "window_start": None, "window_end": None}, format="json")
    assert refused.status_code == 422 and refused.json()["errors"][0]["pointer"] == "/prefetch"
    taken = client.post("/api/v1/rollouts", {**body, "window_start": "01:00", "window_end": "04:00"}, format="json")
    shown = client.get(f"/api/v1/rollouts/{taken.json()['id']}").json()
    assert (shown["prefetch"], shown["prefetch_start"], shown["with_file"]) == (True, None, 0)
