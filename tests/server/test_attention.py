"""The life of an attention item: opened, known of, looked after, put off, talked about, closed."""

from datetime import datetime, timedelta
from typing import Any

import pytest
from django.db import IntegrityError, transaction
from rest_framework.test import APIClient

from herald.attention.models import Item, ItemKind
from herald.attention.services import close_item, open_item
from herald.people.models import User
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, client_as, make_user

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
HOUR = timedelta(hours=1)


@pytest.fixture
def silent() -> Item:
    return opened()


def opened(count: int = 8, now: datetime = NOW) -> Item:
    open_item(ItemKind.SILENT, cause="Silent for over 24 h", count=count, rule="presence = silent", now=now)
    return Item.objects.open().get(kind=ItemKind.SILENT)


def act(client: APIClient, item: Item, verb: str, body: Any = None, expect: int = 200) -> Any:
    answer = client.post(f"/api/v1/attention/{item.pk}/{verb}", body, format="json")
    assert answer.status_code == expect, answer.content
    return answer.json()


def items(client: APIClient, **given: Any) -> list[dict[str, Any]]:
    answer = client.get("/api/v1/attention", given)
    assert answer.status_code == 200, answer.content
    found: list[dict[str, Any]] = answer.json()["items"]
    return found


def sentences() -> list[str]:
    return list(RecordEntry.objects.filter(kind="attention").order_by("id").values_list("sentence", flat=True))


def test_somebody_knows_of_it_and_the_first_stays_named(silent: Item) -> None:
    first, second = make_user(), make_user("approver")
    for who, at in ((first, NOW), (second, NOW + HOUR)):
        client = APIClient()
        client.force_authenticate(who)
        with clock.fixed(at):
            told = act(client, silent, "acknowledge")
        assert told["acknowledged_by"] == {"name": first.name, "email": first.email}
        assert told["acknowledged_at"] == "2026-11-23T02:00:00Z"
    assert sentences() == ["Acknowledged: Silent for over 24 h"], "the second changes nothing, and is not on record"


def test_somebody_looks_after_it_and_knows_of_it(client: APIClient, silent: Item) -> None:
    to = make_user("approver")
    told = act(client, silent, "assign", {"to": to.email.upper()})
    assert (told["assigned_to"]["email"], told["acknowledged_at"]) == (to.email, "2026-11-23T02:00:00Z")
    mine = APIClient()
    mine.force_authenticate(to)
    assert [i["id"] for i in items(mine, mine="true")] == [silent.pk]
    assert items(client, mine="true") == []
    assert act(client, silent, "assign", {"to": None})["assigned_to"] is None
    assert sentences() == [f"Gave to {to}: Silent for over 24 h", "Gave to nobody: Silent for over 24 h"]
    User.objects.filter(pk=to.pk).update(is_active=False)
    refused = act(client, silent, "assign", {"to": to.email}, expect=422)
    assert "disabled" in refused["errors"][0]["message"]
    unknown = act(client, silent, "assign", {"to": "nobody@larkfield.example"}, expect=422)
    assert unknown["errors"][0]["pointer"] == "/to"


def test_one_that_is_put_off_is_hidden_from_now_and_comes_back_at_its_time(client: APIClient, silent: Item) -> None:
    until = NOW + 5 * HOUR
    act(client, silent, "snooze", {"until": until.isoformat()})
    now = client.get("/api/v1/now").json()
    assert (now["attention"], now["snoozed"]) == ([], 1)
    assert (items(client), len(items(client, state="snoozed"))) == ([], 1)
    with clock.fixed(until):
        assert [i["id"] for i in client.get("/api/v1/now").json()["attention"]] == [silent.pk]
    assert act(client, silent, "snooze", {"until": None})["snoozed_until"] is None
    assert [i["id"] for i in items(client)] == [silent.pk]
    for moment in (NOW, NOW + timedelta(days=31)):
        refused = act(client, silent, "snooze", {"until": moment.isoformat()}, expect=422)
        assert refused["errors"][0]["pointer"] == "/until"


@pytest.mark.parametrize(("count", "is_hidden"), [(4, True), (12, True), (13, False)])
def test_one_that_grows_by_more_than_half_comes_back_sooner(
    client: APIClient, silent: Item, count: int, is_hidden: bool
) -> None:
    act(client, silent, "snooze", {"until": (NOW + 5 * HOUR).isoformat()})
    opened(count, now=NOW + HOUR)
    with clock.fixed(NOW + HOUR):
        assert (items(client) == []) is is_hidden


def test_one_that_is_over_is_kept_and_left_alone(client: APIClient, silent: Item) -> None:
    act(client, silent, "assign", {"to": make_user().email})
    close_item(ItemKind.SILENT, now=NOW + 2 * HOUR)
    for verb, body in (("acknowledge", None), ("assign", {"to": None}), ("snooze", {"until": None})):
        assert "over" in act(client, silent, verb, body, expect=409)["detail"]
    with clock.fixed(NOW + 3 * HOUR):
        [over] = items(client, state="closed")
        answer = client.get("/api/v1/attention").json()
    assert (over["id"], over["closed_at"]) == (silent.pk, "2026-11-23T04:00:00Z")
    assert answer["times_to_close"] == [{"kind": "silent", "closed": 1, "seconds": 7200.0}]
    # the next time is another item, of which nobody knows yet
    again = opened(now=NOW + 4 * HOUR)
    assert (again.pk != silent.pk, again.acknowledged_at, again.assigned_to) == (True, None, None)


def test_people_say_something_about_it(client: APIClient, silent: Item) -> None:
    path = f"/api/v1/attention/{silent.pk}/comments"
    assert client.post(path, {"text": "the mast at Marrow Bay is down"}, format="json").status_code == 201
    assert [c["text"] for c in client.get(path).json()] == ["the mast at Marrow Bay is down"]
    assert sentences() == ["Commented: the mast at Marrow Bay is down"]
    assert client.get("/api/v1/attention/999999/comments").status_code == 404


def test_lists_are_of_a_state_and_a_kind(client: APIClient, silent: Item) -> None:
    open_item(ItemKind.LOW_BATTERY, cause="Battery below 20%", count=3, rule="battery < 20", now=NOW)
    assert [i["kind"] for i in items(client, kind="silent")] == ["silent"]
    assert {i["kind"] for i in items(client)} == {"silent", "low-battery"}
    for given, pointer in (({"kind": "broken"}, "/kind"), ({"state": "gone"}, "/state")):
        refused = client.get("/api/v1/attention", given)
        assert (refused.status_code, refused.json()["errors"][0]["pointer"]) == (422, pointer)


def test_who_may_only_look_changes_nothing_and_is_nobody_to_give_it_to(silent: Item) -> None:
    viewer = client_as("viewer")
    assert viewer.post(f"/api/v1/attention/{silent.pk}/acknowledge").status_code == 403
    people = {p["email"] for p in viewer.get("/api/v1/attention").json()["people"]}
    assert people == {u.email for u in User.objects.exclude(role="viewer")}
    assert act(client_as("operator"), Item(pk=999_999), "acknowledge", expect=404)


def test_the_database_holds_that_who_knows_knows_since_when(silent: Item) -> None:
    for fields in ({"acknowledged_by": make_user()}, {"snoozed_count": 3}):
        with pytest.raises(IntegrityError), transaction.atomic():
            Item.objects.filter(pk=silent.pk).update(**fields)
