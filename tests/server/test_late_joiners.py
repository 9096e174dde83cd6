"""A rollout that follows its audience lets few in by itself; beyond that a person is asked. Flapping moves nobody."""

from datetime import timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.attention.models import Item
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.groups.membership import reevaluate
from herald.groups.models import Group, GroupMembership, MembershipEvent
from herald.rollouts.engine.audience_sync import sync_audience
from herald.rollouts.intervene.holds import release
from herald.rollouts.late_joiners import TOO_MANY_LATE, late_limit
from herald.rollouts.models import Rollout
from herald.time import clock
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_rule_group,
    make_static,
    make_user,
)

pytestmark = pytest.mark.django_db
MINUTE, HOUR = timedelta(minutes=1), timedelta(hours=1)


def standing(devices: int = 3, **fields: Any) -> tuple[Rollout, Group]:
    group = make_static("G", make_devices(devices))
    return launched(make_draft(group, follows_audience=True, **fields)), group


def join(group: Group, count: int, at: Any = NOW) -> list[Device]:
    """Devices come into the group as facts bring them: nobody is asked."""
    devices = make_devices(count)
    GroupMembership.objects.bulk_create(
        [GroupMembership(group=group, device=d, since=at, cause="the device changed") for d in devices]
    )
    MembershipEvent.objects.bulk_create(
        [MembershipEvent(group=group, device=d, at=at, joined=True, cause="the device changed") for d in devices]
    )
    return devices


def waiting(rollout: Rollout) -> int:
    return rollout.deliveries.filter(phase="waiting", hold_reason=TOO_MANY_LATE).count()


@pytest.mark.parametrize(("size", "limit", "expected"), [(3, None, 10), (260, None, 13), (3, 0, 0), (3, 2, 2)])
def test_the_limit_is_ten_or_a_twentieth_of_the_launch_unless_it_says_otherwise(
    size: int, limit: int | None, expected: int
) -> None:
    rollout, _ = standing(size, late_limit=limit)
    assert late_limit(rollout) == expected


def test_beyond_the_limit_of_a_day_late_joiners_wait_for_a_person() -> None:
    rollout, group = standing(late_limit=2)
    join(group, 5)
    sync_audience(rollout, now=NOW + MINUTE)
    assert (rollout.deliveries.filter(joined_late=True, hold_reason="").count(), waiting(rollout)) == (2, 3)
    item = Item.objects.open().get()
    assert (item.kind, item.object_kind, item.object_id, item.count) == ("late-joiners", "rollout", rollout.pk, 3)
    assert "limit of 2" in item.cause


def test_those_held_are_let_in_by_a_person_and_the_item_closes() -> None:
    rollout, group = standing(late_limit=0)
    late = join(group, 2)
    sync_audience(rollout, now=NOW + MINUTE)
    release(rollout, rule="", names=[d.name for d in late], actor=None, now=NOW + MINUTE)
    rollout.refresh_from_db()
    sync_audience(rollout, now=NOW + 2 * MINUTE)
    assert waiting(rollout) == 0 and not Item.objects.open().exists()


def test_the_next_day_as_many_may_join_again() -> None:
    rollout, group = standing(late_limit=1)
    for hours in (1, 2, 26):
        join(group, 1, at=NOW + hours * HOUR)
        rollout.refresh_from_db()
        sync_audience(rollout, now=NOW + hours * HOUR)
    assert (rollout.deliveries.filter(joined_late=True, hold_reason="").count(), waiting(rollout)) == (2, 1)


def test_who_joined_is_shown_with_the_reason_and_who_was_there_is_not() -> None:
    rollout, group = standing(late_limit=1)
    first, second = join(group, 2)
    sync_audience(rollout, now=NOW + MINUTE)
    client = APIClient()
    client.force_authenticate(make_user())
    with clock.fixed(NOW + MINUTE):
        rows = client.get(f"/api/v1/rollouts/{rollout.pk}/late-joiners").json()
        detail = client.get(f"/api/v1/rollouts/{rollout.pk}").json()
    assert {(r["device"], r["group"], r["cause"], r["waits"]) for r in rows} == {
        (first.name, "G", "the device changed", False),
        (second.name, "G", "the device changed", True),
    }
    assert (detail["late_joiners"], detail["late_joiners_waiting"], detail["late_limit_in_force"]) == (2, 1, 1)
    assert "following its audience" in "".join(p["text"] for p in detail["sentence"])


def flap(group: Group, device: Device, times: int) -> None:
    """The device joins and leaves the group by its tag, so many times, and is in it at the end."""
    for number in range(2 * times + 1):
        Device.objects.filter(pk=device.pk).update(tags=["lab"] if number % 2 == 0 else [])
        reevaluate([device.pk], now=NOW + number * MINUTE, cause="the device changed")


def test_a_device_that_flaps_keeps_the_place_it_had() -> None:
    inside, outside = make_device(tags=["lab"]), make_device()
    group = make_rule_group("Lab", "tag = lab and presence != silent")
    rollout = launched(make_draft(group, follows_audience=True))
    Device.objects.filter(pk=inside.pk).update(tags=[])
    for number in range(9):
        reevaluate([inside.pk], now=NOW + number * MINUTE, cause="the device changed")
        Device.objects.filter(pk=inside.pk).update(tags=["lab"] if number % 2 == 0 else [])
    flap(group, outside, 5)
    assert not group.memberships.filter(device=inside).exists()
    sync_audience(rollout, now=NOW + HOUR)
    assert list(rollout.deliveries.values_list("device_id", "phase")) == [(inside.pk, "waiting")]
    item = Item.objects.open().get(kind="unsettled")
    assert item.count == 2 and "presence" in item.cause


def test_one_that_settled_again_is_followed() -> None:
    outside = make_device()
    group = make_rule_group("Lab", "tag = lab")
    make_device(tags=["lab"])
    reevaluate(list(Device.objects.values_list("pk", flat=True)), now=NOW, cause="x")
    rollout = launched(make_draft(group, follows_audience=True))
    flap(group, outside, 4)  # four times is not more than four
    sync_audience(rollout, now=NOW + HOUR)
    assert Delivery.objects.filter(device=outside).exists() is False
    rollout.refresh_from_db()
    sync_audience(rollout, now=NOW + 25 * HOUR)
    assert Delivery.objects.get(device=outside).joined_late
    assert not Item.objects.open().filter(kind="unsettled").exists()
