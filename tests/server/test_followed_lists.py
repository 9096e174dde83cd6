"""Groups that follow a list kept elsewhere: what they take from it, what waits for a person, and what never happens."""

from collections.abc import Sequence
from datetime import time, timedelta
from typing import Any

import pytest
from django.db import IntegrityError, transaction
from rest_framework.test import APIClient

from herald.attention.models import Item
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.fleet.models import Custodian, Device
from herald.groups.members import change_members
from herald.groups.models import Family, Group, GroupMembership
from herald.groups.services import delete_group
from herald.http.errors import Conflict
from herald.http.outbound import Fetched, FetchError
from herald.lists import services, tasks
from herald.lists.models import FollowedList
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, client_as, make_device, make_devices, make_model, make_rule_group, make_static, restart

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
URL = "https://assets.larkfield.example/pumps.txt"
HOUR = timedelta(hours=1)


class Elsewhere:
    """What stands at the address: a text, or an error; and what was asked for it."""

    def __init__(self) -> None:
        self.body: str | Exception = ""
        self.authorizations: list[str] = []

    def lists(self, devices: Sequence[Device]) -> None:
        self.body = "\n".join(d.name for d in devices)

    def fetch(self, url: str, *, authorization: str = "", **_: object) -> Fetched:
        self.authorizations.append(authorization)
        if isinstance(self.body, Exception):
            raise self.body
        return Fetched(self.body.encode(), url)


@pytest.fixture
def elsewhere(monkeypatch: pytest.MonkeyPatch) -> Elsewhere:
    there = Elsewhere()
    monkeypatch.setattr(services, "fetch", there.fetch)
    return there


def follow(client: APIClient, group: Group, **fields: Any) -> Any:
    return client.put(f"/api/v1/groups/{group.pk}/list", {"url": URL, **fields}, format="json")


def followed(client: APIClient, group: Group, **fields: Any) -> FollowedList:
    answer = follow(client, group, **fields)
    assert answer.status_code == 200, answer.json()
    return FollowedList.objects.get(group=group)


def names(group: Group) -> set[str]:
    return set(GroupMembership.objects.filter(group=group).values_list("device__name", flat=True))


def runs_on(group: Group) -> None:
    """A schedule that reaches whoever is in the group."""
    draft = ScheduleDraft(template=restart(), include=[group], when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5))
    create_schedule(draft, actor=None, now=NOW)


def read_at(moment: Any) -> None:
    services.read_due(now=moment)


def open_items() -> list[str]:
    return list(Item.objects.open().filter(kind="followed-list").values_list("cause", flat=True))


# -- following


def test_a_group_has_just_the_devices_of_its_list(client: APIClient, elsewhere: Elsewhere) -> None:
    first, second, third = make_devices(3)
    group = make_static("Pumps", [first])
    elsewhere.body = f"{second.name}\nuid:{third.uid}\nnobody-7\n"
    looked = client.post(f"/api/v1/groups/{group.pk}/list/preview", {"url": URL}, format="json").json()
    assert (looked["joins"], looked["leaves"], looked["members"]) == (2, 1, 1)
    assert looked["joining"] == sorted([second.name, third.name]) and looked["leaving"] == [first.name]
    assert looked["left_out"] == [{"entry": "nobody-7", "why": "is the name or uid of no device"}]
    assert names(group) == {first.name}, "looking changes nobody"
    row = follow(client, group).json()
    assert names(group) == {second.name, third.name}
    assert (row["entries"], row["found"], row["left_out_count"]) == (3, 2, 1)
    said = RecordEntry.objects.filter(kind="group", object_id=group.pk).latest("pk").sentence
    assert said == f"Let “Pumps” follow the list at {URL}: 2 joined, 1 left"


def test_people_stand_for_the_devices_they_answer_for(client: APIClient, elsewhere: Elsewhere) -> None:
    north = Custodian.objects.create(name="North agronomy", email="north@larkfield.example")
    Custodian.objects.create(name="Idle", email="idle@larkfield.example")
    mine = [make_device(custodian=north), make_device(custodian=north)]
    retired = make_device(custodian=north, admission="retired")
    make_device()
    group = make_static("North", [])
    elsewhere.body = "NORTH@larkfield.example\nnorth agronomy\nidle\nsomebody@else.example"
    row = follow(client, group, names="people").json()
    assert names(group) == {d.name for d in mine}
    assert {(x["entry"], x["why"]) for x in row["left_out"]} == {
        ("idle", "answers for no device"),
        ("somebody@else.example", "is the name or address of nobody who answers for devices"),
        (retired.name, "is retired"),
    }


