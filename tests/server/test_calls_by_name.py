"""Calls and jobs that no story of another test comes by: each does what it says, and is on record."""

from datetime import UTC, datetime, timedelta

import pytest
from asgiref.sync import async_to_sync
from django.db import connection
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from herald.clock import tasks
from herald.deliveries.models import Delivery
from herald.images.models import AutoApproval
from herald.record.models import RecordEntry
from herald.rollouts.engine.tick import tick_rollouts
from herald.time import clock
from herald_core.rings.assignment import RingKind
from tests.factories import (
    NOW,
    client_as,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_model,
    make_static,
    ring,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"


def test_opening_a_gate_by_hand_opens_the_next_ring_and_says_who_did() -> None:
    rings = [ring("First", RingKind.NUMBER, number=1, soak_minutes=600), ring("Rest")]
    rollout = launched(make_draft(make_static("G", make_devices(3)), rings=rings))
    tick_rollouts(now=NOW)
    assert client_as("operator").post(f"{V1}/rollouts/{rollout.pk}/open-gate").status_code == 403
    answer = client_as("approver").post(f"{V1}/rollouts/{rollout.pk}/open-gate", {}, format="json")
    assert answer.status_code == 200, answer.content
    tick_rollouts(now=NOW + timedelta(seconds=1))
    assert rollout.rings.filter(opened_at=None).count() == 0
    last = RecordEntry.objects.about("rollout", rollout.pk).latest_first().exclude(actor=None).first()
    assert last is not None and "gate" in last.sentence.lower()


def test_a_device_is_asked_to_report_once_and_not_where_it_does_not_call() -> None:
    client, device, retired = client_as("operator"), make_device(), make_device(admission="retired")
    asked = client.post(f"{V1}/devices/{device.name}/request-report").json()["report_asked_at"]
    with clock.fixed(NOW + timedelta(minutes=5)):
        again = client.post(f"{V1}/devices/{device.name}/request-report").json()["report_asked_at"]
    assert asked == again  # it has been waiting since it was first asked
    assert client.post(f"{V1}/devices/{retired.name}/request-report").status_code == 409


def test_how_images_are_released_is_listed_by_model() -> None:
    model = make_model()
    admin = client_as("administrator")
    assert [r["on_arrival"] for r in admin.get(f"{V1}/approval-policies").json()] == [False]
    assert admin.put(f"{V1}/models/{model.pk}/approval-policy", {"on_arrival": True}, format="json").status_code == 200
    assert [r["on_arrival"] for r in admin.get(f"{V1}/approval-policies").json()] == [True]
    assert AutoApproval.objects.get().model == model


def test_ranks_are_set_in_one_order() -> None:
    from tests.factories import make_image

    image = make_image()
    first, second = (launched(make_draft(make_static(n, make_devices(1)), image)) for n in "ab")
    client = client_as("operator")
    assert client.put(f"{V1}/rollouts/order", {"order": [second.pk, first.pk]}, format="json").status_code == 204
    first.refresh_from_db(), second.refresh_from_db()
    assert second.rank < first.rank
    assert client.put(f"{V1}/rollouts/order", {"order": [second.pk]}, format="json").status_code in (409, 422)
    assert Delivery.objects.count() == 2


@pytest.mark.django_db(transaction=True)
def test_jobs_that_ended_long_ago_are_deleted_and_those_of_a_dead_worker_are_taken_up_again() -> None:
    def job(status: str, attempts: int) -> int:
        with connection.cursor() as cursor:  # the queue's own tables are read only for models
            cursor.execute(
                "INSERT INTO procrastinate_jobs (queue_name, task_name, priority, args, status, attempts)"
                " VALUES ('imports', 'herald.imports.tasks.carry_out_check', 0, '{}', %s, %s) RETURNING id",
                [status, attempts],
            )
            return int(cursor.fetchone()[0])

    stalled = job(status="doing", attempts=1)
    hopeless = job(status="doing", attempts=tasks.MAX_ATTEMPTS)

    async def run() -> None:
        with app.replace_connector(app.connector.get_worker_connector()) as opened:
            async with opened.open_async():
                await tasks.retry_stalled.func(int(datetime.now(UTC).timestamp()))
                await tasks.delete_old_jobs.func(int(datetime.now(UTC).timestamp()))

    async_to_sync(run)()
    states = dict(ProcrastinateJob.objects.values_list("pk", "status"))
    assert (states[stalled], states[hopeless]) == ("todo", "failed")
