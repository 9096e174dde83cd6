"""One turn of the clock with twenty open rollouts of 5,000 devices, and what a watch page waits for meanwhile."""

import multiprocessing
import statistics
import time
from datetime import UTC, datetime

from django.db import connection, connections
from rest_framework.test import APIClient

from bench.results import emit
from bench.world import ensure_world
from herald.clock.loop import turn, without_helpers
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Device, DeviceModel
from herald.groups.membership import set_members
from herald.groups.models import Group
from herald.images.models import Image
from herald.images.services import add_image, approve
from herald.people.models import User
from herald.rollouts.compose import drafts
from herald.rollouts.launch import launching
from herald.rollouts.models import Ring, Rollout
from herald_core.deliveries import Event, Phase
from herald_core.rings.assignment import RingKind

ROLLOUTS = 20
DEVICES_EACH = 5000
TURNS = 25
CALLS = 200
_GOES_ON = ((Phase.CONFIRMING, Event.CONFIRM), (Phase.INSTALLING, Event.RETURN), (Phase.OFFERED, Event.INSTALL))
#: what the watch page asks for again and again
PATHS = ("", "/ring-devices", "/progress", "/timeline", "/breakdown", "/deliveries?limit=100")


def run() -> None:
    """Turns with devices at work, then calls while turns go on in another process."""
    ensure_world()
    now = datetime.now(UTC)
    Rollout.objects.all().delete()
    Device.objects.update(last_check_in=now)
    rollouts = [_launched(number, now) for number in range(ROLLOUTS)]
    without_helpers()
    turn(datetime.now(UTC))  # the first one opens the rings
    spent: dict[bool, list[float]] = {False: [], True: []}  # by whether a ring opened
    for _ in range(TURNS):
        _work(datetime.now(UTC))
        open_before = Ring.objects.filter(opened_at__isnull=False).count()
        started = time.perf_counter()
        turn(datetime.now(UTC))
        took = time.perf_counter() - started
        spent[Ring.objects.filter(opened_at__isnull=False).count() > open_before].append(took)
    for opens, words in ((False, ""), (True, ", in which a ring of 4,500 opens")):
        value = statistics.median(spent[opens])
        emit(
            "clock",
            f"a turn with {ROLLOUTS} open rollouts of {DEVICES_EACH} devices, {_in_hand()} of them at work{words}",
            value,
            "s",
            target="<= 0.5 s",
            met=value <= 0.5,
            slowest=round(max(spent[opens]), 3),
            turns=len(spent[opens]),
        )
    _watch(rollouts)
    Rollout.objects.all().delete()


def _launched(number: int, now: datetime) -> Rollout:
    first = number * DEVICES_EACH
    ids = list(Device.objects.order_by("id").values_list("id", flat=True)[first : first + DEVICES_EACH])
    group, made = Group.objects.get_or_create(
        name=f"Share {number}", defaults={"kind": "static", "created_at": now, "updated_at": now}
    )
    if made:
        set_members(group, Device.objects.filter(id__any=ids), now=now, cause="bench")
    image = Image.objects.filter(version="99.0").first() or approve(
        add_image(content=b"bench", models=list(DeviceModel.objects.all()), family="Bench", version="99.0"),
        actor=None,
        now=now,
    )
    rings = [
        drafts.RingDraft(name="Canary", kind=RingKind.NUMBER, number=500, confirmed_pct=1, soak_minutes=0),
        drafts.RingDraft(name="Rest", kind=RingKind.REST),
    ]
    draft = drafts.RolloutDraft(changes=drafts.to(image), include=[group], rings=rings, failure_limit_pct=50)
    rollout = drafts.save_draft(draft, actor=None, now=now)
    found = drafts.preflight(rollout, now=now)
    launching.request_launch(rollout, expected=found.reached, actor=None, now=now)
    launching.launch(rollout, now=now)
    return rollout


def _work(now: datetime) -> None:
    """Devices go on: each phase's devices to the next, a share of them at a time."""
    for phase, event in _GOES_ON:
        ids = list(Delivery.objects.filter(phase=phase.value).order_by("id").values_list("id", flat=True))
        deliveries.move(Delivery.objects.filter(id__any=ids[::3]), event, now=now, cause="bench")


def _in_hand() -> int:
    return Delivery.objects.in_hand().count()


def _turns(stop: "multiprocessing.synchronize.Event") -> None:
    """Turns as the clock process takes them, one a second, with devices at work in between."""
    connections.close_all()
    without_helpers()
    while not stop.is_set():
        started = time.monotonic()
        _work(datetime.now(UTC))
        turn(datetime.now(UTC))
        stop.wait(max(0.0, 1.0 - (time.monotonic() - started)))


def _watch(rollouts: list[Rollout]) -> None:
    """The 95th percentile of the calls of a watch page while turns go on."""
    client = APIClient(SERVER_NAME="127.0.0.1")
    client.force_authenticate(User.objects.get_or_create(email="bench@example.com", defaults={"name": "Bench"})[0])
    connection.close()
    context = multiprocessing.get_context("fork")
    stop = context.Event()
    process = context.Process(target=_turns, args=(stop,))
    process.start()
    spent: dict[str, list[float]] = {path: [] for path in PATHS}
    try:
        for call in range(CALLS):
            rollout = rollouts[call % len(rollouts)]
            for path in PATHS:
                started = time.perf_counter()
                answer = client.get(f"/api/v1/rollouts/{rollout.pk}{path}")
                spent[path].append((time.perf_counter() - started) * 1000)
                if answer.status_code != 200:
                    raise RuntimeError(f"{path}: {answer.status_code}")
    finally:
        stop.set()
        process.join()
    every = [ms for times in spent.values() for ms in times]
    value = statistics.quantiles(every, n=20)[-1]
    worst = max(spent, key=lambda path: statistics.median(spent[path]))
    emit(
        "clock",
        "95th percentile of the calls of a watch page during turns",
        value,
        "ms",
        target="<= 150 ms",
        met=value <= 150,
        slowest_call=worst or "/",
        its_median=round(statistics.median(spent[worst]), 1),
    )
