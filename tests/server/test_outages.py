"""Sites that fall silent, one item for one cause; and outages that somebody planned."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from django.db import IntegrityError, transaction
from rest_framework.test import APIClient

from herald.attention.models import Item, ItemKind
from herald.clock.conditions import refresh_conditions
from herald.clock.heartbeat import GATEWAY
from herald.clock.models import Heartbeat
from herald.clock.silent_sites import MOST_APART
from herald.fleet.models import Device, Site
from herald.groups.services import Preview, preview_rule
from herald.http.errors import InvalidFields
from herald.notifications.announcing import escalate
from herald.notifications.models import Message
from herald.outages.models import PlannedOutage
from herald.outages.services import end_outage, plan_outage
from herald.record.models import RecordEntry
from tests.factories import NOW, client_as, make_device, make_devices, make_site, make_static, make_user
from tests.server.test_notifications import rule as tells

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"
MINUTE, HOUR = timedelta(minutes=1), timedelta(hours=1)


@pytest.fixture(autouse=True)
def _long_up() -> None:
    """The gateway has been there for a day: what is not heard from is held against devices."""
    real = datetime.now(UTC)
    Heartbeat.objects.create(name=GATEWAY, beat_at=real, back_at=NOW - timedelta(days=1), seconds=0)


@pytest.fixture
def bay() -> Site:
    """Ten devices at Marrow Bay, and forty elsewhere that call."""
    for n in range(4):
        make_devices(10, site=make_site(f"Elsewhere {n}"))
    site = make_site("Marrow Bay")
    make_devices(10, site=site)
    return site


def preview(rule: str, *, now: datetime) -> Preview:
    return preview_rule(rule, limit=1, now=now)


def quiet(site: Site, *, but: int = 0, since: datetime = NOW - HOUR) -> None:
    """All but so many devices of a site were last heard from then."""
    here = list(Device.objects.filter(site=site).order_by("id").values_list("pk", flat=True))
    Device.objects.filter(pk__in=here[but:]).update(last_check_in=since)


def back(site: Site, count: int, at: datetime) -> None:
    here = list(Device.objects.filter(site=site).order_by("id").values_list("pk", flat=True))
    Device.objects.filter(pk__in=here[:count]).update(last_check_in=at)


def items(kind: ItemKind = ItemKind.SITE_SILENT) -> list[Item]:
    return list(Item.objects.open().of_kinds([kind]).order_by("id"))


def others_call(now: datetime, *silent: Site) -> None:
    Device.objects.exclude(site__in=silent).update(last_check_in=now)


def test_a_site_that_lost_its_uplink_is_one_item_and_one_message_and_closes_by_itself(bay: Site) -> None:
    person = make_user()
    tells(person)
    quiet(bay)
    refresh_conditions(now=NOW)
    (item,) = items()
    assert (item.object_kind, item.object_id, item.count) == ("site", bay.pk, 10)
    assert item.cause == "Marrow Bay: of 10 devices that call regularly none has been heard from since 01:00 UTC"
    assert preview(item.rule, now=NOW).count == 10
    for minutes in range(1, 30):
        others_call(NOW + minutes * MINUTE, bay)
        refresh_conditions(now=NOW + minutes * MINUTE)
        escalate(now=NOW + minutes * MINUTE)
    assert items() == [item] and Message.objects.filter(person=person).count() == 1
    for count, is_open in ((3, True), (4, True), (5, False)):  # it flickers on its way back
        others_call(NOW + HOUR, bay)
        back(bay, count, NOW + HOUR)
        refresh_conditions(now=NOW + HOUR)
        assert bool(items()) == is_open, count
    assert Message.objects.filter(person=person, occasion="over").count() == 1


@pytest.mark.parametrize(("still_call", "is_silent"), [(0, True), (1, False), (5, False)])
def test_a_site_is_silent_only_when_nearly_nothing_of_it_calls(bay: Site, still_call: int, is_silent: bool) -> None:
    quiet(bay, but=still_call)
    refresh_conditions(now=NOW)
    assert bool(items()) == is_silent


def test_a_small_site_is_not_judged_as_a_whole() -> None:
    make_devices(30)
    site = make_site("Shed")
    make_devices(4, site=site)
    quiet(site)
    refresh_conditions(now=NOW)
    assert items() == []


def test_what_was_silent_for_long_is_no_news_of_its_site(bay: Site) -> None:
    """Devices that have not called for a week are not expected to."""
    quiet(bay, but=1, since=NOW - timedelta(days=9))
    refresh_conditions(now=NOW)
    assert items() == []
    (item,) = items(ItemKind.SILENT)
    assert item.count == 9


def test_a_site_that_is_down_for_a_day_is_not_told_of_a_second_time(bay: Site) -> None:
    lone = make_device(site=make_site("Elsewhere 0"))
    Device.objects.filter(pk=lone.pk).update(last_check_in=NOW - timedelta(days=3))
    quiet(bay, since=NOW - timedelta(days=2))
    refresh_conditions(now=NOW)
    assert len(items()) == 1
    (silent,) = items(ItemKind.SILENT)
    assert silent.count == 1 and preview(silent.rule, now=NOW).count == 1


def test_after_the_gateway_was_away_no_site_is_held_to_have_fallen_silent(bay: Site) -> None:
    """Its devices call each 15 minutes, and it has been back for ten."""
    Heartbeat.objects.filter(name=GATEWAY).update(back_at=NOW - 10 * MINUTE)
    quiet(bay)
    refresh_conditions(now=NOW)
    assert items() == []
    Heartbeat.objects.filter(name=GATEWAY).update(back_at=NOW - 3 * HOUR)
    refresh_conditions(now=NOW)
    assert len(items()) == 1


def test_the_whole_fleet_is_told_of_as_a_whole(bay: Site) -> None:
    Device.objects.update(last_check_in=NOW - HOUR)
    refresh_conditions(now=NOW)
    assert items() == [] and len(items(ItemKind.FLEET_SILENT)) == 1


def test_many_sites_at_once_have_one_cause_and_one_item() -> None:
    sites = [make_site(f"Bay {n}") for n in range(6)]
    for site in sites:
        make_devices(6, site=site)
    for n in range(6):
        make_devices(6, site=make_site(f"Elsewhere {n}"))
    for site in sites:
        quiet(site)
    refresh_conditions(now=NOW)
    (item,) = items()
    assert (item.object_kind, item.count) == ("", 36)
    assert item.cause == "6 sites at once, none heard from since 01:00 UTC: Bay 0, Bay 1, Bay 2 and 3 more"
    assert preview(item.rule, now=NOW).count == 36
    back(sites[0], 6, NOW)
    refresh_conditions(now=NOW)
    assert [i.pk for i in items()] == [item.pk] and items()[0].count == 30
    for site in sites:
        back(site, 6, NOW)
    refresh_conditions(now=NOW)
    assert items() == []


def test_sites_that_fall_one_after_the_other_have_few_items_of_their_own() -> None:
    make_devices(40)
    sites = [make_site(f"Bay {n}") for n in range(MOST_APART + 2)]
    for site in sites:
        make_devices(5, site=site)
    for number, site in enumerate(sites):
        quiet(site)
        refresh_conditions(now=NOW)
        assert len(items()) == min(number + 1, MOST_APART + 1)
    assert [i.object_kind for i in items()] == ["site"] * MOST_APART + [""]


# -- planned


def plan(**fields: Any) -> PlannedOutage:
    usual: dict[str, Any] = {"site": None, "group": None, "starts_at": None, "ends_at": NOW + 2 * HOUR}
    return plan_outage(**{**usual, "reason": "the mast is moved", **fields}, actor=make_user(), now=NOW)


def test_who_is_expected_to_be_silent_is_not_told_of(bay: Site) -> None:
    person = make_user()
    tells(person)
    plan(site=bay)
    quiet(bay, since=NOW - timedelta(days=2))
    refresh_conditions(now=NOW)
    assert items() == items(ItemKind.SILENT) == [] and not Message.objects.exists()
    others_call(NOW + 3 * HOUR, bay)
    refresh_conditions(now=NOW + 3 * HOUR)  # it has not come back, and should have
    assert len(items()) == 1 and Message.objects.filter(person=person).count() == 1


def test_an_outage_of_a_group_leaves_its_devices_out_of_what_is_silent(bay: Site) -> None:
    group = make_static("Pumps", list(Device.objects.filter(site=bay)[:4]))
    quiet(bay, but=5, since=NOW - timedelta(days=2))
    assert_silent(5)
    plan(group=group)
    listed = set(Device.objects.filter(last_check_in__lt=NOW - timedelta(days=1)).values_list("pk", flat=True))
    expected = listed - set(group.memberships.values_list("device_id", flat=True))
    assert_silent(len(expected))


def test_a_group_that_is_a_whole_site_explains_its_silence(bay: Site) -> None:
    group = make_static("The bay", list(Device.objects.filter(site=bay)))
    outage = plan(group=group)
    quiet(bay)
    refresh_conditions(now=NOW)
    assert items() == []
    end_outage(outage.pk, actor=make_user(), now=NOW + MINUTE)
    refresh_conditions(now=NOW + MINUTE)
    (item,) = items()
    outage = plan(group=group, starts_at=NOW + MINUTE)
    refresh_conditions(now=NOW + 2 * MINUTE)
    assert items() == [item] and not Item.objects.awake(NOW + 2 * MINUTE).filter(pk=item.pk).exists()
    end_outage(outage.pk, actor=make_user(), now=NOW + 3 * MINUTE)
    assert Item.objects.awake(NOW + 3 * MINUTE).filter(pk=item.pk).exists()


def test_a_group_that_is_half_of_a_site_does_not_explain_the_other_half(bay: Site) -> None:
    plan(group=make_static("Half", list(Device.objects.filter(site=bay).order_by("id")[:5])))
    quiet(bay)
    refresh_conditions(now=NOW)
    assert len(items()) == 1 and Item.objects.awake(NOW).of_kinds([ItemKind.SITE_SILENT]).exists()


def assert_silent(count: int) -> None:
    refresh_conditions(now=NOW)
    (item,) = items(ItemKind.SILENT)
    assert item.count == count and preview(item.rule, now=NOW).count == count


def test_what_is_open_as_an_outage_is_planned_is_put_off_and_comes_back_with_its_end(bay: Site) -> None:
    quiet(bay)
    refresh_conditions(now=NOW)
    outage = plan(site=bay)
    refresh_conditions(now=NOW + MINUTE)
    assert not Item.objects.awake(NOW + MINUTE).of_kinds([ItemKind.SITE_SILENT]).exists() and len(items()) == 1
    end_outage(outage.pk, actor=make_user(), now=NOW + 2 * MINUTE)
    assert Item.objects.awake(NOW + 2 * MINUTE).of_kinds([ItemKind.SITE_SILENT]).exists()


def test_an_outage_of_nearly_everything_is_no_silent_fleet(bay: Site) -> None:
    everything = make_static("All", list(Device.objects.all()))
    Device.objects.update(last_check_in=NOW - HOUR)
    plan(group=everything)
    refresh_conditions(now=NOW)
    assert items(ItemKind.FLEET_SILENT) == []


@pytest.mark.parametrize(
    ("change", "pointer"),
    [
        ({"site": None}, "/site"),
        ({"reason": "  "}, "/reason"),
        ({"ends_at": NOW}, "/ends_at"),
        ({"starts_at": NOW - 5 * HOUR, "ends_at": NOW - HOUR}, "/ends_at"),
        ({"ends_at": NOW + timedelta(days=61)}, "/ends_at"),
    ],
)
def test_what_does_not_fit_is_said_beside_its_field(bay: Site, change: dict[str, Any], pointer: str) -> None:
    with pytest.raises(InvalidFields) as refused:
        plan(**{"site": bay, **change})
    assert refused.value.extra["errors"][0]["pointer"] == pointer
    assert not PlannedOutage.objects.exists()


def test_the_database_keeps_what_an_outage_is(bay: Site) -> None:
    whole = {"site": bay, "starts_at": NOW, "ends_at": NOW + HOUR, "reason": "r", "made_at": NOW}
    for wrong in ({"site": None}, {"group": make_static("G", [])}, {"ends_at": NOW}, {"reason": ""}):
        with pytest.raises(IntegrityError), transaction.atomic():
            PlannedOutage.objects.create(**{**whole, **wrong})


def test_outages_are_planned_listed_and_ended_through_the_api(bay: Site, client: APIClient) -> None:
    quiet(bay, but=4)
    body = {"site": bay.pk, "ends_at": (NOW + HOUR).isoformat(), "reason": "the mast is moved"}
    (row,) = client.post(f"{V1}/outages", body, format="json").json()
    assert (row["where"], row["devices"], row["late"], row["made_by"]) == ("Marrow Bay", 10, 6, "U. Ser")
    assert RecordEntry.objects.get(kind="site").sentence == (
        "Planned an outage of Marrow Bay until 23 November 03:00 UTC: the mast is moved"
    )
    later = {**body, "starts_at": (NOW + HOUR).isoformat(), "ends_at": (NOW + 2 * HOUR).isoformat()}
    _, second = client.post(f"{V1}/outages", later, format="json").json()
    PlannedOutage.objects.filter(pk=row["id"]).update(starts_at=NOW - HOUR)
    ended, _ = client.delete(f"{V1}/outages/{row['id']}").json()
    assert ended["ends_at"] == NOW.isoformat().replace("+00:00", "Z")
    assert client.delete(f"{V1}/outages/{row['id']}").status_code == 409
    assert len(client.delete(f"{V1}/outages/{second['id']}").json()) == 1  # one that never began is gone
    assert client.delete(f"{V1}/outages/987654").status_code == 404
    both = {**body, "group": make_static("G", []).pk}
    assert client.post(f"{V1}/outages", both, format="json").status_code == 422
    assert client_as("viewer").post(f"{V1}/outages", body, format="json").status_code == 403
