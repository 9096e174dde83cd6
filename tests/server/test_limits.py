"""Whoever is limited to folders and sites sees and changes what is within, and learns of nothing else: not by a list, a
count, a hint, a refusal or a name. All that is foreign here has “zzforeign” in its name, which no answer may hold."""

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import time, timedelta
from typing import Any

import pytest
from django.db import ProgrammingError, connection, transaction
from django.urls import URLPattern, get_resolver
from rest_framework.test import APIClient

from herald.agenda.feed import FeedDraft, make_feed, read_feed
from herald.attention.models import ItemKind
from herald.attention.services import open_item
from herald.calendar.services import FreezeDraft, save_freeze
from herald.catalog.tags import describe_tag
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import Occurrence, Schedule, When
from herald.commands.turn import turn_schedules
from herald.db.limits import ROLE, begin_limits, beyond_limits, end_limits, limited_to, limits_of, sees
from herald.deliveries.models import Delivery
from herald.fleet.models import Custodian, Device, PropertyDefinition, Site, Tag
from herald.groups.folders import delete_folder, make_folder
from herald.groups.members import change_members
from herald.groups.models import Folder, Group
from herald.http.errors import Conflict
from herald.images.models import Image
from herald.limits.policies import POLICIES
from herald.limits.services import limit_person, make_scoped_token, read_limits
from herald.notifications.models import Message, SendState
from herald.people.models import ABILITIES, ApiToken, Role, User
from herald.people.permissions import RolePermission, Tokens, ability_needed, open_within_limits, token_opens
from herald.record.services import record
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene.lifecycle import order_by_rank
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald_core.rings.assignment import RingKind
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_rule_group,
    make_site,
    make_static,
    make_user,
    restart,
    ring,
)
from tests.server.test_notifications import rule as tells

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"
METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE")
SECRET = re.compile("zz ?foreign", re.IGNORECASE)


@dataclass(frozen=True, kw_only=True)
class World:
    """Half of a fleet that is somebody's, and half that is not; and things that are aimed at either, or both."""

    person: User
    client: APIClient
    mine: list[Device]
    foreign: list[Device]
    group: Group
    below: Group
    everything: Group
    rollout: Rollout
    over_all: Rollout
    schedule: Schedule
    elsewhere: Schedule


@pytest.fixture
def world(request: pytest.FixtureRequest) -> World:
    """Asked by a limited person; or, where a test is for `both`, by a limited token of somebody who sees everything."""
    found = make_world()
    return by_token(found) if getattr(request, "param", "") == "token" else found


both = pytest.mark.parametrize("world", ["person", "token"], indirect=True)


def by_token(world: World) -> World:
    """The same, where a token is limited and not its owner."""
    owner = limit_person(world.person.pk, None, actor=None, now=NOW)
    folder = Folder.objects.get(name="North")
    limits = read_limits([folder.pk], [])
    letters = make_scoped_token(owner, name="Bay", days=7, reads_only=False, limits=limits, now=NOW)
    client = APIClient()
    client.credentials(HTTP_AUTHORIZATION=f"Bearer {letters}")
    return replace(world, person=owner, client=client)


def held(world: World) -> Any:
    """The database, held to what the world's client sees."""
    token = ApiToken.objects.filter(user=world.person, is_limited=True).first()
    return limits_of(world.person.pk, token.pk if token else None)


