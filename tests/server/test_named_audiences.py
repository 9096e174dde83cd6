"""Rollouts and commands for devices that are named, without a group made first."""

from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.commands.models import Schedule
from herald.fleet.models import Device
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.audience import MOST_NAMED, audience_query, audience_rule
from herald.groups.models import Group
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.rollouts.compose import drafts
from herald.rollouts.engine.audience_sync import sync_audience
from herald.rollouts.models import Rollout
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_static,
    ring,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"


def draft(devices: list[Device], include: list[Group] | None = None, **fields: Any) -> Rollout:
    written = drafts.RolloutDraft(
        changes=drafts.to(make_image()),
        include=include or [],
        devices=[d.pk for d in devices],
        rings=[ring()],
        **fields,
    )
    return drafts.save_draft(written, actor=None, now=NOW)


def test_a_rollout_goes_to_the_devices_that_are_named_and_to_no_other() -> None:
    first, second, _ = make_devices(3)
    rollout = launched(draft([first, second]))
    assert {d.device for d in rollout.deliveries.all()} == {first, second}


def test_named_devices_join_those_of_groups_and_excluded_groups_take_them_out() -> None:
    named, member, both, out = make_devices(4)
    rollout = draft([named, both, out], [make_static("G", [member, both])], exclude=[make_static("X", [out])])
    assert set(audience_query(rollout)) == {named, member, both}


def test_nobody_named_and_no_group_is_nobody() -> None:
    make_devices(2)
    rollout = draft([])
    assert drafts.preflight(rollout, now=NOW).reached == 0


def test_who_is_named_stays_in_an_audience_that_follows_its_groups() -> None:
    named, member = make_devices(2)
    group = make_static("G", [member])
    rollout = launched(draft([named], [group], follows_audience=True))
    sync_audience(rollout, now=NOW)
    assert {d.phase for d in rollout.deliveries.all()} == {"waiting"}


def test_the_sentence_and_the_api_say_who_is_named(client: APIClient) -> None:
    _, other = make_device(name="Pump 7"), make_device()
    body = {
        "changes": [{"choice": "image", "image_id": make_image().pk}],
        "include": [],
        "include_devices": ["Pump 7"],
        "rings": [{"name": "All", "kind": "rest"}],
    }
    made = client.post(f"{V1}/rollouts", body, format="json")
    assert made.status_code == 201, made.content
    detail = made.json()
    assert [d["name"] for d in detail["include_devices"]] == ["Pump 7"] and detail["audience"] == "Pump 7"
    body["include_devices"] = ["Pump 7", other.uid]
    changed = client.put(f"{V1}/rollouts/{detail['id']}", body, format="json").json()
    assert changed["audience"] == "2 devices" and changed["include_device_count"] == 2
    assert "on 2 devices with no exclusions, in 1 ring" in "".join(p["text"] for p in changed["sentence"])
    body["include_devices"] = ["nobody"]
    refused = client.put(f"{V1}/rollouts/{detail['id']}", body, format="json")
    assert refused.status_code == 422 and refused.json()["errors"][0]["pointer"] == "/include_devices"
    body["include_devices"] = ["x"] * (MOST_NAMED + 1)
    assert client.put(f"{V1}/rollouts/{detail['id']}", body, format="json").status_code == 422


def test_a_draft_reads_the_same_while_it_is_composed_and_once_it_is_kept(client: APIClient) -> None:
    group, spared, named = make_static("G", make_devices(1)), make_static("S", []), make_device(name="Pump 8")
    said = {
        "changes": [{"choice": "image", "image_id": make_image().pk}, {"choice": "within", "within": "5.1"}],
        "include": [group.pk],
        "exclude": [spared.pk],
        "include_devices": [named.name],
        "rule_filter": "site is missing",
        "window_start": "22:00",
        "window_end": "02:00",
        "window_days": [2, 0],
        "prefetch": True,
        "notice": "Reboots once",
        "max_starts_per_hour": 40,
    }
    rings = [{"name": "All", "kind": "rest"}, {"name": "More", "kind": "rest"}]
    composed = client.post(f"{V1}/rollouts/sentence", {**said, "ring_count": 1}, format="json")
    made = client.post(f"{V1}/rollouts", {**said, "rings": rings[:1]}, format="json")
    assert (composed.status_code, made.status_code) == (200, 201), made.content
    assert composed.json() == made.json()["sentence"]
    nothing = {"changes": [], "include": [], "ring_count": 0}
    asked = "".join(p["text"] for p in client.post(f"{V1}/rollouts/sentence", nothing, format="json").json())
    assert "which version?" in asked and "which devices?" in asked
    assert Rollout.objects.count() == 1, "asking keeps nothing"


