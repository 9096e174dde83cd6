"""A fleet with a rollout and a command in every state: each answer of the API that names a status names the true one.

Which answers do so is read from the OpenAPI document, so that a new one is looked at too.
"""

import json
import re
from collections.abc import Callable, Iterator
from datetime import time, timedelta
from pathlib import Path
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.attention.models import Quarantine
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import Schedule, ScheduleState, When
from herald.commands.turn import turn_schedules
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import waits_of
from herald.fleet.models import Device
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout, RolloutState
from herald_core.deliveries import Event
from herald_core.rings.assignment import RingKind
from herald_core.rollouts.status import GateState, State
from herald_core.schedules import ScheduleStatus
from tests.factories import (
    NOW,
    launched,
    make_devices,
    make_draft,
    make_image,
    make_site,
    make_static,
    make_user,
    restart,
    ring,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
DOCUMENT = json.loads((Path(__file__).parents[2] / "docs" / "openapi.json").read_text())
SCHEMAS = DOCUMENT["components"]["schemas"]
STATUSES = {"StatusView", "GateView", "ScheduleStatusView", "WaitsFor"}
HOUR = timedelta(hours=1)
FIRE = (ScheduleStatus.MOVING, ScheduleStatus.UNHEARD, ScheduleStatus.OFFERED, ScheduleStatus.WAITING)
#: what a device reports on its way
ALL_THE_WAY = [Event.ACCEPT, Event.FETCH, Event.STAGE, Event.INSTALL, Event.RETURN, Event.CONFIRM]


def make_rollouts() -> dict[State, Rollout]:
    """One rollout in each state, each with devices of its own."""
    image = make_image("5.3.0")
    made: dict[State, Rollout] = {}

    def draft(state: State, **fields: Any) -> Rollout:
        first = ring("First", RingKind.NUMBER, number=2, confirmed_pct=50.0, **fields.pop("first", {}))
        rings = fields.pop("rings", [first, ring("Rest")])
        group = make_static(f"For {state.value}", make_devices(3, site=make_site(f"Site of {state.value}")))
        made[state] = make_draft(group, image, rings=rings, max_attempts=1, **fields)
        return made[state]

    for state in (State.DRAFT, State.LAUNCH_FAILED, State.LAUNCHING):
        draft(state)
    for state in (State.QUARANTINED, State.PAUSED, State.HALTED, State.STOPPED, State.MOVING, State.UNHEARD):
        launched(draft(state))
    launched(draft(State.OFFERED))
    launched(draft(State.FINISHED, rings=[ring()]))
    launched(draft(State.ENDING, rings=[ring()]))
    launched(draft(State.DECISION))
    launched(draft(State.APPROVAL, first={"needs_approval": True}))
    launched(draft(State.SOAKING, first={"soak_minutes": 90}))
    launched(draft(State.WAITING, window_start=time(NOW.hour + 2), window_end=time(NOW.hour + 4)))
    assert set(made) == set(State), "a state has no rollout here"
    return made


def turn_until_done() -> None:
    """A slow machine leaves some rollouts for the next turn."""
    while not tick_rollouts(now=NOW):
        pass


def bring_about(made: dict[State, Rollout]) -> None:
    """Let the clock, the devices and a person bring each rollout into its state."""

    def report(state: State, events: list[Event]) -> None:
        for event in events:
            deliveries.move(Delivery.objects.of_rollout(made[state].pk), event, now=NOW, cause="reported")

    Rollout.objects.filter(pk=made[State.LAUNCHING].pk).update(state=RolloutState.LAUNCHING)
    Rollout.objects.filter(pk=made[State.LAUNCH_FAILED].pk).update(state=RolloutState.LAUNCHING)
    launching.fail_launch(made[State.LAUNCH_FAILED].pk, "the audience is empty", now=NOW)
    turn_until_done()
    for state in (State.FINISHED, State.APPROVAL, State.SOAKING):
        report(state, ALL_THE_WAY)
    first = Delivery.objects.of_rollout(made[State.DECISION].pk).filter(ring__position=1)
    deliveries.move(first, Event.EXPIRE, now=NOW, cause="reported")
    turn_until_done()
    report(State.ENDING, ALL_THE_WAY)
    report(State.MOVING, [Event.ACCEPT])
    Device.objects.filter(deliveries__rollout=made[State.UNHEARD]).update(last_check_in=NOW - 8 * HOUR)
    Quarantine.objects.create(
        part="rollout", object_id=made[State.QUARANTINED].pk, cause="its window is broken", since=NOW, retry_at=NOW
    )
    lifecycle.pause(made[State.PAUSED], actor=None, now=NOW)
    lifecycle.halt(made[State.HALTED], reason="too many failed", now=NOW)
    lifecycle.stop(made[State.STOPPED], actor=None, now=NOW)


def make_schedules() -> dict[ScheduleStatus, Schedule]:
    """A scheduled command in each state."""
    made: dict[ScheduleStatus, Schedule] = {}
    for status in ScheduleStatus:
        devices = [] if status is ScheduleStatus.NOBODY else make_devices(2)
        fires = status in FIRE
        made[status] = create_schedule(
            ScheduleDraft(
                template=restart(),
                include=[make_static(f"To restart: {status.value}", devices)],
                when=When.REPEAT,
                rule="FREQ=DAILY;COUNT=3" if status is ScheduleStatus.DONE else "FREQ=DAILY",
                time_of_day=NOW.time() if fires else time(NOW.hour + 5),
                spread_minutes=110 if status is ScheduleStatus.WAITING else 0,
            ),
            actor=make_user(),
            now=NOW - HOUR,
        )

    def change(status: ScheduleStatus, **fields: Any) -> None:
        Schedule.objects.filter(pk=made[status].pk).update(**fields)

    for _ in range(2):  # one fires, the next one offers
        turn_schedules(now=NOW)
    taken = Delivery.objects.filter(occurrence__schedule=made[ScheduleStatus.MOVING])
    deliveries.move(taken, Event.ACCEPT, now=NOW, cause="reported")
    unheard = Device.objects.filter(deliveries__occurrence__schedule=made[ScheduleStatus.UNHEARD])
    unheard.update(last_check_in=NOW - 8 * HOUR)
    change(ScheduleStatus.DONE, starts_on=(NOW - timedelta(days=9)).date())
    change(ScheduleStatus.PROPOSED, state=ScheduleState.PROPOSED)
    change(ScheduleStatus.PAUSED, state=ScheduleState.PAUSED)
    change(ScheduleStatus.ENDED, state=ScheduleState.ENDED)
    broken = made[ScheduleStatus.QUARANTINED].pk
    Quarantine.objects.create(part="schedule", object_id=broken, cause="its zone is", since=NOW, retry_at=NOW)
    return made


def named(schema: dict[str, Any], value: Any, where: str) -> Iterator[tuple[str, dict[str, Any], str]]:
    """Each object within an answer that the document gives a name, with that name and its place."""
    if "$ref" in schema:
        name = schema["$ref"].rsplit("/", 1)[-1]
        if isinstance(value, dict):
            yield name, value, where
        yield from named(SCHEMAS[name], value, where)
    for part in (*schema.get("allOf", ()), *schema.get("oneOf", ()), *schema.get("anyOf", ())):
        yield from named(part, value, where)
    if isinstance(value, list):
        for number, item in enumerate(value):
            yield from named(schema.get("items", {}), item, f"{where}/{number}")
    if isinstance(value, dict):
        for key, part in schema.get("properties", {}).items():
            yield from named(part, value.get(key), f"{where}/{key}")


def names_within(schema: Any, found: set[str]) -> set[str]:
    """The names of all that an answer of this schema may hold."""
    for match in re.findall(r'"#/components/schemas/(\w+)"', json.dumps(schema)):
        if match not in found:
            found.add(match)
            names_within(SCHEMAS[match], found)
    return found


def answers(client: APIClient, ids: dict[str, list[Any]]) -> Iterator[tuple[str, Any, dict[str, Any]]]:
    """Every address that can be read with these ids and may name a status, its answer, and the answer's schema."""
    for path, calls in DOCUMENT["paths"].items():
        content = calls.get("get", {}).get("responses", {}).get("200", {}).get("content", {})
        if "application/json" not in content:
            continue
        if not STATUSES & names_within(content, set()):
            continue
        names = [p["name"] for p in calls["get"].get("parameters", ()) if p["in"] == "path"]
        if any(p.get("required") and p["in"] == "query" for p in calls["get"].get("parameters", ())):
            continue
        for values in [()] if not names else [(v,) for v in ids.get(names[0], ())] if len(names) == 1 else []:
            address = path.format(**dict(zip(names, values, strict=True)))
            answer = client.get(address)
            if answer.status_code == 200:
                yield address, answer.json(), content["application/json"]["schema"]


def one_device_of_each() -> list[str]:
    """A device of each rollout and each command, as addresses name it."""
    of = {(d.rollout_id, d.occurrence_id): d.device.uid for d in Delivery.objects.select_related("device")}
    return [f"uid:{uid}" for uid in of.values()]


@pytest.mark.quarantines
def test_every_answer_that_names_a_status_names_the_true_one() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    rollouts, schedules = make_rollouts(), make_schedules()
    bring_about(rollouts)
    expected: dict[str, dict[int, str]] = {
        "rollout": {r.pk: state.value for state, r in rollouts.items()},
        "schedule": {s.pk: status.value for status, s in schedules.items()},
    }
    every = Delivery.objects.select_related("device", "ring", "rollout", "image", "occurrence")
    waits = {pk: {"code": w.code, "reason": w.reason} for pk, w in waits_of(every, NOW).items()}
    ids = {
        "rollout_id": list(expected["rollout"]),
        "schedule_id": list(expected["schedule"]),
        "device": one_device_of_each(),
    }
    said: dict[tuple[str, int], set[str]] = {}
    gates: set[str] = set()

    def rollout(row: dict[str, Any]) -> None:
        said.setdefault(("rollout", row["id"]), set()).add(json.dumps(row["status"], sort_keys=True))
        gates.update(r["gate"]["code"] for r in row["rings"])
        said.setdefault(("gates", row["id"]), set()).add(json.dumps([r["gate"] for r in row["rings"]], sort_keys=True))

    def schedule(row: dict[str, Any]) -> None:
        said.setdefault(("schedule", row["id"]), set()).add(json.dumps(row["status"], sort_keys=True))

    def delivery(row: dict[str, Any]) -> None:
        found = row["waits_for"] and {k: row["waits_for"][k] for k in ("code", "reason")}
        assert found == waits.get(row["id"]), row

    looks: dict[str, Callable[[dict[str, Any]], None]] = {
        "RolloutRow": rollout,
        "RolloutDetail": rollout,
        "ScheduleRow": schedule,
        "ScheduleDetail": schedule,
        "DeliveryRow": delivery,
        "CommandDeliveryRow": delivery,
    }
    seen: dict[str, set[str]] = {}
    for address, answer, schema in answers(client, ids):
        for name, value, _where in named(schema, answer, ""):
            if name in looks:
                looks[name](value)
            if name in looks or name in STATUSES:
                seen.setdefault(name, set()).add(address)
    for (kind, pk), texts in said.items():
        assert len(texts) == 1, f"{kind} {pk} stands at {texts}"
        if kind in expected:
            assert json.loads(next(iter(texts)))["code"] == expected[kind][pk]
    assert {pk for kind, pk in said if kind == "rollout"} == set(expected["rollout"])
    assert {pk for kind, pk in said if kind == "schedule"} == set(expected["schedule"])
    assert set(seen) == {*looks, *STATUSES}, "a kind of status was in no answer"
    holders = {owner for owner, s in SCHEMAS.items() if any(f'/{n}"' in json.dumps(s) for n in STATUSES)}
    assert holders == {*looks, "RingView"}, "another answer names a status: let it be looked at here"
    assert gates >= {g.value for g in (GateState.NONE, GateState.CLOSED, GateState.SOAKING, GateState.APPROVAL)}