def test_a_group_takes_no_device_that_it_may_not_have(client: APIClient, elsewhere: Elsewhere) -> None:
    family = Family.objects.create(name="Rings")
    good, elsewhere_in, other_model, gone = (
        make_device(),
        make_device(),
        make_device(model=make_model("Post 90", "Post")),
        make_device(admission="retired"),
    )
    make_static("Early", [elsewhere_in])
    group = make_static("Late", [])
    Group.objects.update(family=family)
    Group.objects.filter(pk=group.pk).update(only_model=make_model())
    elsewhere.lists([good, elsewhere_in, other_model, gone])
    row = follow(client, group).json()
    assert names(group) == {good.name}
    assert {x["entry"]: x["why"] for x in row["left_out"]} == {
        elsewhere_in.name: "is in “Early”, and in one group of the family only",
        other_model.name: "is of the model Post 90, and the group takes Sill 400 only",
        gone.name: "is retired",
    }


def test_a_device_that_another_group_took_meanwhile_is_left_there(
    client: APIClient, elsewhere: Elsewhere, monkeypatch: pytest.MonkeyPatch
) -> None:
    device = make_device()
    early, late = make_static("Early", []), make_static("Late", [])
    Group.objects.update(family=Family.objects.create(name="Rings"))
    elsewhere.lists([device])
    resolve = services.resolve

    def slowly(*args: Any) -> Any:
        found = resolve(*args)
        change_members(Group.objects.get(pk=early.pk), add=[device.pk], remove=[], actor=None, now=NOW)
        return found

    monkeypatch.setattr(services, "resolve", slowly)
    assert follow(client, late).json()["left_out_count"] == 1
    assert (names(early), names(late)) == ({device.name}, set())


@pytest.mark.parametrize("role", ["viewer", "approver"])
def test_only_operators_let_groups_follow_lists(role: str, elsewhere: Elsewhere) -> None:
    group = make_static("Pumps", [])
    assert follow(client_as(role), group).status_code == 403
    assert not FollowedList.objects.exists()


@pytest.mark.parametrize(
    ("fields", "pointer", "words"),
    [
        ({"url": ""}, "/url", "blank"),
        ({"url": "ftp://x.example/y"}, "/url", "begins with https"),
        ({"read_every_minutes": 4}, "/read_every_minutes", "5"),
        ({"names": "cats"}, "/names", "cats"),
        ({"column": "serial"}, "/column", "no column “serial”"),
    ],
)
def test_what_is_wrong_with_a_list_is_said_and_changes_nobody(
    client: APIClient, elsewhere: Elsewhere, fields: dict[str, Any], pointer: str, words: str
) -> None:
    member = make_device()
    group = make_static("Pumps", [member])
    elsewhere.body = "name\nsill-1\n"
    if fields.get("url", "").startswith("ftp"):
        elsewhere.body = FetchError("An address that begins with https:// or http:// is expected.")
    answer = follow(client, group, **fields)
    assert answer.status_code == 422
    assert [(e["pointer"], words in e["message"]) for e in answer.json()["errors"]] == [(pointer, True)]
    assert names(group) == {member.name} and not FollowedList.objects.exists()


def test_a_group_by_rule_follows_no_list_and_the_database_holds_that(client: APIClient, elsewhere: Elsewhere) -> None:
    by_rule = make_rule_group("All", "name = *")
    assert follow(client, by_rule).status_code == 409
    with pytest.raises(IntegrityError), transaction.atomic():
        FollowedList.objects.create(group=by_rule, url=URL)
    static = make_static("Pumps", [])
    followed(client, static)
    answer = client.post(f"/api/v1/groups/{static.pk}/convert-to-rule", {"rule": "name = *"}, format="json")
    assert answer.status_code == 409 and URL in answer.json()["detail"]
    with pytest.raises(IntegrityError), transaction.atomic():
        Group.objects.filter(pk=static.pk).update(kind="rule", rule="name = *")


# -- what the list keeps, nobody changes by hand


def test_members_that_a_list_keeps_are_not_changed_by_hand(client: APIClient, elsewhere: Elsewhere) -> None:
    kept, other = make_devices(2)
    group, sister = make_static("Pumps", []), make_static("Others", [])
    Group.objects.update(family=Family.objects.create(name="Rings"))
    elsewhere.lists([kept])
    followed(client, group)
    for change in ({"add": [other.name]}, {"remove": [kept.name]}):
        answer = client.post(f"/api/v1/groups/{group.pk}/members", change, format="json")
        assert answer.status_code == 409 and f"follows the list at {URL}" in answer.json()["detail"]
    sent = {"add": [kept.name], "move": True}
    assert client.post(f"/api/v1/groups/{sister.pk}/members", sent, format="json").status_code == 409
    assert (names(group), names(sister)) == ({kept.name}, set())


