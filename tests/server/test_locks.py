"""Locks are taken in one order, so that no two acts wait for each other; what is held too long is 503, never 500."""

import threading
from collections.abc import Callable

import pytest
from django.db import IntegrityError, OperationalError, connection, transaction
from rest_framework.test import APIClient

from herald.attention.models import Part, Quarantine
from herald.attention.quarantine import Isolation
from herald.db.locks import MEMBERSHIP, take_lock
from herald.fleet.editing import read_states
from herald.groups import members, membership, services
from herald.groups.models import Group
from herald.rollouts.intervene.lifecycle import order_by_rank
from herald.rollouts.models import Rollout
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_rule_group,
    make_static,
    make_user,
)

WAIT = 20.0  # seconds after which a test gives up; nothing is measured by it


def beside(*acts: Callable[[], object]) -> list[BaseException]:
    """Do acts at the same time, each with a connection of its own; what they raised."""
    errors: list[BaseException] = []
    start = threading.Barrier(len(acts))

    def run(act: Callable[[], object]) -> None:
        try:
            start.wait(WAIT)
            act()
        except BaseException as error:
            errors.append(error)
        finally:
            connection.close()

    threads = [threading.Thread(target=run, args=(a,)) for a in acts]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(WAIT)
    return errors


@pytest.mark.django_db(transaction=True)
def test_changing_and_turning_a_group_at_once_never_deadlocks() -> None:
    make_devices(3, tags=["lab"])
    group = make_rule_group("Lab", "tag = lab")
    make_rule_group("Also", 'group = "Lab"')

    def change() -> None:
        for n in range(8):
            services.change_group(group, name=f"Lab {n}", rule=f"tag any of (lab, l{n})", actor=None, now=NOW)

    def turn() -> None:
        for _ in range(8):
            members.convert_to_static(Group.objects.get(pk=group.pk), actor=None, now=NOW)
            members.convert_to_rule(Group.objects.get(pk=group.pk), "tag = lab", actor=None, now=NOW)

    def refresh() -> None:
        for _ in range(16):
            membership.evaluate_group(Group.objects.get(name="Also"), now=NOW, cause="time passed")

    errors = beside(change, turn, refresh)
    assert not [e for e in errors if isinstance(e, OperationalError)], errors


@pytest.mark.django_db(transaction=True)
def test_the_lock_of_memberships_comes_before_the_groups_row() -> None:
    group = make_rule_group("Lab", "tag = lab")
    held, done = threading.Event(), threading.Event()

    def hold() -> None:
        with transaction.atomic():
            take_lock(MEMBERSHIP)
            held.set()
            done.wait(WAIT)
            # whoever waits for the lock must not have the row: with it this would be a deadlock
            Group.objects.select_for_update(nowait=True).get(pk=group.pk)
        connection.close()

    errors: list[BaseException] = []
    holder = threading.Thread(target=lambda: errors.extend(beside(hold)))
    holder.start()
    assert held.wait(WAIT)
    changer = threading.Thread(
        target=lambda: errors.extend(beside(lambda: services.change_group(group, note="x", actor=None, now=NOW)))
    )
    changer.start()
    with connection.cursor() as cursor:
        while True:  # until the change waits for the lock
            cursor.execute("SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND NOT granted")
            if cursor.fetchone()[0]:
                break
    done.set()
    holder.join(WAIT)
    changer.join(WAIT)
    assert errors == []


@pytest.mark.django_db(transaction=True)
def test_devices_that_are_edited_may_join_groups_meanwhile() -> None:
    device = make_device()
    group = make_static("G", [])
    with transaction.atomic():
        read_states([device.pk], lock=True)
        errors = beside(lambda: members.change_members(group, add=[device.pk], remove=[], actor=None, now=NOW))
    assert errors == []
    assert group.memberships.count() == 1


@pytest.mark.django_db
def test_no_two_open_rollouts_have_the_same_rank() -> None:
    image = make_image()
    first, second, third = (launched(make_draft(make_static(n, make_devices(1)), image)) for n in "abc")
    with pytest.raises(IntegrityError), transaction.atomic():
        Rollout.objects.filter(pk=second.pk).update(rank=first.rank)
    order_by_rank([third.pk, first.pk, second.pk], actor=None, now=NOW)
    assert list(Rollout.objects.moving().values_list("pk", flat=True)) == [third.pk, first.pk, second.pk]


@pytest.mark.django_db
def test_a_lock_not_had_in_time_is_503(monkeypatch: pytest.MonkeyPatch) -> None:
    client = APIClient()
    client.force_authenticate(make_user())

    def deadlock(**kwargs: object) -> None:
        cause = Exception("deadlock detected")
        cause.sqlstate = "40P01"  # type: ignore[attr-defined]
        raise OperationalError("deadlock detected") from cause

    monkeypatch.setattr(services, "create_group", deadlock)
    answer = client.post("/api/v1/groups", {"name": "G", "kind": "static"}, format="json")
    assert (answer.status_code, answer["Retry-After"]) == (503, "2")
    assert answer.json()["type"].endswith(":busy")


@pytest.mark.django_db
@pytest.mark.quarantines
def test_a_deadlock_is_put_off_and_not_held_against_the_object() -> None:
    def deadlock() -> None:
        cause = Exception("deadlock detected")
        cause.sqlstate = "40P01"  # type: ignore[attr-defined]
        raise OperationalError("deadlock detected") from cause

    assert Isolation(NOW).run(Part.ROLLOUT, 1, deadlock) is None
    assert not Quarantine.objects.exists()


@pytest.mark.django_db
def test_an_uncaught_error_is_a_problem_too(monkeypatch: pytest.MonkeyPatch) -> None:
    client = APIClient(raise_request_exception=False)
    client.force_authenticate(make_user())

    def broken(**kwargs: object) -> None:
        raise RuntimeError("planted")

    monkeypatch.setattr(services, "create_group", broken)
    answer = client.post("/api/v1/groups", {"name": "G", "kind": "static"}, format="json")
    assert answer.status_code == 500
    assert answer["Content-Type"] == "application/problem+json"
    assert answer.json()["type"].endswith(":internal") and "planted" not in answer.content.decode()
