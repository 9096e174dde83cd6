"""What happened since one was here last: counted, told by others' acts, and only after a break."""

from datetime import timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.attention.models import ItemKind
from herald.attention.services import close_item, open_item
from herald.commands.tallies import tally_ended
from herald.deliveries.models import Delivery
from herald.now.since import AT_MOST, MOST_ACTS, since_last_visit
from herald.people.models import User
from herald.people.sessions import AWAY_AFTER
from herald.record.services import record
from herald.rollouts.intervene import lifecycle
from herald.time import clock
from tests.factories import NOW, launched, make_device, make_devices, make_draft, make_image, make_static, make_user
from tests.server.test_command_watch import end, make_schedule
from tests.server.test_reports import a_rollout

pytestmark = pytest.mark.django_db
V1 = "/api/v1"
MINUTE, HOUR = timedelta(minutes=1), timedelta(hours=1)


@pytest.fixture
def person() -> User:
    """Somebody whose last visit ended an hour ago."""
    user = make_user("operator")
    User.objects.filter(pk=user.pk).update(last_visit_ended_at=NOW - HOUR)
    user.refresh_from_db()
    return user


def told(user: User, after: timedelta = HOUR) -> Any:
    found = since_last_visit(user, NOW + after)
    assert found is not None
    return found


def test_installs_that_were_confirmed_or_failed_are_counted(person: User) -> None:
    rollout = a_rollout()
    lifecycle.stop(rollout, actor=make_user(), now=NOW + 40 * MINUTE)
    assert (told(person).confirmed, told(person).failed) == (3, 1)
    User.objects.filter(pk=person.pk).update(last_visit_ended_at=NOW + 20 * MINUTE)
    person.refresh_from_db()
    assert (told(person).confirmed, told(person).failed) == (2, 1)  # the first was confirmed before


def test_what_ran_its_version_before_is_no_install(person: User) -> None:
    devices = [*make_devices(2, firmware="5.2.1"), make_device()]
    launched(make_draft(make_static("G", devices), make_image()))
    assert Delivery.objects.filter(phase="confirmed").count() == 2
    assert told(person).confirmed == 0


def test_commands_are_counted_once_their_firing_is_over(person: User) -> None:
    schedule = make_schedule(make_static("G", make_devices(3)))
    end(schedule, ("confirmed", "ok"), ("failed", "busy"), ("expired", None))
    assert told(person).commands_done == 0
    tally_ended(now=NOW + 5 * HOUR)
    found = told(person, 6 * HOUR)
    assert (found.commands_done, found.commands_failed, found.commands_missed) == (1, 1, 1)


def test_new_devices_and_items_are_counted(person: User) -> None:
    make_device(first_seen=NOW - 2 * HOUR)
    make_device(first_seen=NOW - 30 * MINUTE)
    open_item(ItemKind.SILENT, cause="c", count=1, now=NOW - 2 * HOUR)
    open_item(ItemKind.LOW_BATTERY, cause="c", count=1, now=NOW)
    close_item(ItemKind.SILENT, now=NOW)
    found = told(person)
    assert (found.new_devices, found.items_opened, found.items_closed) == (1, 1, 1)


def test_acts_are_those_of_others_and_of_the_system(person: User) -> None:
    other = make_user()
    for n in range(MOST_ACTS + 2):
        record(now=NOW, actor=other if n % 2 else None, kind="group", object_id=n, sentence=f"Did {n}")
    for actor, kind, at in ((person, "group", NOW), (other, "user", NOW), (other, "group", NOW - 2 * HOUR)):
        record(now=at, actor=actor, kind=kind, object_id=1, sentence="Not told")
    found = told(person)
    assert found.all_acts == MOST_ACTS + 2 and len(found.acts) == MOST_ACTS
    assert found.acts[0].sentence == f"Did {MOST_ACTS + 1}" and not any("Not" in a.sentence for a in found.acts)


def test_who_was_away_for_weeks_is_told_of_the_last_two(person: User) -> None:
    User.objects.filter(pk=person.pk).update(last_visit_ended_at=NOW - 50 * 24 * HOUR)
    person.refresh_from_db()
    assert told(person, timedelta(0)).since == NOW - AT_MOST


def test_who_is_here_for_the_first_time_is_told_nothing() -> None:
    assert since_last_visit(make_user(), NOW) is None


def test_a_visit_ends_when_one_is_away_for_a_while_and_not_before() -> None:
    user = make_user()
    user.set_password("a-long-password")
    user.save()
    client = APIClient()

    def comes(at: timedelta, *, signs_in: bool = False) -> Any:
        with clock.fixed(NOW + at):
            if signs_in:
                body = {"email": user.email, "password": "a-long-password"}
                assert client.post(f"{V1}/session", body, format="json").status_code == 200
            answer = client.get(f"{V1}/now/since")
            user.refresh_from_db()
            return answer.json()["told"]

    assert comes(timedelta(0), signs_in=True) is None
    assert comes(AWAY_AFTER - MINUTE) is None
    # a whole process writes down once a minute of real time who was seen: the next sign-in does at once
    back = comes(10 * HOUR, signs_in=True)
    assert back["since"] == user.last_visit_ended_at.isoformat().replace("+00:00", "Z")
    assert user.last_visit_ended_at < NOW + AWAY_AFTER
    again = comes(10 * HOUR + MINUTE)
    assert again["since"] == back["since"]  # until one is away anew