def make_world() -> World:
    north, far = make_site("Marrow Bay"), make_site("Zzforeign Hill", region="Zzforeign", zone="Asia/Tokyo")
    keeper = Custodian.objects.create(name="zzforeign-crew", email="zzforeign@example.org")
    mine = make_devices(4, site=north, tags=["damp"], attributes={"note": "ours"})
    foreign = [
        make_device(
            name=f"zzforeign-{n}",
            uid=f"ZZFOREIGN-{n}",
            site=far,
            tags=["damp", "zzforeign-tag"],
            attributes={"note": "zzforeign value"},
            facts={"zzforeign_fact": 7},
            custodian=keeper,
        )
        for n in range(3)
    ]
    PropertyDefinition.objects.create(key="note", source="attribute", label="Note", type="text")
    for slug in ("damp", "zzforeign-tag"):
        Tag.objects.get_or_create(slug=slug)
    describe_tag("zzforeign-tag", note="zzforeign note", colour=1, actor=None, now=NOW)
    folder = make_folder("North", None, actor=None, now=NOW)
    inside = make_folder("Deep", folder, actor=None, now=NOW)
    other = make_folder("Zzforeign folder", None, actor=None, now=NOW)
    group, below = make_static("Bay", mine[:3]), make_static("Bay, deep", mine[3:])
    everything = make_rule_group("Zzforeign everything", "tag = damp")
    hidden = make_static("Zzforeign only", foreign)
    for one, where in ((group, folder), (below, inside), (everything, other), (hidden, other)):
        Group.objects.filter(pk=one.pk).update(folder=where)
    # the later one takes over where both want a device, so that mine[3] has an order of the other only
    over_all = launched(make_draft(everything, make_image("5.2.0", b"other"), name="Zzforeign rollout"))
    rollout = launched(make_draft(group, make_image(), name="Bay first"))
    schedule, elsewhere = (
        create_schedule(
            ScheduleDraft(
                name=name,
                template=restart(),
                include=[whom],
                when=When.REPEAT,
                starts_on=NOW.date(),
                time_of_day=time(3),
                rule="FREQ=DAILY",
                spread_minutes=0,
            ),
            actor=None,
            now=NOW,
        )
        for name, whom in (("Bay restarts", group), ("Zzforeign restarts", everything))
    )
    tick_rollouts(now=NOW)
    for name, whom in (("Zzforeign freeze", hidden), ("Bay rests", group)):
        draft = FreezeDraft(name=name, starts_at=NOW, ends_at=NOW + timedelta(days=2), groups=[whom])
        save_freeze(draft, actor=None, now=NOW)
    for kind, number in (("rollout", over_all.pk), ("device", foreign[0].pk)):
        record(now=NOW, actor=None, kind=kind, object_id=number, sentence="Did a Zzforeign thing")
    open_item(
        ItemKind.SILENT, cause="Zzforeign: silent for over 24 h", count=3, rule="site = 'Zzforeign Hill'", now=NOW
    )
    open_item(ItemKind.HALTED, cause="Zzforeign rollout halted", object_kind="rollout", object_id=over_all.pk, now=NOW)
    person = limited(make_user("operator"), folders=[folder])
    client = APIClient()
    client.force_authenticate(person)
    return World(
        person=person,
        client=client,
        mine=mine,
        foreign=foreign,
        group=group,
        below=below,
        everything=everything,
        rollout=rollout,
        over_all=over_all,
        schedule=schedule,
        elsewhere=elsewhere,
    )


def limited(user: User, folders: Any = (), sites: Any = ()) -> User:
    limits = read_limits([f.pk for f in folders], [s.pk for s in sites])
    return limit_person(user.pk, limits, actor=None, now=NOW)


def client_of(user: User) -> APIClient:
    client = APIClient()
    client.force_authenticate(user)
    return client


# -- the lists themselves


def test_every_table_has_a_policy_and_the_database_holds_it() -> None:
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT relname, relrowsecurity, (SELECT count(*) FROM pg_policy WHERE polrelid = c.oid) FROM pg_class c"
            " WHERE relkind IN ('r', 'p') AND relnamespace = 'public'::regnamespace"
        )
        tables = {name: (held, policies) for name, held, policies in cursor.fetchall()}
    assert set(tables) == set(POLICIES), "a table that is new needs a policy in herald/limits/policies.py"
    assert set(tables.values()) == {(True, 1)}


def calls() -> list[tuple[str, str, Any]]:
    """Address, method and view of every call that there is."""
    found = []
    for pattern in get_resolver().url_patterns:
        view = getattr(pattern.callback, "view_class", None) if isinstance(pattern, URLPattern) else None
        if view is not None and hasattr(view, "permission_classes"):
            found += [(str(pattern.pattern), m, view) for m in METHODS if hasattr(view, m.lower())]
    return sorted(found, key=lambda c: c[:2])


def test_every_call_stands_behind_the_same_door() -> None:
    """All but those that let in whoever is not signed in, which are these."""
    open_to_all = {path for path, _, view in calls() if RolePermission not in view.permission_classes}
    assert open_to_all == {
        "api/v1/feeds/<str:secret>.ics",
        "api/v1/health",
        "api/v1/ready",
        "api/v1/session",
        "api/v1/session/passkey",
        "api/v1/session/passkey/options",
        "api/v1/welcome/<str:secret>",
        "api/v1/welcome/<str:secret>/passkey-options",
    }


@pytest.mark.parametrize("role", [r for r in Role if r is not Role.ADMINISTRATOR])
def test_each_call_is_open_or_closed_to_limited_people_as_it_says(role: Role) -> None:
    client = client_of(limited(make_user(role), folders=[make_folder("North", None, actor=None, now=NOW)]))
    for path, method, view in calls():
        if RolePermission not in view.permission_classes:
            continue
        address = re.sub(r"<str:secret>", "x", path)
        address = re.sub(r"<int:\w+>", "987654", address)
        address = re.sub(r"<uuid:\w+>", "00000000-0000-0000-0000-000000000000", address)
        address = re.sub(r"<\w+:\w+>", "x", address)
        answer = client.generic(method, f"/{address}", "{}", content_type="application/json")
        changes = method != "GET" and not getattr(view, "changes_nothing", False)
        may = method in open_within_limits(view) and (not changes or ability_needed(view) in ABILITIES[role])
        assert (answer.status_code != 403) == may, (role, method, path, answer.content)
        assert answer.status_code < 500, (method, path, answer.content)


