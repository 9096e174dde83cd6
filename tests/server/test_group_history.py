"""Membership over time, and groups beside each other."""

from datetime import timedelta

import pytest
from rest_framework.test import APIClient

from herald.groups.history import compare, member_curve, members_at
from herald.groups.members import change_members
from herald.groups.models import Group
from herald.groups.overlaps import overlaps_of
from tests.factories import NOW, make_device, make_devices, make_rule_group, make_static, make_user

pytestmark = pytest.mark.django_db
DAY = timedelta(days=1)


def names(devices: object) -> list[str]:
    return sorted(d.name for d in devices)  # type: ignore[attr-defined]


def changing_group() -> Group:
    """a and b at first; b left and c joined on day 2; b back on day 5."""
    a, b, c = (make_device(name=n) for n in "abc")
    group = make_static("G", [a, b])
    change_members(group, add=[c.pk], remove=[b.pk], actor=None, now=NOW + 2 * DAY)
    change_members(group, add=[b.pk], remove=[], actor=None, now=NOW + 5 * DAY)
    return group


def test_who_was_in_on_a_given_day() -> None:
    group = changing_group()

    assert names(members_at(group, NOW - DAY)) == []
    assert names(members_at(group, NOW + DAY)) == ["a", "b"]
    assert names(members_at(group, NOW + 3 * DAY)) == ["a", "c"]
    assert names(members_at(group, NOW + 6 * DAY)) == ["a", "b", "c"]


def test_the_curve_goes_back_to_the_day_the_group_was_made() -> None:
    points = member_curve(changing_group(), now=NOW + 6 * DAY)

    assert (points[0].at, points[-1].at) == (NOW, NOW + 6 * DAY)
    assert [p.count for p in points] == [2, 2, 2, 2, 2, 3, 3]


def test_two_moments_beside_each_other() -> None:
    group = changing_group()

    parts = compare(members_at(group, NOW + DAY), members_at(group, NOW + 3 * DAY))

    assert (names(parts.only_first), names(parts.only_second), names(parts.both)) == (["b"], ["c"], ["a"])


def test_overlaps_exclude_each_other_and_their_rules_list_them() -> None:
    a, b, c, d = make_devices(4)
    first, second = make_static('A "1"'.replace('"', ""), [a, b, c]), make_static("B", [c, d])

    found = {tuple(o.groups): o for o in overlaps_of([first, second])}

    assert {k: o.count for k, o in found.items()} == {
        (first.pk,): 2,
        (first.pk, second.pk): 1,
        (second.pk,): 1,
    }
    listed = make_rule_group("Both", found[(first.pk, second.pk)].rule)
    assert [m.device_id for m in listed.memberships.all()] == [c.pk]


def test_the_calls_answer_and_refuse_in_words() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    group = changing_group()

    history = client.get(f"/api/v1/groups/{group.pk}/history").json()
    assert {(c["device"], c["joined"]) for c in history["changes"]} == {
        ("a", True),
        ("b", True),
        ("c", True),
        ("b", False),
    }
    then = (NOW + DAY).isoformat().replace("+00:00", "Z")
    later = (NOW + 3 * DAY).isoformat().replace("+00:00", "Z")
    beside = client.get(f"/api/v1/groups/{group.pk}/membership-diff", {"first": then, "second": later}).json()
    assert (beside["only_first_count"], beside["only_second_count"], beside["both_count"]) == (1, 1, 1)
    assert client.get(f"/api/v1/groups/{group.pk}/membership-diff", {"first": "noon"}).status_code == 422
    assert client.get("/api/v1/groups/overlaps", {"group": group.pk}).status_code == 422
    compared = client.post(
        "/api/v1/rules/compare", {"rule": "name = a", "devices": ["a", "b", "nobody"]}, format="json"
    ).json()
    assert ([d["member"] for d in compared["devices"]], compared["unknown"]) == ([True, False], ["nobody"])
