"""Hours that are proposed for a rollout: in time by its own forecast, clear of freezes and of other commands."""

from datetime import datetime, time, timedelta
from math import inf
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands import compose
from herald.commands.models import When
from herald.groups.models import Group
from herald.record.models import RecordEntry
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import Rollout, StoredForecast
from herald.rollouts.watch.forecast import forecast_rollout
from herald.rollouts.watch.stored_forecasts import store_forecasts
from herald_core.forecast.inputs import Limit
from tests.factories import (
    NOW,
    client_as,
    launched,
    make_devices,
    make_draft,
    make_image,
    make_site,
    make_static,
    make_user,
    restart,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
DAY = timedelta(days=1)


@pytest.fixture
def group() -> Group:
    return make_static("All of them", make_devices(20, site=make_site("West", "Europe/Lisbon")))


def asked(client: APIClient, rollout: Rollout, days: float = 10, **fields: Any) -> Any:
    sent = {"by": (NOW + days * DAY).isoformat(), **fields}
    answer = client.post(f"/api/v1/rollouts/{rollout.pk}/suggest-hours", sent, format="json")
    assert answer.status_code == 200, answer.json()
    return answer.json()


@pytest.mark.parametrize("is_launched", [False, True])
def test_hours_are_proposed_that_are_in_time(client: APIClient, group: Group, is_launched: bool) -> None:
    rollout = make_draft(group, max_concurrent=2)
    rollout = launched(rollout) if is_launched else rollout
    entries = RecordEntry.objects.count()
    found = asked(client, rollout, days=4)
    assert found["devices"] == 20
    assert found["proposals"][0]["choice"] == "gentlest"
    for proposal in found["proposals"]:
        assert datetime.fromisoformat(proposal["end"]["high"]) <= NOW + 4 * DAY
        begins = int(proposal["window_start"][:2])
        assert begins >= 22 or begins < 6
    again = asked(client, rollout, days=4)
    assert again == found
    rollout.refresh_from_db()
    assert (rollout.window_start, RecordEntry.objects.count()) == (None, entries)


def test_too_little_time_names_what_ends_soonest_and_any_hour_may_do(client: APIClient, group: Group) -> None:
    rollout = make_draft(group, max_concurrent=1)
    found = asked(client, rollout, days=0.4)
    assert (found["proposals"], found["gentler"]) == ([], None)
    assert found["nearest"]["window_start"] == "22:00:00"
    any_hour = asked(client, rollout, days=0.4, from_hour=0, hours=24)
    assert any_hour["proposals"]
    assert any_hour["tried"] > found["tried"]


def test_freezes_and_restarts_are_no_hours(client: APIClient, group: Group) -> None:
    rollout = make_draft(group)
    free = asked(client, rollout, days=9)["proposals"][0]["end"]["median"]
    draft = FreezeDraft(name="Harvest", starts_at=NOW, ends_at=NOW + 5 * DAY, groups=[group])
    save_freeze(draft, actor=None, now=NOW)
    held = asked(client, rollout, days=9)["proposals"][0]["end"]["median"]
    assert datetime.fromisoformat(held) > NOW + 5 * DAY > datetime.fromisoformat(free)

    night = compose.ScheduleDraft(
        template=restart(),
        include=[group],
        when=When.REPEAT,
        rule="FREQ=DAILY",
        time_of_day=time(22),
        spread_minutes=110,
    )
    schedule = compose.create_schedule(night, actor=make_user(), now=NOW)
    clear = asked(client, rollout, days=9)
    assert clear["kept_clear"] == [{"id": schedule.pk, "name": "Restart"}]
    # two hours from ten on are the gentlest elsewhere; here the restart takes them all
    assert clear["proposals"][0]["window_start"] != "22:00:00"


def test_what_cannot_be_asked_is_said(client: APIClient, group: Group) -> None:
    rollout = make_draft(group)

    def refused(**sent: Any) -> Any:
        return client.post(f"/api/v1/rollouts/{rollout.pk}/suggest-hours", sent, format="json")

    assert refused(by=(NOW - DAY).isoformat()).json()["errors"][0]["pointer"] == "/by"
    assert "after 14 days" in refused(by=(NOW + 20 * DAY).isoformat()).json()["detail"]
    assert refused().json()["errors"][0]["pointer"] == "/by"
    assert refused(by=(NOW + DAY).isoformat(), hours=1).json()["errors"][0]["pointer"] == "/hours"
    stopped = launched(rollout)
    lifecycle.stop(stopped, actor=make_user(), now=NOW)
    assert refused(by=(NOW + DAY).isoformat()).status_code == 409
    nobody = make_draft(make_static("Nobody", []), stopped.changes.get().image)
    path = f"/api/v1/rollouts/{nobody.pk}/suggest-hours"
    assert client.post(path, {"by": (NOW + DAY).isoformat()}, format="json").status_code == 409
    gone = client.post("/api/v1/rollouts/99/suggest-hours", {"by": (NOW + DAY).isoformat()}, format="json")
    assert gone.status_code == 404


def test_who_may_only_look_may_ask(group: Group) -> None:
    assert asked(client_as("viewer"), make_draft(group), days=9)["proposals"]


@pytest.fixture
def same(group: Group) -> tuple[Rollout, Rollout]:
    """Two rollouts of one image to the same devices, the first of which takes them one by one."""
    first = launched(make_draft(group, max_concurrent=1))
    store_forecasts(now=NOW)
    return first, make_draft(group, first.changes.get().image, max_concurrent=20)


def end_of(rollout: Rollout) -> float:
    return forecast_rollout(rollout, now=NOW).forecast.end.median


def test_a_rollout_is_forecast_behind_those_that_go_first_and_may_be_let_before_them(
    client: APIClient, same: tuple[Rollout, Rollout]
) -> None:
    first, draft = same
    through = StoredForecast.objects.get(rollout=first).median
    assert through is not None
    seconds = (through - NOW).total_seconds()
    assert end_of(draft) > seconds, "launched last, it goes last"
    early_turn = client.post(f"/api/v1/rollouts/{draft.pk}/changes/preview", {"goes_first": True}, format="json")
    assert early_turn.status_code == 409
    drafted = asked(client, draft, days=9, from_hour=0, hours=24)
    assert [(r["id"], r["devices"]) for r in drafted["others"]] == [(first.pk, 20)]
    assert not any(p["goes_first"] for p in drafted["proposals"])

    second = launched(draft)
    told = forecast_rollout(second, now=NOW).forecast
    assert told.end.median > seconds
    assert told.limits[Limit.OTHERS] > 0.5 * seconds
    assert Limit.OTHERS not in forecast_rollout(first, now=NOW).forecast.limits, "nobody goes before it"
    early = asked(client, second, days=0.9 * seconds / DAY.total_seconds(), from_hour=0, hours=24)
    assert early["proposals"], "before the first it is in time"
    assert all(p["goes_first"] for p in early["proposals"])

    body = {"goes_first": True}
    seen = client.post(f"/api/v1/rollouts/{second.pk}/changes/preview", body, format="json").json()
    places = {"before": "2 of 2 open rollouts", "after": "1 of 2 open rollouts"}
    assert seen == [{"what": "its turn", "ring": None, **places}]
    assert client.post(f"/api/v1/rollouts/{second.pk}/changes", body, format="json").status_code == 200
    assert list(Rollout.objects.moving().values_list("pk", flat=True)) == [second.pk, first.pk]
    assert client.post(f"/api/v1/rollouts/{second.pk}/changes", body, format="json").status_code == 409
    second.refresh_from_db()
    assert end_of(second) < seconds


def test_behind_a_rollout_that_is_paused_no_end_is_in_sight(client: APIClient, same: tuple[Rollout, Rollout]) -> None:
    first, second = same[0], launched(same[1])
    lifecycle.pause(first, actor=make_user(), now=NOW)
    assert end_of(second) == inf
    found = asked(client, second, days=9, from_hour=0, hours=24)
    assert found["proposals"]
    assert all(p["goes_first"] for p in found["proposals"])


def test_what_a_draft_replaces_is_not_waited_for(group: Group, same: tuple[Rollout, Rollout]) -> None:
    through = StoredForecast.objects.get(rollout=same[0]).median
    assert through is not None
    newer = make_draft(group, make_image("5.2.3"), max_concurrent=20)
    assert end_of(newer) < (through - NOW).total_seconds() < end_of(same[1])
