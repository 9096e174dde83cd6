"""Caps on how much of a rollout may go on at the same time."""

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, kw_only=True)
class Caps:
    """How many devices may be at it together, per site too; how many may start in an hour; and how many files the
    uplink of each site (by its number) carries at once. None is no such cap."""

    max_concurrent: int = 200
    per_site: int | None = None
    per_hour: int | None = None
    uplinks: Mapping[int, int] = field(default_factory=dict)