def test_a_group_that_follows_no_longer_keeps_its_devices(client: APIClient, elsewhere: Elsewhere) -> None:
    device = make_device()
    group = make_static("Pumps", [])
    elsewhere.lists([device])
    followed(client, group)
    assert client.delete(f"/api/v1/groups/{group.pk}/list").status_code == 204
    elsewhere.body = ""
    read_at(NOW + 2 * HOUR)
    assert names(group) == {device.name}
    assert client.delete(f"/api/v1/groups/{group.pk}/list").status_code == 404
    change = {"remove": [device.name]}
    assert client.post(f"/api/v1/groups/{group.pk}/members", change, format="json").status_code == 200


# -- read by itself


def test_a_list_is_read_when_it_is_due_and_changes_what_nothing_follows(
    client: APIClient, elsewhere: Elsewhere
) -> None:
    first, second = make_devices(2)
    group = make_static("Pumps", [])
    also = make_rule_group("Also", 'group = "Pumps"')
    elsewhere.lists([first])
    followed(client, group)
    elsewhere.lists([first, second])
    read_at(NOW + HOUR / 2)
    assert names(group) == {first.name}, "it is read every hour"
    read_at(NOW + HOUR)
    assert names(group) == names(also) == {first.name, second.name}
    entry = RecordEntry.objects.filter(kind="group", object_id=group.pk).latest("pk")
    assert (entry.actor, entry.sentence) == (None, "“Pumps” followed its list: 1 joined, 0 left")
    read_at(NOW + 2 * HOUR)
    assert RecordEntry.objects.filter(kind="group", object_id=group.pk).latest("pk") == entry, "nothing changed"


def test_the_task_reads_what_is_due(client: APIClient, elsewhere: Elsewhere) -> None:
    group = make_static("Pumps", [])
    kept = followed(client, group)
    FollowedList.objects.update(tried_at=clock.now() - HOUR)
    elsewhere.lists([device := make_device()])
    tasks.read_lists(timestamp=0)
    kept.refresh_from_db()
    assert kept.read_at == clock.now() and names(group) == {device.name}


def test_what_reaches_something_running_waits_for_a_person(client: APIClient, elsewhere: Elsewhere) -> None:
    first, second = make_devices(2)
    group = make_static("Pumps", [])
    elsewhere.lists([first])
    kept = followed(client, group)
    runs_on(group)
    elsewhere.lists([first, second])
    read_at(NOW + HOUR)
    kept.refresh_from_db()
    assert names(group) == {first.name}
    assert (kept.waits_since, kept.joins, kept.leaves, kept.read_at) == (NOW + HOUR, 1, 0, NOW + HOUR)
    assert "Schedule" in kept.waits_for
    assert open_items() == ["The list of “Pumps” waits for somebody to agree: 1 to join, 0 to leave"]
    read_at(NOW + 2 * HOUR)
    kept.refresh_from_db()
    assert kept.waits_since == NOW + HOUR and len(open_items()) == 1

    read = f"/api/v1/groups/{group.pk}/list/read"
    refusal = client.post(read, {}, format="json")
    assert refusal.status_code == 409 and refusal.json()["type"].endswith(":consequences-not-agreed")
    assert names(group) == {first.name}
    done = client.post(read, {}, format="json", HTTP_HERALD_AGREED=refusal.json()["digest"]).json()
    assert names(group) == {first.name, second.name}
    assert done["waits_since"] is None and not open_items()


def test_what_was_agreed_to_in_advance_is_done_and_no_more_than_that(client: APIClient, elsewhere: Elsewhere) -> None:
    devices = make_devices(6)
    group = make_static("Pumps", [])
    elsewhere.lists(devices[:1])
    kept = followed(client, group, unasked_a_day=3)
    runs_on(group)
    elsewhere.lists(devices[:3])  # two join
    read_at(NOW + HOUR)
    assert len(names(group)) == 3
    elsewhere.lists(devices[:5])  # two more would, and with those it would be four
    read_at(NOW + 2 * HOUR)
    kept.refresh_from_db()
    assert len(names(group)) == 3 and kept.joins == 2
    elsewhere.lists(devices[:4])
    read_at(NOW + 3 * HOUR)
    kept.refresh_from_db()
    assert len(names(group)) == 4 and kept.waits_since is None and not open_items()
    elsewhere.lists(devices[:6])
    read_at(NOW + 26 * HOUR)  # the two of the first hour are a day ago
    assert len(names(group)) == 6


