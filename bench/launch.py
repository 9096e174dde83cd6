"""Launching to 100,000 devices: preflight, rings drawn, deliveries written."""

import statistics
import time
from datetime import UTC, datetime
from unittest import mock

from django.db import connection

from bench.results import emit
from bench.world import DEVICES, ensure_world
from herald.deliveries.models import Delivery
from herald.deliveries.services import write_deliveries
from herald.fleet.models import DeviceModel
from herald.groups.membership import set_members
from herald.groups.models import Group
from herald.images.models import Image
from herald.images.services import add_image, approve
from herald.rollouts.compose import drafts
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald.rollouts.preflight import plan
from herald_core.rings.assignment import RingKind, assign

TIMES = 5


def run() -> None:
    """A launch in three rings; each part timed by itself."""
    ensure_world()
    now = datetime.now(UTC)
    Rollout.objects.all().delete()
    group = everyone(now)
    image = image_for_all(now)
    rings = [
        drafts.RingDraft(name="Canary", kind=RingKind.SHARE, share_pct=1),
        drafts.RingDraft(name="Early", kind=RingKind.SHARE, share_pct=20),
        drafts.RingDraft(name="Rest", kind=RingKind.REST),
    ]
    draft = drafts.RolloutDraft(changes=drafts.to(image), include=[group], rings=rings)
    rollout = drafts.save_draft(draft, actor=None, now=now)
    spent: dict[str, float] = {}

    def timed(name: str, real: object) -> object:
        def call(*args: object, **kwargs: object) -> object:
            started = time.perf_counter()
            try:
                return real(*args, **kwargs)  # type: ignore[operator]
            finally:
                spent[name] = spent.get(name, 0.0) + time.perf_counter() - started

        return call

    with (
        mock.patch.object(plan, "assign", timed("rings", assign)),
        mock.patch.object(launching.deliveries, "write_deliveries", timed("deliveries", write_deliveries)),
    ):
        parts = []
        for _ in range(TIMES):
            started = time.perf_counter()
            found = drafts.preflight(rollout, now=now)
            drawn = spent.pop("rings")
            parts.append((time.perf_counter() - started - drawn, drawn))
        Rollout.objects.filter(pk=rollout.pk).update(state="launching")
        launching.launch(rollout, now=now)
    read = statistics.median(_plain_read() for _ in range(TIMES))
    preflight, drawn = (statistics.median(part) for part in zip(*parts, strict=True))
    emit(
        "launch",
        f"preflight of {found.audience} devices",
        preflight,
        "s",
        beside=f"reading the same rows, {read:.2f} s",
        ratio=preflight / read,
        target="<= 2 s",
        met=preflight <= 2,
    )
    emit("launch", f"rings drawn for {len(found.taking_part)} devices", drawn, "s", target="<= 1 s", met=drawn <= 1)
    plain = _plain_copy(rollout)
    wrote = spent["deliveries"]
    emit(
        "launch",
        f"{Delivery.objects.filter(rollout=rollout).count()} deliveries written",
        wrote,
        "s",
        beside=f"INSERT … SELECT of the same rows, {plain:.2f} s",
        ratio=wrote / plain,
        target="<= 5 s",
        met=wrote <= 5,
    )
    Rollout.objects.all().delete()


def image_for_all(now: datetime) -> Image:
    """An image that no device runs and every model takes."""
    return Image.objects.filter(version="99.0").first() or approve(
        add_image(content=b"bench", models=list(DeviceModel.objects.all()), family="Bench", version="99.0"),
        actor=None,
        now=now,
    )


def everyone(now: datetime) -> Group:
    from herald.fleet.models import Device

    group, _ = Group.objects.get_or_create(
        name="Everyone", defaults={"kind": "static", "created_at": now, "updated_at": now}
    )
    if group.memberships.count() != DEVICES:
        set_members(group, Device.objects.all(), now=now, cause="bench")
    return group


def _plain_read() -> float:
    started = time.perf_counter()
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT d.id, d.model_id, d.hardware_revision, d.firmware_key, d.admission, d.last_check_in, d.facts, "
            "m.name, s.name FROM fleet_device d JOIN fleet_devicemodel m ON m.id = d.model_id "
            "LEFT JOIN fleet_site s ON s.id = d.site_id ORDER BY d.id"
        )
        cursor.fetchall()
    return time.perf_counter() - started


def _plain_copy(rollout: Rollout) -> float:
    """The same rows by one statement, into a table with the same constraints, thrown away again."""
    with connection.cursor() as cursor:
        cursor.execute("DROP TABLE IF EXISTS bench_delivery")
        cursor.execute("CREATE TABLE bench_delivery (LIKE deliveries_delivery INCLUDING ALL)")
        started = time.perf_counter()
        cursor.execute(
            "INSERT INTO bench_delivery SELECT * FROM deliveries_delivery WHERE rollout_id = %s", [rollout.pk]
        )
        spent = time.perf_counter() - started
        cursor.execute("DROP TABLE bench_delivery")
    return spent
