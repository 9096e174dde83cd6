"""Stepping into rollouts as scripts do it: each call's answer and its refusals."""

from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.groups.models import Group
from herald.people.models import User
from herald.record.models import RecordEntry
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald_core.deliveries import Event
from herald_core.rings.assignment import RingKind
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_model,
    make_static,
    make_user,
    ring,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]


def client(user: User | None = None) -> APIClient:
    made = APIClient()
    made.force_authenticate(user or make_user())
    return made


def ask(rollout: Rollout, call: str, body: object = None, *, by: APIClient | None = None, expect: int = 200) -> Any:
    answer = (by or client()).post(f"/api/v1/rollouts/{rollout.pk}/{call}", body, format="json")
    assert answer.status_code == expect, answer.content
    return answer.json() if answer.content else None


def two_rings(devices: list[Device], **gate: Any) -> Rollout:
    rings = [ring("First", RingKind.NUMBER, number=1, **gate), ring("Rest")]
    return launched(make_draft(make_static("G", devices), rings=rings, max_attempts=1))


def confirm(rollout: Rollout) -> None:
    offered = Delivery.objects.of_rollout(rollout.pk)
    deliveries.move(offered.filter(phase="offered"), Event.RETURN, now=NOW, cause="back")
    deliveries.move(offered.filter(phase="confirming"), Event.CONFIRM, now=NOW, cause="good")


def test_devices_are_pushed_tried_again_and_skipped() -> None:
    devices = make_devices(4)
    rollout = two_rings(devices)
    names = [d.name for d in devices]
    assert ask(rollout, "expedite", {"devices": names[2:]}) == {"devices": len(waiting_of(rollout, names[2:]))}
    tick_rollouts(now=NOW)
    failing = Delivery.objects.filter(phase="offered").select_related("device")[0]
    deliveries.move(Delivery.objects.filter(pk=failing.pk), Event.FAIL, now=NOW, cause="flash-verify")
    assert ask(rollout, "retry", {"devices": [failing.device.name]}) == {"devices": 1}
    left = Delivery.objects.filter(phase="waiting").select_related("device")[0].device.name
    refused = ask(rollout, "skip", {"devices": [left], "reason": " "}, expect=422)
    assert refused["errors"][0]["pointer"] == "/reason"
    assert ask(rollout, "skip", {"devices": [left], "reason": "in the workshop"}) == {"devices": 1}
    assert (
        ask(rollout, "skip", {"devices": ["nobody"], "reason": "x"}, expect=422)["errors"][0]["pointer"] == "/devices"
    )
    assert ask(rollout, "expedite", {"devices": []}, expect=422)["errors"][0]["pointer"].startswith("/devices")
    assert "in the workshop" in RecordEntry.objects.latest("id").sentence


def waiting_of(rollout: Rollout, names: list[str]) -> list[str]:
    found = Delivery.objects.of_rollout(rollout.pk).waiting().filter(device__name__in=names)
    return list(found.values_list("device__name", flat=True))


def test_a_reader_may_look_but_not_step_in() -> None:
    rollout = two_rings(make_devices(2))
    reader = client(make_user("viewer"))
    for call, body in (("expedite", {"devices": ["x"]}), ("roll-back", None), ("extend", {"groups": []})):
        assert ask(rollout, call, body, by=reader, expect=403)["type"].endswith(":permission-denied")
    assert reader.get(f"/api/v1/rollouts/{rollout.pk}/forecast").status_code == 200
    assert ask(rollout, "changes/preview", {"max_concurrent": 3}, by=reader) == [
        {"what": "at once", "ring": None, "before": "200", "after": "3"}
    ]


def test_an_approval_is_given_by_another_and_shown() -> None:
    launcher, other = make_user(), make_user("approver")
    draft = make_draft(
        make_static("G", make_devices(2)),
        rings=[ring("First", RingKind.NUMBER, number=1, needs_approval=True), ring("Rest")],
    )
    by_launcher = client(launcher)
    ask(draft, "launch", {"devices": 2}, by=by_launcher, expect=202)
    launching.launch(draft, now=NOW)
    tick_rollouts(now=NOW)
    confirm(draft)
    tick_rollouts(now=NOW)
    now_page = client().get("/api/v1/now").json()
    assert [d["kind"] for d in now_page["decisions"]] == ["approval"]
    launcher.role = "approver"  # whose role changed meanwhile still launched it
    launcher.save()
    assert "somebody else" in ask(draft, "approve-gate", {"ring": 1}, by=by_launcher, expect=409)["detail"]
    shown = ask(draft, "approve-gate", {"ring": 1}, by=client(other))
    assert shown["rings"][0]["approved_by"] == str(other)
    assert [c["met"] for c in shown["rings"][0]["criteria"] if c["name"] == "approval"] == [True]