# -- what is read


def addresses(world: World, *, foreign: bool) -> dict[str, str]:
    """Something behind each part of an address: within the limits, or outside."""
    device = (world.foreign if foreign else world.mine)[0]
    theirs = (world.over_all, world.everything, world.elsewhere)
    rollout, group, schedule = theirs if foreign else (world.rollout, world.group, world.schedule)
    delivery = Delivery.objects.filter(device=device).first()
    assert delivery is not None and device.site is not None
    return {
        "rollout_id": str(rollout.pk),
        "group_id": str(group.pk),
        "schedule_id": str(schedule.pk),
        "device": device.uid,
        "site_id": str(device.site.pk),
        "delivery_id": str(delivery.pk),
    }


def filled(path: str, world: World, *, foreign: bool) -> str | None:
    parts = addresses(world, foreign=foreign)
    if "sites/<int:pk>" in path:
        path = path.replace("<int:pk>", parts["site_id"])
    names = re.findall(r"<\w+:(\w+)>", path)
    if any(name not in parts for name in names):
        return None
    return re.sub(r"<\w+:(\w+)>", lambda found: parts[found[1]], path)


#: what some calls must be asked
ASKED = {
    "devices/grid": "row=site&column=tag",
    "groups/overlaps": "group={group}&group={below}",
    "rollouts/<int:rollout_id>/preflight/devices": "outcome=change",
    "rollouts/<int:rollout_id>/breakdown": "by=site",
    "groups/<int:group_id>/membership-diff": "first=2026-11-23T01:00:00Z",
    "calendar": "from=2026-11-23T00:00:00Z&until=2026-11-30T00:00:00Z&rows=site",
}


def readable() -> list[str]:
    return [path for path, method, view in calls() if method == "GET" and "GET" in open_within_limits(view)]


@both
def test_no_answer_tells_of_anything_outside_the_limits(world: World) -> None:
    tried, views = set(), {path: view for path, _, view in calls()}
    for path in readable():
        address = filled(path, world, foreign=False)
        if address is None:
            continue
        asked = ASKED.get(path.removeprefix("api/v1/"), "").format(group=world.group.pk, below=world.below.pk)
        answer = world.client.get(f"/{address}?{asked}")
        content = b"".join(answer.streaming_content) if answer.streaming else answer.content
        if ApiToken.objects.exists() and token_opens(views[path]) is not Tokens.ANY:
            assert answer.status_code == 403, path  # it is about somebody's own
        else:
            assert answer.status_code in (200, 404, 409), (path, answer.status_code, content)
        assert not SECRET.search(content.decode()), (path, content.decode())
        if answer.status_code == 200:
            tried.add(path)
    assert len(tried) > 60, sorted(set(readable()) - tried)


@both
def test_what_is_outside_answers_as_if_it_were_not_there(world: World) -> None:
    for path in readable():
        address = filled(path, world, foreign=True)
        if address is None or "<" not in path:
            continue
        asked = ASKED.get(path.removeprefix("api/v1/"), "")
        answer = world.client.get(f"/{address}?{asked}")
        nowhere = re.sub(r"<int:\w+>", "987654", re.sub(r"<str:device>", "nowhere", path))
        nothing = world.client.get(f"/{nowhere}?{asked}")
        assert answer.status_code == 404, (path, answer.content)
        told, of_nothing = (re.sub(r"\d+|nowhere|ZZFOREIGN-0", "?", a.content.decode()) for a in (answer, nothing))
        assert told == of_nothing, path


@both
def test_a_group_of_theirs_whose_rule_names_one_that_is_not_is_shown_with_its_members(world: World) -> None:
    group = make_rule_group("Mixed", 'group = "Zzforeign everything" and site = "Marrow Bay"')
    Group.objects.filter(pk=group.pk).update(folder=world.group.folder or Folder.objects.get(name="North"))
    path = f"{V1}/groups/{group.pk}"
    assert world.client.get(path).json()["member_count"] == 4
    assert len(world.client.get(f"{path}/members").json()["devices"]) == 4
    for call in ("history", "coming"):
        assert world.client.get(f"{path}/{call}").status_code == 200, call
    assert world.client.get(f"{V1}/groups/overview").status_code == 200


@both
def test_an_order_of_a_rollout_that_is_not_seen_is_shown_without_it(world: World) -> None:
    path = f"{V1}/devices/{world.mine[3].name}"
    (order,) = world.client.get(f"{path}/orders").json()["deliveries"]
    assert order["what"].endswith("5.2.0") and order["rollout"] is None and order["waits_for"] is None
    told = [(e["text"], e["rollout"]) for e in world.client.get(f"{path}/timeline").json() if "5.2.0" in e["text"]]
    assert told and all(rollout is None for _, rollout in told)
    everybody = client_of(make_user("viewer")).get(f"{path}/orders").json()
    assert everybody["deliveries"][0]["rollout"] == world.over_all.pk