def test_a_command_runs_on_the_devices_that_are_named(client: APIClient) -> None:
    first, _ = make_devices(2)
    body = {"include": [], "include_devices": [first.name], "when": "now"}
    assert client.post(f"{V1}/schedules/preview", body, format="json").json()["reached_now"] == 1
    made = client.post(f"{V1}/schedules", {**body, "devices": 1}, format="json")
    assert made.status_code == 201, made.content
    assert "".join(p["text"] for p in made.json()["sentence"]).startswith(f"Restart {first.name} now")
    schedule = Schedule.objects.get()
    assert [d.device for o in schedule.occurrences.all() for d in o.deliveries.all()] == [first]
    nobody = {"include": [], "include_devices": [], "when": "now"}
    assert client.post(f"{V1}/schedules", {**nobody, "devices": 0}, format="json").status_code == 422


def test_what_will_reach_a_device_is_listed(client: APIClient) -> None:
    device, other = make_devices(2)
    rollout = launched(draft([device]))
    daily = {
        "include": [],
        "include_devices": [device.name],
        "when": "repeat",
        "rule": "FREQ=DAILY",
        "time_of_day": "05:00",
    }
    schedule = client.post(f"{V1}/schedules", daily, format="json").json()
    rows = client.post(f"{V1}/devices/upcoming", {"devices": [device.name]}, format="json").json()
    assert {(r["kind"], r["id"], r["devices"]) for r in rows} == {
        ("rollout", rollout.pk, 1),
        ("schedule", schedule["id"], 1),
    }
    assert client.post(f"{V1}/devices/upcoming", {"devices": [other.name]}, format="json").json() == []
    rows = client.post(f"{V1}/devices/upcoming", {"rule": "everything"}, format="json").json()
    assert {r["devices"] for r in rows} == {1}


def test_many_are_asked_to_report_and_those_that_do_not_call_are_passed_over(client: APIClient) -> None:
    calling, _, _ = make_device(), make_device(secret_hash=None), make_device(admission="retired")
    assert client.post(f"{V1}/devices/request-report", {"rule": "everything"}, format="json").json() == {"asked": 1}
    assert list(Device.objects.exclude(report_asked_at=None)) == [calling]


def test_a_replacement_takes_the_place_of_a_device_that_is_named(client: APIClient) -> None:
    old, new = make_devices(2)
    daily = {
        "include": [],
        "include_devices": [old.name],
        "when": "repeat",
        "rule": "FREQ=DAILY",
        "time_of_day": "05:00",
    }
    client.post(f"{V1}/schedules", daily, format="json")
    told = client.post(f"{V1}/devices/{old.name}/replace/preview", {"by": new.name}, format="json").json()
    assert told["named_in"] == 1
    assert client.post(f"{V1}/devices/{old.name}/replace", {"by": new.name}, format="json").status_code == 200
    assert list(Schedule.objects.get().devices.all()) == [new]


def test_the_rule_of_an_audience_finds_the_same_devices() -> None:
    named, member, out = make_device(uid='q"uote, (x)'), make_device(), make_device()
    group, without = make_static("G", [member, out]), make_static("X", [out])
    rollout = draft([named], [group], exclude=[without])
    vocabulary = load_vocabulary()
    text = audience_rule([group], [without], [named.pk])
    assert set(matching(read_rule(text, vocabulary), vocabulary, NOW)) == set(audience_query(rollout))
    assert audience_rule([group], [], range(51)) == ""


def test_a_list_of_rollouts_costs_the_same_however_many_devices_they_name(
    client: APIClient, django_assert_max_num_queries: Any
) -> None:
    devices = make_devices(4)
    image = make_image()
    for n in range(3):
        make_draft(make_static(f"G{n}", devices), image, devices=[d.pk for d in devices[: n + 1]])
    with django_assert_max_num_queries(17):
        rows = client.get(f"{V1}/rollouts").json()["rollouts"]
    assert [r["audience"] for r in rows] == ["G2 and 3 devices", "G1 and 2 devices", f"G0 and {devices[0].name}"]