def test_what_is_ahead_is_changed_and_a_wrong_ring_is_named() -> None:
    rollout = two_rings(make_devices(3))
    tick_rollouts(now=NOW)
    told = ask(rollout, "changes", {"rings": [{"position": 1, "soak_minutes": 45, "needs_approval": True}]})
    assert [(d["ring"], d["after"]) for d in told] == [(1, "45"), (1, "yes")]
    assert "no ring 7" in ask(rollout, "changes", {"rings": [{"position": 7}]}, expect=422)["detail"]
    assert ask(rollout, "changes", {"seed": 1}, expect=422)["errors"][0]["pointer"] == "/seed"


def test_extending_and_putting_back_are_told_before_they_are_done() -> None:
    devices = make_devices(3)
    rollout = two_rings(devices[:2])
    tick_rollouts(now=NOW)
    confirm(rollout)
    more = make_static("More", devices)
    told = ask(rollout, "extend/preview", {"groups": [more.pk]})
    assert told == {"joins": 1, "already": 0, "left_out": 0, "has_already": 2}
    assert ask(rollout, "extend", {"groups": [more.pk]}) == told
    assert ask(rollout, "extend", {"groups": [more.pk]}, expect=422)["type"].endswith(":nobody")
    back = ask(rollout, "roll-back", expect=201)
    assert (back["rolls_back_id"], back["state"], back["changes"]) == (rollout.pk, "draft", [])
    assert ask(rollout, "roll-back", expect=201)["id"] == back["id"]
    assert client().get(f"/api/v1/rollouts/{rollout.pk}").json()["rolled_back_by"] == [back["id"]]


def test_the_preflight_tells_each_model_and_devices_are_taken_out() -> None:
    rill = make_device(model=make_model("Rill V2", "Rill"), facts={"uplink": "satellite"})
    devices = [*make_devices(2), rill]
    draft = make_draft(make_static("G", devices))
    told = ask(draft, "preflight")
    assert [(m["model"], m["devices"], m["without_target"]) for m in told["models"]] == [
        ("Sill 400", 2, 0),
        ("Rill V2", 1, 1),
    ]
    assert told["models"][1]["uplinks"] == [{"value": "satellite", "count": 1}]
    assert ask(draft, "launch", {"devices": 2}, expect=409)["without_target"] == 1
    assert ask(draft, "exclusions", {"devices": [rill.name], "reason": "not ours"}) == {"devices": 1}
    assert ask(draft, "exclusions/remove", {"devices": [rill.name]}) == {"devices": 0}


def test_plans_and_freezes_are_kept_through_the_api() -> None:
    api, group = client(), make_static("G", make_devices(2))
    rings = [{"name": "One", "kind": "group", "group_id": group.pk}, {"name": "Rest", "kind": "rest"}]
    kept = api.post("/api/v1/ring-plans", {"name": "Careful", "rings": rings}, format="json").json()
    assert (kept["versions"][0]["number"], kept["versions"][0]["rings"][0]["group_id"]) == (1, group.pk)
    refused = api.delete(f"/api/v1/groups/{group.pk}").json()
    assert "ring plan" in str(refused["uses"])
    assert api.delete(f"/api/v1/ring-plans/{kept['id']}").status_code == 204
    assert api.get("/api/v1/ring-plans").json() == []
    body = {"name": "H", "starts_at": "2031-01-01T00:00:00Z", "ends_at": "2031-01-02T00:00:00Z", "groups": [group.pk]}
    freeze = api.post("/api/v1/freezes", body, format="json").json()
    assert freeze["devices"] == 2
    assert "freeze" in str(api.delete(f"/api/v1/groups/{group.pk}").json()["uses"])
    wrong = api.put(f"/api/v1/freezes/{freeze['id']}", {**body, "groups": []}, format="json")
    assert wrong.status_code == 422 and wrong.json()["errors"][0]["pointer"] == "/groups"
    assert api.delete(f"/api/v1/freezes/{freeze['id']}").status_code == 204
    assert api.delete(f"/api/v1/groups/{group.pk}").status_code == 204
    assert not Group.objects.filter(pk=group.pk).exists()


def test_a_nul_in_an_address_is_refused_and_so_are_numbers_that_are_none() -> None:
    api = client()
    assert api.get("/api/v1/devices?q=%00").status_code == 422
    rollout = two_rings(make_devices(1))
    for query, status in (("cursor=²", 422), ("cursor=99999999999999999999", 422), ("ring=99999999", 200)):
        assert api.get(f"/api/v1/rollouts/{rollout.pk}/deliveries?{query}").status_code == status