@both
def test_an_order_of_another_rollout_that_is_not_seen_counts_as_going_first(world: World) -> None:
    change_members(world.group, add=[world.mine[3].pk], remove=[], actor=None, now=NOW)
    answer = world.client.post(f"{V1}/rollouts/{world.rollout.pk}/preflight")
    assert answer.status_code == 200, answer.content
    assert answer.json()["audience"] == 4 and not SECRET.search(answer.content.decode())


@pytest.mark.parametrize("change", ["exclude", "ring", "devices", "include"])
@both
def test_what_is_aimed_also_at_something_outside_is_not_theirs(world: World, change: str) -> None:
    """Whichever part of it is outside: its words would name it."""
    outside = {
        "exclude": {"exclude": [Group.objects.get(name="Zzforeign only")]},
        "include": {"include": [world.group, world.everything]},
        "devices": {"devices": [world.foreign[0].pk]},
        "ring": {"rings": [ring("A", RingKind.GROUP, group=world.everything), ring("B")]},
    }[change]
    rollout = make_draft(world.group, Image.objects.get(version="5.2.1"), **outside)
    assert world.client.get(f"{V1}/rollouts/{rollout.pk}").status_code == 404
    if change == "ring":
        return
    aimed: dict[str, Any] = {"include": [world.group], **outside}
    draft = ScheduleDraft(template=restart(), when=When.NOW, spread_minutes=0, expires_after_minutes=60, **aimed)
    schedule = create_schedule(draft, actor=None, now=NOW)
    assert world.client.get(f"{V1}/schedules/{schedule.pk}").status_code == 404


@both
def test_lists_and_counts_are_of_the_devices_within(world: World) -> None:
    client = world.client
    assert client.get(f"{V1}/devices").json()["count"] == 4
    assert client.get(f"{V1}/now").json()["devices"] == 4
    assert {g["name"] for g in client.get(f"{V1}/groups").json()} == {"Bay", "Bay, deep"}
    assert [(f["name"], f["device_count"]) for f in client.get(f"{V1}/folders").json()] == [("Deep", 1), ("North", 4)]
    assert [t["slug"] for t in client.get(f"{V1}/tags").json()] == ["damp"]
    assert [s["name"] for s in client.get(f"{V1}/sites").json()] == ["Marrow Bay"]
    assert client.get(f"{V1}/custodians").json() == []
    assert [r["id"] for r in client.get(f"{V1}/rollouts").json()["rollouts"]] == [world.rollout.pk]
    assert [s["id"] for s in client.get(f"{V1}/schedules").json()["schedules"]] == [world.schedule.pk]
    values = client.get(f"{V1}/fields/tag/values").json()
    assert [v["value"] for v in values] == ["damp"]


@pytest.mark.parametrize(
    "rule",
    [
        'site = "{}"',
        'group = "{}"',
        "tag = {}",
        'custodian = "{}"',
        'name = "{}"',
        "uid = {}",
        'note = "{}"',
        'not site = "{}"',
    ],
)
@both
def test_a_rule_finds_and_hints_at_nothing_outside(world: World, rule: str) -> None:
    """What is outside and what is nowhere get the same answer, but for the word itself."""
    named = {
        "site": "Zzforeign Hill",
        "group": "Zzforeign only",
        "tag": "zzforeign-tag",
        "custodian": "zzforeign-crew",
        "name": "zzforeign-1",
        "uid": "ZZFOREIGN-1",
        "note": "zzforeign value",
    }[rule.removeprefix("not ").split()[0]]
    for call in ("preview", "sieve"):
        told = []
        for word in (named, re.sub(r"\w", "q", named), named[:-1] + "q"):
            answer = world.client.post(f"{V1}/rules/{call}", {"rule": rule.format(word)}, format="json")
            content = re.sub(r'"took_ms":[\d.]+', "", answer.content.decode())
            told.append((answer.status_code, content.replace(word, "?")))
        assert told[0] == told[1] == told[2], call
    explained = world.client.post(f"{V1}/rules/explain", {"rule": "tag = damp", "device": "zzforeign-1"}, format="json")
    unknown = world.client.post(f"{V1}/rules/explain", {"rule": "tag = damp", "device": "qqforeign-1"}, format="json")
    assert explained.status_code == unknown.status_code == 404
    assert explained.content.replace(b"zzf", b"?") == unknown.content.replace(b"qqf", b"?")


# -- what is changed


