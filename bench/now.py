"""Now's request at 100,000 devices with 20 open rollouts."""

from datetime import UTC, datetime

from django.db import connection
from django.test import Client

from bench.calendar import launch_rollouts, make_groups
from bench.results import emit, p95, times_ms
from bench.world import ensure_world
from herald.agenda.keeping import keep_counts
from herald.agenda.models import KeptCounts
from herald.commands.models import Schedule
from herald.memory import settle_memory
from herald.people.models import User
from herald.rollouts.models import Rollout

ROLLOUTS = 20


def run() -> None:
    """What the page Now asks for, by its 95th percentile."""
    ensure_world()
    now = datetime.now(UTC).replace(microsecond=0)
    Schedule.objects.all().delete()
    Rollout.objects.all().delete()
    launch_rollouts(make_groups(now)[:ROLLOUTS], now)
    with connection.cursor() as cursor:
        cursor.execute("VACUUM ANALYZE")
    client = Client(SERVER_NAME="localhost")
    client.force_login(User.objects.filter(role="operator", is_active=True).first() or User.objects.all()[0])
    settle_memory()

    def ask() -> None:
        answer = client.get("/api/v1/now")
        assert answer.status_code == 200 and len(answer.json()["moving"]) == ROLLOUTS, answer.content[:500]

    KeptCounts.objects.all().delete()
    ask()
    asked = p95(times_ms(ask, 20))
    # as the clock does, again and again
    keep_counts(now=now)
    ask()
    took = p95(times_ms(ask, 20))
    emit(
        "now",
        f"Now with {ROLLOUTS} open rollouts",
        took,
        "ms",
        target="<= 150 ms",
        met=took <= 150,
        beside=f"counted when asked: {asked:.0f} ms",
        ratio=took / asked,
    )
    Rollout.objects.all().delete()
