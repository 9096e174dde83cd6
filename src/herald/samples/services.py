"""Taking samples of the fleet, and keeping them within bounds."""

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import connection, transaction
from django.db.models import Count

from herald.fleet.models import Admission, Device
from herald.fleet.presence import heard_in_time
from herald.images.models import Image
from herald.samples.models import FleetSample

#: samples are taken each hour; of those older than this one a day is kept, and none that is older than the second
HOURLY_FOR, DAILY_FOR = timedelta(days=14), timedelta(days=730)
HOUR = timedelta(hours=1)
#: versions that are told apart within a family; the others are put together, so that a sample stays small
MOST_VERSIONS = 40
OTHERS = "others"

_THIN_OUT = """
DELETE FROM samples_fleetsample WHERE at < %(hourly)s AND at NOT IN (
    SELECT min(at) FROM samples_fleetsample WHERE at < %(hourly)s
    GROUP BY date_trunc('day', at AT TIME ZONE 'UTC'))
"""


@dataclass(frozen=True)
class Part:
    """Some devices of a family: the version they run, whether it is approved for them, how many, how many on time."""

    family: str
    version: str
    approved: bool
    devices: int
    on_time: int


def approved_versions() -> dict[tuple[int, str], str]:
    """Which versions are approved for which models: the version by a model's id and its version key."""
    rows = Image.objects.approved().exclude(device_models=None).order_by()
    return {
        (model, key): version for model, key, version in rows.values_list("device_models", "version_key", "version")
    }


def admitted_by_version() -> list[tuple[int, str | None, int]]:
    """How many admitted devices of each model run each version: a model's id, a version key, the number. An index alone
    answers it, which an open page asks each minute."""
    admitted = Device.objects.filter(admission=Admission.ADMITTED).order_by()
    return list(admitted.values_list("model", "firmware_key").annotate(devices=Count("pk")))


def newest_of(approved: Iterable[tuple[int, str]]) -> dict[int, str]:
    """The newest of these versions for each model, by its id."""
    newest: dict[int, str] = {}
    for model, key in approved:
        newest[model] = max(newest.get(model, ""), key)
    return newest


def fleet_now(now: datetime) -> list[Part]:
    """The admitted devices by family, version and whether it is approved for their model; most devices first."""
    approved = approved_versions()
    rows = (
        Device.objects.filter(admission=Admission.ADMITTED)
        .order_by()
        .values_list("model", "model__family", "firmware", "firmware_key")
        .annotate(devices=Count("pk"), on_time=Count("pk", filter=heard_in_time(now)))
    )
    found: dict[tuple[str, str, bool], list[int]] = defaultdict(lambda: [0, 0])
    for model, family, version, key, devices, on_time in rows:
        part = found[family, version or "", (model, key) in approved]
        part[0] += devices
        part[1] += on_time
    parts = [Part(*key, *counts) for key, counts in found.items()]
    return sorted(parts, key=lambda p: (-p.devices, p.family, p.version, p.approved))


def take_sample(*, now: datetime) -> None:
    """Keep how the fleet is now; does nothing where this moment has its sample."""
    if FleetSample.objects.filter(at=now).exists():
        return
    FleetSample.objects.bulk_create(
        [
            FleetSample(
                at=now, family=p.family, version=p.version, approved=p.approved, devices=p.devices, on_time=p.on_time
            )
            for p in _bounded(fleet_now(now))
        ],
        ignore_conflicts=True,
    )


def keep_samples(*, now: datetime) -> None:
    """Take the hour's sample, if it has none, and drop what is older than is kept."""
    hour = now.replace(minute=0, second=0, microsecond=0)
    if FleetSample.objects.filter(at__gte=hour).exists():
        return
    with transaction.atomic():
        take_sample(now=hour)
        FleetSample.objects.filter(at__lt=now - DAILY_FOR).delete()
        with connection.cursor() as cursor:
            cursor.execute(_THIN_OUT, {"hourly": now - HOURLY_FOR})


def _bounded(parts: Iterable[Part]) -> list[Part]:
    """The parts, with the rarest versions of a family put together where there are too many."""
    kept: list[Part] = []
    seen: dict[str, int] = defaultdict(int)
    rest: dict[tuple[str, bool], list[int]] = defaultdict(lambda: [0, 0])
    for part in parts:
        seen[part.family] += 1
        if seen[part.family] <= MOST_VERSIONS:
            kept.append(part)
        else:
            together = rest[part.family, part.approved]
            together[0] += part.devices
            together[1] += part.on_time
    return kept + [Part(family, OTHERS, approved, *counts) for (family, approved), counts in rest.items()]