@both
def test_whatever_is_aimed_is_aimed_at_what_is_within(world: World) -> None:
    image = make_image("5.4.0", b"third")
    base: dict[str, Any] = {
        "changes": [{"model_id": None, "choice": "image", "image_id": image.pk}],
        "rings": [{"name": "All", "kind": "rest"}],
        "window_start": None,
        "window_end": None,
    }
    client = world.client
    for change in (
        {"include": [world.everything.pk]},
        {"include": [world.group.pk], "exclude": [world.everything.pk]},
        {"include": [], "include_devices": ["zzforeign-1"]},
        {"include": [world.group.pk], "rings": [{"name": "A", "kind": "group", "group_id": world.everything.pk}]},
        {"include": [world.group.pk], "rule_filter": "group = 'Zzforeign everything'"},
    ):
        answer = client.post(f"{V1}/rollouts", base | change, format="json")
        assert answer.status_code == 422, (change, answer.content)
    made = client.post(f"{V1}/rollouts", base | {"include": [world.group.pk]}, format="json")
    assert made.status_code == 201, made.content
    body = base | {"include": [world.everything.pk]}
    assert client.put(f"{V1}/rollouts/{made.json()['id']}", body, format="json").status_code == 422
    command = {"template": "restart", "when": "now", "spread_minutes": 0, "expires_after_minutes": 60}
    for change in ({"include": [world.everything.pk]}, {"include": [], "include_devices": ["zzforeign-1"]}):
        assert client.post(f"{V1}/schedules/preview", command | change, format="json").status_code == 422
        assert client.post(f"{V1}/schedules", command | change | {"devices": 3}, format="json").status_code == 422
    assert not Rollout.objects.filter(include=world.everything).exclude(pk=world.over_all.pk).exists()


@both
def test_a_limited_operator_takes_a_rollout_from_draft_to_its_end(world: World) -> None:
    client, image = world.client, make_image("5.4.0", b"third")
    body = {
        "changes": [{"model_id": None, "choice": "image", "image_id": image.pk}],
        "include": [world.below.pk],
        "rings": [{"name": "One", "kind": "number", "number": 1}, {"name": "All", "kind": "rest"}],
        "window_start": None,
        "window_end": None,
        "name": "Mine",
    }

    def call(path: str, sent: Any = None, method: str = "post", wanted: int = 200) -> Any:
        answer = getattr(client, method)(f"{V1}/{path}", sent or {}, format="json")
        assert answer.status_code == wanted, (path, answer.content)
        return answer.json() if answer.content else None

    rollout = call("rollouts", body, wanted=201)["id"]
    call("rollouts/sentence", {"changes": body["changes"], "include": body["include"], "ring_count": 2})
    call("rollouts/usual-hours", {"include": body["include"]})
    assert call(f"rollouts/{rollout}/preflight")["audience"] == 1
    call(f"rollouts/{rollout}/exclusions", {"devices": [world.mine[3].name], "reason": "on the bench"})
    call(f"rollouts/{rollout}/exclusions/remove", {"devices": [world.mine[3].name]})
    call(f"rollouts/{rollout}/comments", {"text": "Off we go."}, wanted=201)
    reached = call(f"rollouts/{rollout}/preflight")["reached"]
    call(f"rollouts/{rollout}/launch", {"devices": reached, "reason": "all is well"}, wanted=202)
    launching.launch(Rollout.objects.get(pk=rollout), now=NOW)
    tick_rollouts(now=NOW + timedelta(seconds=1))
    for act, sent in (
        ("pause", {"reason": "lunch"}),
        ("resume", {}),
        ("words", {"name": "Ours"}),
        ("extend/preview", {"hours": 4}),
        ("extend", {"hours": 4}),
        ("expedite", {"devices": [world.mine[3].name]}),
        ("hold", {"rule": "site = 'Marrow Bay'", "reason": "crew"}),
        ("release", {}),
        ("retry", {"devices": [world.mine[3].name]}),
        ("skip", {"devices": [world.mine[3].name], "reason": "lost"}),
        ("stop", {"reason": "enough"}),
    ):
        method = "put" if act == "words" else "post"
        answer = getattr(client, method)(f"{V1}/rollouts/{rollout}/{act}", sent, format="json")
        assert answer.status_code in (200, 202, 204, 409, 422), (act, answer.content)
        assert not SECRET.search(answer.content.decode())
    assert Rollout.objects.get(pk=rollout).state == "stopped"
    assert call(f"rollouts/{rollout}/report", method="get")
    sentences = [e["sentence"] for e in call("record", method="get")["entries"]]
    assert any("Launched" in s for s in sentences) and not SECRET.search(" ".join(sentences))


@both
def test_who_does_not_see_all_rollouts_does_not_say_which_goes_first(world: World) -> None:
    with held(world), pytest.raises(Conflict, match="those who see all"):
        order_by_rank([world.rollout.pk], actor=world.person, now=NOW)
    assert world.client.put(f"{V1}/rollouts/order", {"order": [world.rollout.pk]}, format="json").status_code == 403


