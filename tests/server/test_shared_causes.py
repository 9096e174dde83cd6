"""What the devices of an attention item share: found by looking, said in numbers, and never by chance."""

from datetime import timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.attention.models import Item, ItemKind
from herald.attention.services import close_item, open_item
from herald.clock import shared_causes
from herald.clock.conditions import refresh_conditions
from herald.clock.shared_causes import AGAIN_AFTER, look_for_shared_causes
from herald.clock.tasks import look_at_items
from herald.fleet.models import Device, PropertyDefinition
from tests.factories import NOW, make_device, make_devices, make_site

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]

LONG_AGO = NOW - timedelta(days=3)


@pytest.fixture
def fleet() -> None:
    """Forty of two hundred devices have the old firmware; nineteen of these are silent, and four of the others."""
    sites = [make_site(f"Site {n}") for n in range(4)]
    for n in range(200):
        is_old, is_silent = n < 40, n < 19 or n in (41, 82, 123, 164)
        make_device(
            site=sites[n % 4],
            firmware="5.0.9" if is_old else "5.1.0",
            last_check_in=LONG_AGO if is_silent else NOW - timedelta(minutes=1),
        )


def silent() -> Item:
    return Item.objects.open().get(kind=ItemKind.SILENT)


def looked(minutes: int = 0) -> Item:
    now = NOW + timedelta(minutes=minutes)
    refresh_conditions(now=now)
    look_for_shared_causes(now=now)
    return silent()


@pytest.mark.usefixtures("fleet")
def test_what_they_share_is_counted_in_them_and_in_the_others(client: APIClient) -> None:
    found = looked()
    matching = Device.objects.filter(firmware="5.0.9")
    both = matching.filter(last_check_in=LONG_AGO).count()
    [cause] = found.shared
    assert cause["rule"] in ("firmware = 5.0.9", "firmware < 5.1.0")
    assert (both, found.count, found.shared_count) == (19, 23, 23)
    assert cause["words"] == "19 of the 23, and 12% of the others"  # 21 of 177
    [told] = [i for i in client.get("/api/v1/attention").json()["items"] if i["kind"] == "silent"]
    assert told["shared"] == found.shared and told["shared_at"]
    # both halves of the rule that the interface makes of it list just these
    listed = client.get("/api/v1/devices", {"rule": f"{told['rule']} and {cause['rule']}", "limit": 1}).json()
    assert listed["count"] == both


def test_devices_that_share_nothing_are_said_to_share_nothing() -> None:
    """Every tenth device is silent, of every site and version."""
    sites = [make_site(f"Site {n}") for n in range(3)]
    for n in range(120):
        make_device(
            site=sites[n % 3],
            firmware=f"5.{n % 2}.0",
            last_check_in=LONG_AGO if n % 10 in (3, 6) else NOW - timedelta(minutes=1),
        )
    found = looked()
    assert found.count == 24 and found.shared == [] and found.shared_at == NOW


def test_what_is_hardly_more_common_among_them_is_not_told(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of a hundred silent devices eighty are of the old version, and of two hundred others a hundred: no chance, and
    little of a cause."""
    for n in range(300):
        is_silent = n < 100
        is_old = n % 5 != 0 if is_silent else n % 2 == 0
        make_device(
            firmware="5.0.9" if is_old else "5.1.0",
            last_check_in=LONG_AGO if is_silent else NOW - timedelta(minutes=1),
        )
    assert looked().shared == []
    monkeypatch.setattr(shared_causes, "TIMES_AS_COMMON", 1.5)
    Item.objects.update(shared_at=None)
    assert [c["words"] for c in looked().shared] == ["80 of the 100, and 50% of the others"]


def test_what_an_item_is_about_explains_nothing() -> None:
    PropertyDefinition.objects.create(source="fact", key="battery", label="Battery", type="number")
    make_devices(20, facts={"battery": 90})
    make_devices(6, facts={"battery": 10})
    refresh_conditions(now=NOW)
    look_for_shared_causes(now=NOW)
    item = Item.objects.open().get(kind=ItemKind.LOW_BATTERY)
    assert item.count == 6 and item.shared == [] and item.shared_at == NOW


@pytest.mark.usefixtures("fleet")
def test_it_is_looked_at_again_when_it_counts_others_and_some_time_has_passed(monkeypatch: pytest.MonkeyPatch) -> None:
    first = looked()
    looks: list[str] = []
    shared_by = shared_causes.shared_by

    def counted(rule: str, **given: Any) -> Any:
        looks.append(rule)
        return shared_by(rule, **given)

    monkeypatch.setattr(shared_causes, "shared_by", counted)
    looked(minutes=9)
    assert looks == []
    Device.objects.filter(firmware="5.1.0", last_check_in=LONG_AGO).update(last_check_in=NOW)
    assert looked(minutes=9).shared == first.shared and looks == []  # its count changed, but it was looked at just now
    again = looked(minutes=AGAIN_AFTER // timedelta(minutes=1))
    assert len(looks) == 1 and again.shared_count == again.count != first.count
    looked(minutes=60)
    assert len(looks) == 1


@pytest.mark.usefixtures("fleet")
def test_when_hardly_any_are_left_nothing_is_said_of_what_they_share() -> None:
    assert looked().shared
    left = Device.objects.filter(last_check_in=LONG_AGO).first()
    Device.objects.filter(last_check_in=LONG_AGO).exclude(pk=left and left.pk).update(last_check_in=NOW)
    found = looked(minutes=30)
    assert (found.count, found.shared, found.shared_count) == (1, [], 1)


@pytest.mark.usefixtures("fleet")
def test_one_that_cannot_be_looked_at_keeps_no_other_from_it(monkeypatch: pytest.MonkeyPatch) -> None:
    open_item(ItemKind.LOW_BATTERY, cause="Battery below 20%", count=5, rule="no_such_thing < 20", now=NOW)
    assert looked().shared  # a rule that does not read any more says nothing
    monkeypatch.setattr(shared_causes, "load_records", lambda *_: 1 / 0)
    later = NOW + AGAIN_AFTER
    open_item(ItemKind.SILENT, cause="Silent for over 24 h", count=9, rule=silent().rule, now=later)
    with pytest.raises(ZeroDivisionError):  # the worker's job fails, as its list of jobs says
        look_for_shared_causes(now=later)
    monkeypatch.undo()
    look_for_shared_causes(now=later)  # it was marked as looked at, and waits its turn
    assert silent().shared_at == later and silent().shared_count == 9


@pytest.mark.usefixtures("fleet")
def test_what_was_found_stays_with_an_item_that_is_over() -> None:
    refresh_conditions(now=NOW)
    item = silent()
    look_at_items(0)
    found = silent().shared
    close_item(ItemKind.SILENT, now=NOW)
    item.refresh_from_db()
    assert item.shared == found != []


def test_many_devices_are_drawn_from_and_all_are_counted(monkeypatch: pytest.MonkeyPatch, fleet: None) -> None:
    monkeypatch.setattr(shared_causes, "MOST_DEVICES", 15)
    monkeypatch.setattr(shared_causes, "MOST_OTHERS", 60)
    found = looked()
    [cause] = found.shared
    assert cause["words"] == "19 of the 23, and 12% of the others"
