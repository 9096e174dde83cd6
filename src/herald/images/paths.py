"""The upgrade graph of a model as a picture: its versions, the steps between them, and where the fleet stands."""

from collections import Counter, defaultdict
from dataclasses import dataclass, field
from datetime import date

from herald.fleet.models import Device, DeviceModel
from herald.images.builds import upgrades_now
from herald.images.models import Image
from herald_core.upgrades import UpgradeGraph, cut_off
from herald_core.versions import version_key


@dataclass(kw_only=True)
class VersionPoint:
    """A version of a model: its image, if there is one; how many run it; how many of those have no way to the newest;
    and how many devices would lose theirs if the image were withdrawn."""

    version: str
    image_id: int | None = None
    status: str = ""
    runs: int = 0
    stranded: int = 0
    cuts_off: int = 0


@dataclass(frozen=True, kw_only=True)
class StepLine:
    """A step between two versions, and how many devices would take it on their way to the newest."""

    from_version: str
    to_version: str
    devices: int


@dataclass(kw_only=True)
class Paths:
    """All versions of a model from the oldest to the newest, and the steps that lead on."""

    newest: str = ""
    versions: list[VersionPoint] = field(default_factory=list)
    steps: list[StepLine] = field(default_factory=list)


def upgrade_paths(model: DeviceModel, today: date) -> Paths:
    """The picture of a model as its fleet and images are."""
    upgrades = upgrades_now(today)
    points: dict[str, VersionPoint] = {}
    for image in Image.objects.for_model(model.pk):
        points[image.version_key] = VersionPoint(version=image.version, image_id=image.pk, status=image.status)
    standing: dict[str, Counter[str]] = defaultdict(Counter)
    for revision, key, version, count in Device.objects.standing(model.pk):
        standing[revision][key] += count
        points.setdefault(key, VersionPoint(version=version)).runs += count
    steps: Counter[tuple[str, str]] = Counter()
    newest = ""
    for revision, counts in standing.items():
        graph = upgrades.graph(model.pk, revision)
        target = graph.newest()
        newest = max(newest, target.key if target else "")
        for build in graph.builds:
            points[build.key].cuts_off += cut_off(graph, build.id, counts)
        for key, count in counts.items():
            _follow(graph, key, count, points, steps)
    order = sorted(points)
    return Paths(
        newest=points[newest].version if newest else "",
        versions=[points[key] for key in order],
        steps=[
            StepLine(from_version=points[a].version, to_version=points[b].version, devices=n)
            for (a, b), n in sorted(steps.items())
        ],
    )


def _follow(
    graph: UpgradeGraph, key: str, count: int, points: dict[str, VersionPoint], steps: Counter[tuple[str, str]]
) -> None:
    """Count the steps that devices of a version would take to the newest, or that they have no way."""
    target = graph.newest()
    if target is not None and key >= target.key:
        return
    way = graph.path(key, target) if target else None
    if way is None:
        points[key].stranded += count
        return
    at = key
    for build in way:
        steps[at, version_key(build.version)] += count
        at = build.key