@both
def test_a_limited_operator_sends_commands_to_what_is_theirs(world: World) -> None:
    client = world.client
    command = {
        "template": "restart",
        "when": "now",
        "spread_minutes": 0,
        "expires_after_minutes": 60,
        "include": [],
        "include_devices": [world.mine[0].name],
    }
    seen = client.post(f"{V1}/schedules/preview", command, format="json")
    assert seen.status_code == 200, seen.content
    made = client.post(f"{V1}/schedules", command | {"devices": 1}, format="json")
    assert made.status_code == 201, made.content
    turn_schedules(now=NOW + timedelta(seconds=1))
    assert Occurrence.objects.filter(schedule=made.json()["id"]).exists()
    pk = world.schedule.pk
    for act, sent in (
        ("pause", {}),
        ("resume", {}),
        ("comments", {"text": "Mind the tide."}),
        ("skip", {"local_time": "2026-11-23T03:00"}),
        ("run", {"devices": 3}),
        ("end", {}),
    ):
        answer = client.post(f"{V1}/schedules/{pk}/{act}", sent, format="json")
        assert answer.status_code in (200, 201), (act, answer.content)
    assert Schedule.objects.get(pk=pk).state == "ended"
    assert client.post(f"{V1}/devices/{world.mine[0].name}/request-report").status_code == 200
    assert client.post(f"{V1}/devices/{world.mine[0].name}/live", {}, format="json").status_code in (200, 409)
    for act in ("pause", "end"):
        assert client.post(f"{V1}/schedules/{world.elsewhere.pk}/{act}").status_code == 404


def test_a_limited_person_keeps_house_for_themselves(world: World) -> None:
    """Signed in by the page, with all that a session does before and after each request."""
    user = world.person
    user.set_password("a-long-password")
    user.save()
    client = APIClient()

    def call(method: str, path: str, sent: Any = None) -> Any:
        answer = getattr(client, method)(f"{V1}/{path}", sent or {}, format="json")
        assert answer.status_code in (200, 201, 204), (path, answer.content)
        return answer.json() if answer.content else None

    call("post", "session", {"email": user.email, "password": "a-long-password"})
    call("put", "own", {"name": "Cee Rew", "time_zone": "Europe/Lisbon"})
    call("put", "own/preference", {"mail": "daily", "daily_at": "08:00", "quiet_from": None, "quiet_until": None})
    call("post", "own/password", {"current": "a-long-password", "new": "another-long-phrase"})
    token = call("post", "tokens", {"name": "Nightly", "days": 7})["token"]
    assert [t["name"] for t in call("get", "tokens")] == ["Nightly"]
    script = APIClient()
    script.credentials(HTTP_AUTHORIZATION=f"Bearer {token}")
    assert script.get(f"{V1}/devices").json()["count"] == 4
    call("post", "saved-views", {"name": "Damp", "address": {"rule": "tag = damp"}})
    feed = call("post", "calendar-feeds", {"name": "Phone", "parts": ["firings"], "rows": "zone", "keys": []})
    assert not SECRET.search(client.get(feed["path"]).content.decode().replace("\r\n ", ""))
    call("post", "own/second-factor", {"password": "another-long-phrase"})
    assert len(call("get", "own/sessions")) == 1
    open_item(ItemKind.STUCK, cause="Stuck", object_kind="rollout", object_id=world.rollout.pk, now=NOW)
    (item,) = call("get", "attention")["items"]
    for act, sent in (
        ("acknowledge", None),
        ("assign", {"to": user.email}),
        ("comments", {"text": "On it."}),
        ("snooze", {"until": None}),
    ):
        call("post", f"attention/{item['id']}/{act}", sent)
    assert [c["text"] for c in call("get", f"attention/{item['id']}/comments")] == ["On it."]
    call("delete", "session")


@both
def test_nothing_is_changed_past_the_views_either(world: World) -> None:
    """The database refuses it, whichever code asks."""
    with held(world):
        assert Device.objects.filter(pk=world.foreign[0].pk).update(name="taken") == 0
        assert Rollout.objects.filter(pk=world.over_all.pk).update(name="taken") == 0
        assert Delivery.objects.filter(device=world.foreign[0]).delete()[0] == 0
        acts: list[Callable[[], object]] = [
            lambda: Device.objects.filter(pk=world.mine[0].pk).update(site=Site.objects.create(name="New")),
            lambda: Group.objects.filter(pk=world.group.pk).update(name="taken"),
            lambda: Group.objects.create(name="New", kind="static", created_at=NOW, updated_at=NOW),
            lambda: Folder.objects.create(name="New"),
            lambda: world.rollout.include.add(world.everything),
            lambda: world.rollout.devices.add(world.foreign[0]),
            lambda: User.objects.filter(pk__gt=0).update(is_limited=False),
        ]
        for n, act in enumerate(acts):
            with pytest.raises(ProgrammingError), transaction.atomic():
                act()
                raise AssertionError(f"act {n} was let through")


