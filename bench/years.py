"""What the gateway answers like while answers of long ago are deleted: a million deliveries with five million steps.

The worker deletes for five seconds of each minute; here it deletes without an end, which is the worst that can be.
"""

import asyncio
import threading
import time
from datetime import UTC, datetime, timedelta

import numpy as np
from django.db import connection

from bench.launch import everyone
from bench.results import emit
from bench.storm import MOST_AT_ONCE, TARGET_MS, Storm, running
from bench.world import ensure_world
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.firing import EVERYWHERE, fire
from herald.commands.models import CommandTemplate, Occurrence, Schedule, When
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.demo.fleet import secret_of
from herald.fleet.models import Device
from herald.retention.models import KeptKind
from herald.retention.running import delete_old

FIRINGS = 10
STEPS = (("waiting", "offered"), ("offered", "accepted"), ("accepted", "running"), ("running", "running"),
         ("running", "confirmed"))  # fmt: skip
INTERVAL_SECONDS, SECONDS = 200.0, 90.0  # 500 calls a second
AGO = timedelta(days=300)


def run() -> None:
    """The same minutes twice: at rest, and while answers are deleted."""
    ensure_world()
    _fire_long_ago()
    secrets = [secret_of(uid) for uid in Device.objects.order_by("id").values_list("uid", flat=True)]
    deliveries, events = Delivery.objects.count(), DeliveryEvent.objects.count()
    for name in ("at rest", "while answers are deleted"):
        stop = threading.Event()
        deleting = threading.Thread(target=_delete, args=(stop,))
        before = Delivery.objects.count()
        with running() as port:
            if name != "at rest":
                deleting.start()
            began = time.monotonic()
            storm = Storm(secrets, f"http://127.0.0.1:{port}", interval=INTERVAL_SECONDS, seconds=SECONDS)
            seen = asyncio.run(storm.blow())
            took = time.monotonic() - began
            gone = before - Delivery.objects.count()
            stop.set()
            if name != "at rest":
                deleting.join()
        p99, p50 = (float(np.percentile(seen.waits_ms, q)) for q in (99, 50))
        emit(
            "years", f"p99 of a check-in, {name}", p99, "ms", target=f"<= {TARGET_MS:g} ms", met=p99 <= TARGET_MS,
            p50_ms=round(p50, 1), calls_per_second=round(len(seen.waits_ms) / SECONDS), failed=seen.failed,
            answers=deliveries, steps=events, deleted_answers_per_second=round(gone / took),
        )  # fmt: skip
    Schedule.objects.all().delete()


def _delete(stop: threading.Event) -> None:
    KeptKind.objects.update(days=None)
    KeptKind.objects.update_or_create(key="command-answers", defaults={"days": 90})
    while not stop.is_set() and delete_old(now=datetime.now(UTC), seconds=1.0):
        pass
    connection.close()


def _fire_long_ago() -> None:
    """A daily command that fired so often for everybody, and is over; the first is fired, the others are copies."""
    Schedule.objects.all().delete()
    then = datetime.now(UTC) - AGO
    draft = ScheduleDraft(
        template=CommandTemplate.objects.get(key="restart"), include=[everyone(datetime.now(UTC))], when=When.REPEAT,
        rule="FREQ=DAILY", time_of_day=then.time().replace(second=0, microsecond=0), max_concurrent=MOST_AT_ONCE,
    )  # fmt: skip
    schedule = create_schedule(draft, actor=None, now=then)
    fire(schedule, EVERYWHERE, then, now=then)
    first = Occurrence.objects.get(schedule=schedule)
    Delivery.objects.filter(occurrence=first).update(phase="confirmed", phase_since=then)
    columns = [f.column for f in Delivery._meta.concrete_fields if f.column not in ("id", "occurrence_id")]
    names = ", ".join(f'"{c}"' for c in columns)
    with connection.cursor() as cursor:
        for number in range(1, FIRINGS):
            fired = then + timedelta(days=number)
            copy = Occurrence.objects.get(pk=first.pk)
            copy.pk, copy.fires_at, copy.expires_at = None, fired, fired + timedelta(hours=1)
            copy.save()
            cursor.execute(
                f"INSERT INTO deliveries_delivery ({names}, occurrence_id)"
                f" SELECT {names}, %s FROM deliveries_delivery WHERE occurrence_id = %s",
                [copy.pk, first.pk],
            )
        cursor.execute("TRUNCATE deliveries_deliveryevent")
        for step, (from_phase, to_phase) in enumerate(STEPS):
            cursor.execute(
                "INSERT INTO deliveries_deliveryevent (delivery_id, at, from_phase, to_phase, attempt, cause, detail)"
                " SELECT id, phase_since + %s * interval '1 minute', %s, %s, 1, 'reported', ''"
                " FROM deliveries_delivery",
                [step, from_phase, to_phase],
            )
        Schedule.objects.update(state="ended")  # the clock has nothing to fire meanwhile
        tally = [[None, "UTC", "confirmed", first.audience]]
        Occurrence.objects.update(tally=tally, group_tally=[], tallied_at=then, local_time="")
        cursor.execute("VACUUM ANALYZE")