def test_what_a_person_agreed_to_is_not_counted_as_unasked(client: APIClient, elsewhere: Elsewhere) -> None:
    devices = make_devices(8)
    group = make_static("Pumps", [])
    elsewhere.lists(devices[:6])
    followed(client, group, unasked_a_day=1)
    runs_on(group)
    elsewhere.lists(devices[:7])
    read_at(NOW + HOUR)
    assert len(names(group)) == 7


@pytest.mark.parametrize(("before", "after"), [(6, 2), (6, 0), (2, 0), (1, 0)])
def test_a_list_that_is_suddenly_short_waits_for_that_number(
    client: APIClient, elsewhere: Elsewhere, before: int, after: int
) -> None:
    devices = make_devices(before)
    group = make_static("Pumps", [])
    elsewhere.lists(devices)
    kept = followed(client, group)
    elsewhere.lists(devices[:after])
    read_at(NOW + HOUR)
    kept.refresh_from_db()
    leaves = before - after
    assert len(names(group)) == before and kept.leaves == leaves
    assert kept.waits_for == f"{leaves} of the {before} devices of “Pumps” would leave"
    read = f"/api/v1/groups/{group.pk}/list/read"
    for sent in ({}, {"leaves": leaves - 1}):
        refusal = client.post(read, sent, format="json")
        assert refusal.status_code == 409 and refusal.json()["type"].endswith(":most-leave")
    assert client.post(read, {"leaves": leaves}, format="json").status_code == 200
    assert len(names(group)) == after and not open_items()


@pytest.mark.parametrize(("before", "after"), [(6, 3), (3, 1), (100, 51)])
def test_a_list_that_is_a_little_shorter_is_followed(
    client: APIClient, elsewhere: Elsewhere, before: int, after: int
) -> None:
    devices = make_devices(before)
    group = make_static("Pumps", devices)
    elsewhere.lists(devices)
    followed(client, group)
    elsewhere.lists(devices[:after])
    read_at(NOW + HOUR)
    assert len(names(group)) == after


def test_following_a_list_that_takes_out_most_wants_that_number_too(client: APIClient, elsewhere: Elsewhere) -> None:
    group = make_static("Pumps", make_devices(5))
    assert follow(client, group).json()["type"].endswith(":most-leave")
    assert not FollowedList.objects.exists() and len(names(group)) == 5
    assert follow(client, group, leaves=5).status_code == 200


def test_a_list_that_cannot_be_read_changes_nobody_and_is_told_of(client: APIClient, elsewhere: Elsewhere) -> None:
    device = make_device()
    group = make_static("Pumps", [])
    elsewhere.lists([device])
    kept = followed(client, group)
    elsewhere.body = FetchError("assets.larkfield.example answered 503.")
    for hours in (1, 2):
        read_at(NOW + hours * HOUR)
    kept.refresh_from_db()
    assert (kept.failures, kept.last_error, kept.read_at) == (2, "assets.larkfield.example answered 503.", NOW)
    assert not open_items()
    row = client.post(f"/api/v1/groups/{group.pk}/list/read", {}, format="json").json()
    assert row["last_error"] == "assets.larkfield.example answered 503." and names(group) == {device.name}
    assert open_items() == ["The list of “Pumps” could not be read 3 times: assets.larkfield.example answered 503."]
    elsewhere.lists([device])
    read_at(NOW + 5 * HOUR)
    kept.refresh_from_db()
    assert (kept.failures, kept.last_error) == (0, "") and not open_items()


def test_asking_what_a_reading_would_do_changes_nothing_also_where_it_fails(
    client: APIClient, elsewhere: Elsewhere
) -> None:
    group = make_static("Pumps", [])
    kept = followed(client, group)
    elsewhere.body = FetchError("It did not answer within 20 seconds.")
    read = f"/api/v1/groups/{group.pk}/list/read"
    assert client.post(read, {}, format="json", HTTP_HERALD_DRY_RUN="true").status_code == 422
    elsewhere.lists([make_device()])
    asked = client.post(read, {}, format="json", HTTP_HERALD_DRY_RUN="true").json()
    assert asked["groups"] == [{"id": group.pk, "name": "Pumps", "joins": 1, "leaves": 0}]
    kept.refresh_from_db()
    assert (kept.failures, kept.entries, names(group)) == (0, 0, set())