# -- what holds it


def test_the_limits_of_a_request_end_with_it(world: World) -> None:
    world.client.get(f"{V1}/devices")
    assert limited_to() is None and Device.objects.count() == 7
    everybody = client_of(make_user("viewer"))
    assert everybody.get(f"{V1}/devices").json()["count"] == 7
    begin_limits(world.person.pk)  # one that was left behind
    assert everybody.get(f"{V1}/devices").json()["count"] == 7


def test_what_the_system_does_in_between_ends_within_the_limits_again(world: World) -> None:
    stranger = limited(make_user("viewer"))
    with limits_of(world.person.pk):
        with beyond_limits():
            assert Device.objects.count() == 7
            assert not sees(stranger.pk, "rollout", world.rollout.pk)
            assert Device.objects.count() == 7
        assert Device.objects.count() == 4
        with limits_of(stranger.pk):
            assert Device.objects.count() == 0
        assert Device.objects.count() == 4 and limited_to() == world.person.pk


@pytest.mark.django_db(transaction=True)
def test_a_connection_that_is_lost_comes_back_with_its_limits() -> None:
    site = make_site("Marrow Bay")
    make_device(site=site)
    make_device(site=make_site("Elsewhere"))
    person = limited(make_user("viewer"), sites=[site])
    begin_limits(person.pk)
    try:
        connection.close()
        assert Device.objects.count() == 1
        with connection.cursor() as cursor:
            cursor.execute("SELECT current_user")
            assert cursor.fetchone()[0] == ROLE
    finally:
        end_limits()
    assert Device.objects.count() == 2


def test_who_is_limited_to_nothing_sees_nothing(world: World) -> None:
    client = client_of(limited(make_user("viewer")))
    assert client.get(f"{V1}/devices").json()["count"] == 0
    assert client.get(f"{V1}/groups").json() == client.get(f"{V1}/sites").json() == []
    assert client.get(f"{V1}/rollouts").json()["rollouts"] == []


def test_a_site_shows_its_devices_and_no_group(world: World) -> None:
    client = client_of(limited(make_user("viewer"), sites=[Site.objects.get(name="Marrow Bay")]))
    assert client.get(f"{V1}/devices").json()["count"] == 4
    assert client.get(f"{V1}/groups").json() == []
    late = make_device(site=Site.objects.get(name="Marrow Bay"))
    assert client.get(f"{V1}/devices/{late.name}").status_code == 200
    Device.objects.filter(pk=late.pk).update(site=Site.objects.get(name="Zzforeign Hill"))
    assert client.get(f"{V1}/devices/{late.name}").status_code == 404


# -- other doors


def test_a_feed_shows_what_its_owner_sees_now(world: World) -> None:
    owner = make_user("viewer")
    _, secret = make_feed(FeedDraft(name="All", parts=["windows", "gates", "firings", "freezes"]), owner=owner, now=NOW)
    assert SECRET.search(read_feed(secret, now=NOW).decode())
    limited(owner, folders=[Folder.objects.get(name="North")])
    told = read_feed(secret, now=NOW).decode()
    assert "Bay restarts" in told and not SECRET.search(told.replace("\r\n ", ""))
    assert limited_to() is None


def test_who_is_limited_is_told_only_of_what_is_theirs(world: World) -> None:
    tells(world.person)
    other = make_user("viewer")
    tells(world.person, other, next_after_minutes=15)
    open_item(ItemKind.LOW_BATTERY, cause="Low battery", count=3, rule="battery < 20", now=NOW)
    about = {"object_kind": "rollout", "now": NOW}
    open_item(ItemKind.STUCK, cause="Zzforeign stuck", object_id=world.over_all.pk, **about)
    open_item(ItemKind.STUCK, cause="Bay stuck", object_id=world.rollout.pk, **about)
    assert {m.text for m in Message.objects.filter(person=world.person)} == {"Bay stuck"}
    assert {m.text for m in Message.objects.filter(person=other)} == {"Low battery: 3 devices", "Zzforeign stuck"}
    Message.objects.filter(person=other).update(person=world.person)  # from before they were limited
    listed = world.client.get(f"{V1}/own/messages").json()
    assert [m["text"] for m in listed["messages"]] == ["Bay stuck"]


def test_an_item_that_a_limited_person_sets_off_is_told_to_everybody(world: World) -> None:
    other = make_user("viewer")
    tells(other)
    with limits_of(world.person.pk):
        open_item(ItemKind.STUCK, cause="Bay stuck", object_kind="rollout", object_id=world.rollout.pk, now=NOW)
    assert Message.objects.filter(person=other, text="Bay stuck").count() == 1


