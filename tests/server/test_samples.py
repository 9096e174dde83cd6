"""The fleet over time: what is sampled and kept, how much is on an approved version, and when the rest will be."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from django.db import IntegrityError, transaction

from herald.fleet.models import Device
from herald.images.models import Image
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout, RolloutState, StoredForecast
from herald.samples import services
from herald.samples.compliance import on_the_way, over_time, standing
from herald.samples.models import FleetSample
from herald.samples.services import keep_samples, take_sample
from herald.time import clock
from herald_core.versions import version_key as key_of
from tests.factories import NOW, client_as, make_devices, make_draft, make_image, make_static, make_user

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
HOUR, DAY = timedelta(hours=1), timedelta(days=1)


def on(version: str, count: int, **fields: Any) -> list[Device]:
    devices = make_devices(count)
    ids = [d.pk for d in devices]
    Device.objects.filter(pk__in=ids).update(firmware=version, firmware_key=key_of(version), **fields)
    return devices


def shares(now: datetime = NOW) -> dict[tuple[str, bool], int]:
    return {(p.version, p.approved): p.devices for p in services.fleet_now(now)}


def test_a_device_is_where_it_should_be_on_an_approved_version_for_its_model() -> None:
    make_image("5.2.1")
    withdrawn = make_image("5.1.0", b"older")
    Image.objects.filter(pk=withdrawn.pk).update(status="withdrawn", reason="x")
    on("5.2.1", 3)
    on("5.1.0", 2)
    on("4.0.0", 1)
    Device.objects.filter(pk=make_devices(1)[0].pk).update(firmware=None, firmware_key=None)
    on("5.2.1", 4, admission="retired")
    assert shares() == {("5.2.1", True): 3, ("5.1.0", False): 2, ("4.0.0", False): 1, ("", False): 1}
    stands = standing(on_the_way())
    assert (stands.devices, stands.approved, stands.newest, stands.on_the_way) == (7, 3, 3, 0)
    assert stands.expected_at is None


def test_nothing_is_claimed_of_an_empty_fleet() -> None:
    told = client_as("viewer").get("/api/v1/fleet-over-time").json()
    assert told["standing"] == {
        "devices": 0,
        "approved": 0,
        "newest": 0,
        "on_the_way": 0,
        "rollouts": 0,
        "expected_at": None,
    }
    assert told["points"] == [] and told["families"] == [] and told["expected"] == []


def test_an_hour_has_one_sample_and_what_was_stays_as_it_was() -> None:
    image = make_image("5.2.1")
    on("5.2.1", 3)
    keep_samples(now=NOW + timedelta(minutes=20))
    keep_samples(now=NOW + timedelta(minutes=59))
    assert FleetSample.objects.get().at == NOW
    Image.objects.filter(pk=image.pk).update(status="withdrawn", reason="x")
    keep_samples(now=NOW + HOUR)
    assert list(FleetSample.objects.order_by("at").values_list("approved", "devices")) == [(True, 3), (False, 3)]
    with pytest.raises(IntegrityError), transaction.atomic():
        FleetSample.objects.update(on_time=99)


def test_old_samples_are_thinned_out_to_one_a_day_and_then_dropped() -> None:
    on("5.2.1", 1)
    for hours in range(72):
        take_sample(now=NOW - 20 * DAY + hours * HOUR)
    take_sample(now=NOW - services.DAILY_FOR - HOUR)
    recent = [NOW - DAY, NOW - DAY + HOUR]
    for at in recent:
        take_sample(now=at)
    keep_samples(now=NOW)
    kept = list(FleetSample.objects.order_by("at").values_list("at", flat=True))
    assert kept[-3:] == [*recent, NOW]
    assert len({at.date() for at in kept[:-3]}) == len(kept[:-3]) == 4  # three days, of which the first began at night


def test_rare_versions_are_put_together_and_none_is_lost(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(services, "MOST_VERSIONS", 2)
    for n in range(5):
        on(f"1.{n}.0", 5 - n)
    take_sample(now=NOW)
    assert sum(FleetSample.objects.values_list("devices", flat=True)) == 15
    assert set(FleetSample.objects.values_list("version", flat=True)) == {"1.0.0", "1.1.0", services.OTHERS}


def test_points_and_bands_add_up_to_the_fleet_at_each_moment() -> None:
    make_image("5.2.1")
    old, _ = on("5.1.0", 6), on("5.2.1", 2)
    take_sample(now=NOW - DAY)
    Device.objects.filter(pk__in=[d.pk for d in old[:4]]).update(firmware="5.2.1", firmware_key=key_of("5.2.1"))
    points, (family,) = over_time(NOW - 7 * DAY, NOW)
    assert [(p.at, p.devices, p.approved) for p in points] == [(NOW - DAY, 8, 2), (NOW, 8, 6)]
    assert (family.target, family.devices, family.approved) == ("5.2.1", 8, 6)
    assert [(b.version, b.approved, b.devices) for b in family.bands] == [
        ("5.2.1", True, [2, 6]),
        ("5.1.0", False, [6, 2]),
    ]


def running(devices: list[Device], hourly: list[float], end: datetime | None) -> Rollout:
    """A rollout of 5.2.1 to some devices, as far as its stored forecast tells."""
    draft = make_draft(make_static(f"G{devices[0].pk}", devices))
    launching.request_launch(draft, expected=len(devices), actor=make_user(), now=NOW)
    launching.launch(draft, now=NOW)
    StoredForecast.objects.update_or_create(rollout=draft, defaults={"at": NOW - HOUR, "median": end, "hourly": hourly})
    return draft


def told() -> Any:
    return client_as("viewer").get("/api/v1/fleet-over-time").json()


def test_what_is_on_its_way_are_the_devices_that_a_running_rollout_reaches_and_no_others() -> None:
    old, fine = on("5.1.0", 6), on("5.2.0", 4)
    on("5.1.0", 9)  # in no rollout
    image = make_image("5.2.0", b"fine")
    assert image.status == "approved"
    running([*old, *fine], [2.0, 4.0, 4.0], NOW + 2 * HOUR)
    stands = told()["standing"]
    assert (stands["devices"], stands["approved"], stands["newest"], stands["on_the_way"]) == (19, 4, 0, 6)
    assert datetime.fromisoformat(stands["expected_at"]) == NOW + 2 * HOUR
    # six in ten of those that it confirms were missing; what was expected until now is counted by what it runs
    assert [p["approved"] for p in told()["expected"]] == [2, 5]
    Rollout.objects.update(state=RolloutState.PAUSED)
    assert (told()["standing"]["on_the_way"], told()["expected"]) == (0, [])


def test_a_device_that_two_rollouts_want_is_on_its_way_once() -> None:
    devices = on("5.1.0", 5)
    running(devices, [5.0, 5.0], NOW + HOUR)
    assert standing(on_the_way()).on_the_way == 5
    assert [p["approved"] for p in told()["expected"]][-1] <= 5


def test_an_end_that_is_not_in_sight_is_none() -> None:
    running(on("5.1.0", 3), [1.0], None)
    assert (standing(on_the_way()).on_the_way, standing(on_the_way()).expected_at) == (3, None)


def test_days_bound_what_is_told() -> None:
    on("5.1.0", 1)
    for days in (1, 5, 40):
        take_sample(now=NOW - days * DAY)
    client = client_as("viewer")
    assert len(client.get("/api/v1/fleet-over-time?days=7").json()["points"]) == 3
    assert len(client.get("/api/v1/fleet-over-time?days=60").json()["points"]) == 4
    with clock.fixed(datetime(2026, 11, 23, 2, 30, tzinfo=UTC)):
        assert client.get("/api/v1/fleet-over-time/standing").json()["devices"] == 1