def test_one_list_that_breaks_the_server_keeps_no_other_waiting(
    client: APIClient, elsewhere: Elsewhere, monkeypatch: pytest.MonkeyPatch
) -> None:
    device = make_device()
    broken, good = make_static("A broken one", []), make_static("Good", [])
    for group in (broken, good):
        followed(client, group)
    elsewhere.lists([device])
    resolve = services.resolve

    def breaks(entries: Any, kind: str, group: Group) -> Any:
        if group.pk == broken.pk:
            raise RuntimeError("planted")
        return resolve(entries, kind, group)

    monkeypatch.setattr(services, "resolve", breaks)
    read_at(NOW + HOUR)
    assert (names(broken), names(good)) == (set(), {device.name})
    assert "its log says how" in FollowedList.objects.get(group=broken).last_error


def test_the_item_of_a_group_that_was_deleted_is_closed(client: APIClient, elsewhere: Elsewhere) -> None:
    devices = make_devices(5)
    group = make_static("Pumps", [])
    elsewhere.lists(devices)
    followed(client, group)
    elsewhere.body = ""
    read_at(NOW + HOUR)
    assert open_items()
    delete_group(group, actor=None, now=NOW + HOUR)
    read_at(NOW + 2 * HOUR)
    assert not open_items() and not FollowedList.objects.exists()


# -- what is kept from others


def test_an_authorization_is_kept_for_its_host_and_never_shown(client: APIClient, elsewhere: Elsewhere) -> None:
    group = make_static("Pumps", [])
    row = follow(client, group, authorization="Bearer s3cret").json()
    assert row["has_authorization"] is True and "s3cret" not in str(row)
    assert "s3cret" not in str(client.get("/api/v1/followed-lists").json())
    follow(client, group, url="https://assets.larkfield.example/others.txt")
    assert elsewhere.authorizations[-1] == "Bearer s3cret", "the host is the same"
    look = {"url": "https://thief.example/x"}
    client.post(f"/api/v1/groups/{group.pk}/list/preview", look, format="json")
    assert elsewhere.authorizations[-1] == ""
    row = follow(client, group, url="http://assets.larkfield.example/others.txt").json()
    assert elsewhere.authorizations[-1] == "" and row["has_authorization"] is False
    follow(client, group, authorization="Bearer again")
    assert follow(client, group, authorization=None).json()["has_authorization"] is False
    assert not RecordEntry.objects.filter(sentence__contains="s3cret").exists()


def test_what_is_secret_in_an_address_is_not_in_the_record_or_in_refusals(
    client: APIClient, elsewhere: Elsewhere
) -> None:
    group, device = make_static("Pumps", []), make_device()
    followed(client, group, url=f"{URL}?key=s3cret#part")
    answer = client.post(f"/api/v1/groups/{group.pk}/members", {"add": [device.name]}, format="json")
    assert "s3cret" not in answer.json()["detail"]
    assert "s3cret" not in " ".join(RecordEntry.objects.values_list("sentence", flat=True))


def test_a_list_of_what_is_followed_by_group(client: APIClient, elsewhere: Elsewhere) -> None:
    late, early = make_static("Late", []), make_static("Early", [])
    for group in (late, early):
        followed(client, group)
    told = client.get("/api/v1/followed-lists").json()
    assert [row["group"]["name"] for row in told] == ["Early", "Late"]
    told = client.get(f"/api/v1/followed-lists?group={late.pk}").json()
    assert [row["group"]["name"] for row in told] == ["Late"]
    assert client.get("/api/v1/followed-lists?group=Late").status_code == 422


@pytest.mark.parametrize(
    "changed", [{"url": "https://assets.larkfield.example/new.txt"}, {"names": "people"}, {"column": "serial"}]
)
def test_a_group_that_is_removed_or_follows_another_list_while_it_is_read_is_left_alone(
    client: APIClient, elsewhere: Elsewhere, monkeypatch: pytest.MonkeyPatch, changed: dict[str, str]
) -> None:
    group = make_static("Pumps", [])
    kept = followed(client, group)
    elsewhere.lists([make_device()])
    resolve = services.resolve

    def slowly(*args: Any) -> Any:
        FollowedList.objects.update(**changed)
        return resolve(*args)

    monkeypatch.setattr(services, "resolve", slowly)
    services.read_by_itself(kept, now=NOW + HOUR)
    assert names(group) == set()


def test_hands_off_is_refused_with_where_the_list_is(client: APIClient, elsewhere: Elsewhere) -> None:
    group, device = make_static("Pumps", []), make_device()
    followed(client, group)
    with pytest.raises(Conflict, match=r"follows the list at https://assets\.larkfield\.example/pumps\.txt"):
        change_members(group, add=[device.pk], remove=[], actor=None, now=NOW)