def test_mail_that_waits_goes_no_more_to_whoever_may_see_less_now(world: World) -> None:
    other = make_user("viewer")
    tells(other)
    open_item(ItemKind.LOW_BATTERY, cause="Low battery", count=3, rule="battery < 20", now=NOW)
    Message.objects.filter(person=other).update(state=SendState.WAITING)
    limited(other, folders=[Folder.objects.get(name="North")])
    assert {m.state for m in Message.objects.filter(person=other)} == {SendState.DROPPED}


def test_a_folder_whose_own_is_not_seen_stands_at_the_top(world: World) -> None:
    client = client_of(limited(make_user("viewer"), folders=[Folder.objects.get(name="Deep")]))
    assert [(f["name"], f["parent"]) for f in client.get(f"{V1}/folders").json()] == [("Deep", None)]
    assert client.get(f"{V1}/devices").json()["count"] == 1


# -- limiting people


def test_administrators_limit_people_and_see_what_it_comes_to(world: World) -> None:
    admin, person = client_of(make_user("administrator")), make_user("operator")
    limits = {"folders": [Folder.objects.get(name="North").pk], "sites": []}
    reach = admin.post(f"{V1}/people/limits/preview", {"limits": limits}, format="json")
    assert reach.json() == {"devices": 4, "groups": 2}
    put = admin.put(f"{V1}/people/{person.pk}/limits", {"limits": limits}, format="json")
    row = next(p for p in put.json()["people"] if p["id"] == person.pk)
    assert row["limits"]["words"] == "the folder “North”"
    assert client_of(User.objects.get(pk=person.pk)).get(f"{V1}/devices").json()["count"] == 4
    exported = b"".join(admin.get(f"{V1}/people/export").streaming_content).decode()  # type: ignore[attr-defined]
    assert "the folder “North”" in exported
    lifted = admin.put(f"{V1}/people/{person.pk}/limits", {"limits": None}, format="json")
    assert next(p for p in lifted.json()["people"] if p["id"] == person.pk)["limits"] is None
    assert client_of(User.objects.get(pk=person.pk)).get(f"{V1}/devices").json()["count"] == 7
    gone = admin.put(f"{V1}/people/{person.pk}/limits", {"limits": {"folders": [987], "sites": [986]}}, format="json")
    assert gone.status_code == 422 and {e["pointer"] for e in gone.json()["errors"]} == {
        "/limits/folders",
        "/limits/sites",
    }
    operator = client_of(make_user("operator"))
    assert operator.put(f"{V1}/people/{person.pk}/limits", {"limits": None}, format="json").status_code == 403


def test_administrators_are_not_limited_and_limited_people_do_not_become_administrators(world: World) -> None:
    boss, admin = make_user("administrator"), client_of(make_user("administrator"))
    nothing = {"limits": {"folders": [], "sites": []}}
    assert admin.put(f"{V1}/people/{boss.pk}/limits", nothing, format="json").status_code == 409
    role = {"role": "administrator"}
    assert admin.patch(f"{V1}/people/{world.person.pk}", role, format="json").status_code == 409
    invited = {"emails": ["a@example.org"], "role": "administrator", **nothing}
    assert admin.post(f"{V1}/people/invitations", invited, format="json").status_code == 422


def test_who_is_invited_within_limits_has_them_from_the_first_moment(world: World) -> None:
    admin, north = client_of(make_user("administrator")), Folder.objects.get(name="North")
    gone = make_folder("Soon gone", None, actor=None, now=NOW)
    body = {"emails": ["a@example.org"], "role": "viewer", "limits": {"folders": [north.pk, gone.pk], "sites": []}}
    (made,) = admin.post(f"{V1}/people/invitations", body, format="json").json()
    assert made["is_limited"]
    delete_folder(gone, actor=None, now=NOW)
    account = {"name": "Ada", "password": "a-long-and-fresh-phrase", "time_zone": "UTC"}
    visitor = APIClient()
    assert visitor.post(f"{V1}{made['path']}", account, format="json").status_code == 201
    assert visitor.get(f"{V1}/devices").json()["count"] == 4
    assert visitor.get(f"{V1}/session").json()["user"]["limits"] == "the folder “North”"


def test_a_folder_or_site_that_limits_somebody_is_not_deleted_from_under_them(world: World) -> None:
    empty, site = make_folder("Empty", None, actor=None, now=NOW), make_site("Bare")
    limited(make_user("viewer"), folders=[empty], sites=[site])
    with pytest.raises(Conflict, match="1 person is limited"):
        delete_folder(empty, actor=None, now=NOW)
    answer = client_of(make_user("operator")).delete(f"{V1}/sites/{site.pk}")
    assert answer.status_code == 409 and "people’s limits" in answer.json()["detail"]
