"""Forecasts and rehearsals of rollouts through the API."""

from datetime import datetime, time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.calendar.services import FreezeDraft, save_freeze
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.models import Rollout
from herald.time import clock
from herald_core.rings.assignment import RingKind
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_static,
    make_user,
    ring,
)

pytestmark = pytest.mark.django_db


def told(rollout: Rollout, **query: Any) -> dict[str, Any]:
    client = APIClient()
    client.force_authenticate(make_user())
    with clock.fixed(NOW):
        answer = client.get(f"/api/v1/rollouts/{rollout.pk}/forecast", query)
    assert answer.status_code == 200, answer.json()
    return dict(answer.json())


def moment(text: str) -> datetime:
    return datetime.fromisoformat(text)


def test_a_draft_is_rehearsed_and_more_failures_halt_it() -> None:
    rings = [ring("First", RingKind.NUMBER, number=10, soak_minutes=60), ring("Rest")]
    draft = make_draft(make_static("G", make_devices(40)), rings=rings)
    usual, bad = told(draft, failure_pct="0"), told(draft, failure_pct="90")
    assert usual["halts"] == 0 and usual["rings"][0]["name"] == "First"
    assert moment(usual["rings"][1]["opens"]["median"]) > NOW + timedelta(hours=1)
    assert moment(usual["end"]["low"]) <= moment(usual["end"]["high"]) < NOW + timedelta(hours=4)
    assert usual["curve"][-1]["median"] == 40
    assert bad["halts"] > 0.9 and bad["end"]["median"] is None


def test_a_window_and_a_freeze_are_reckoned_with_and_named() -> None:
    devices = make_devices(5)
    group = make_static("G", devices)
    begins = NOW + timedelta(hours=46)
    freeze = FreezeDraft(name="Harvest", starts_at=begins, ends_at=begins + timedelta(days=3), groups=[group])
    save_freeze(freeze, actor=None, now=NOW)
    draft = make_draft(group, window_start=time(1), window_end=time(4, 30), starts_at=NOW + timedelta(hours=30))
    found = told(draft)
    assert found["freeze"]["name"] == "Harvest" and found["freeze"]["meets"] < 1
    assert [(f["name"], f["devices"]) for f in found["freezes"]] == [("Harvest", 5)]
    assert moment(found["end"]["median"]) > begins + timedelta(days=3)
    assert {"window", "freezes"} <= {row["limit"] for row in found["limits"]}


def test_a_running_rollout_counts_what_is_done_and_how_steps_are_left() -> None:
    make_image("5.0.1", b"stone", min_version="4.8.0")
    target = make_image("5.2.1", b"target", min_version="5.0.0")
    group = make_static("G", [make_device(firmware="4.9.2"), make_device(firmware="5.2.1"), make_device()])
    rollout = launched(make_draft(group, target))
    tick_rollouts(now=NOW)
    found = told(rollout, failure_pct="0")
    assert (found["curve"][0]["median"], found["curve"][-1]["median"]) == (1, 3)
    one_step = told(launched(make_draft(make_static("H", make_devices(1)), target)), failure_pct="0")
    assert moment(found["end"]["median"]) > moment(one_step["end"]["median"])


@pytest.mark.parametrize("rate", ["x", "-1", "101"])
def test_an_impossible_rate_is_refused(rate: str) -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    draft = make_draft(make_static("G", make_devices(1)))
    with clock.fixed(NOW):
        answer = client.get(f"/api/v1/rollouts/{draft.pk}/forecast", {"failure_pct": rate})
    assert answer.status_code == 422 and answer.json()["errors"][0]["pointer"] == "/failure_pct"
