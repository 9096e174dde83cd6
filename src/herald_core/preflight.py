"""Preflight: what a change table would mean for each device of an audience."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

from herald_core.changes import ChangeTable, Choice
from herald_core.upgrades import Build, Upgrades


class Outcome(StrEnum):
    """What becomes of a device if the rollout is launched."""

    STRAIGHT = "straight"
    VIA = "via"
    LATE = "late"
    PROMISED = "promised"
    OUTRANKED = "outranked"
    FROZEN = "frozen"
    ALREADY = "already"
    NO_TARGET = "no_target"
    ROW_LEFT_OUT = "row_left_out"
    TAKEN_OUT = "taken_out"
    NO_IMAGE = "no_image"
    WRONG_HARDWARE = "wrong_hardware"
    NO_PATH = "no_path"
    DOWNGRADE = "downgrade"
    NO_VERSION = "no_version"
    NEWER_COMING = "newer_coming"
    NO_SPACE = "no_space"
    LOW_POWER = "low_power"
    NOT_ADMITTED = "not_admitted"
    RETIRED = "retired"


#: Outcomes that take part; all others but ALREADY are left out.
TAKES_PART = frozenset(
    {Outcome.STRAIGHT, Outcome.VIA, Outcome.LATE, Outcome.PROMISED, Outcome.OUTRANKED, Outcome.FROZEN}
)

#: why a device takes no part, without saying that it does not
LEFT_OUT_WORDS: Mapping[Outcome, str] = {
    Outcome.ROW_LEFT_OUT: "the change table leaves its model out",
    Outcome.TAKEN_OUT: "taken out by hand",
    Outcome.NO_IMAGE: "no approved image for this model",
    Outcome.WRONG_HARDWARE: "the image is not for this hardware revision",
    Outcome.NO_PATH: "no way from its version",
    Outcome.DOWNGRADE: "it runs a newer version",
    Outcome.NO_VERSION: "it reports no firmware version",
    Outcome.NEWER_COMING: "another rollout brings it a newer version",
    Outcome.NO_SPACE: "too little free space",
    Outcome.LOW_POWER: "battery too low",
    Outcome.NOT_ADMITTED: "not admitted",
    Outcome.RETIRED: "retired",
}

WORDS: Mapping[Outcome, str] = {
    Outcome.STRAIGHT: "go straight to it",
    Outcome.VIA: "go by way of other versions",
    Outcome.LATE: "take part, but silent: may be late",
    Outcome.PROMISED: "take part, after another order that they have now",
    Outcome.OUTRANKED: "take part, after a rollout of higher rank",
    Outcome.FROZEN: "take part, but a freeze comes first",
    Outcome.ALREADY: "already on it: confirmed at once, nothing sent",
    Outcome.NO_TARGET: "have no target yet: choose one or leave them out",
    **{outcome: f"left out: {why}" for outcome, why in LEFT_OUT_WORDS.items()},
}


def leeway(reached: int) -> int:
    """By how many devices the number typed at a launch may differ from the number that it reaches: a hundredth.

    A fleet of many thousands moves while one types; the number guards against a launch to ten times too many.
    """
    return reached // 100


class Candidate(NamedTuple):
    """A device of the audience, as far as preflight looks. Facts that it does not report are None. (A named tuple, as
    100,000 of them are made at once.)

    `before` is the version to roll back to, as its key; `coming` the newest version that another open rollout
    brings it, as its key, and `outranked` whether that rollout stands higher.
    """

    id: int
    model_id: int
    hardware_revision: str
    firmware_key: str | None
    uplink: str
    admission: str
    silent: bool
    free_space_mb: float | None
    battery_pct: float | None
    on_mains: bool
    in_hand: bool = False
    before: str | None = None
    taken_out: bool = False
    coming: str | None = None
    outranked: bool = False
    frozen: bool = False


class Shortfall(NamedTuple):
    """How much of something the way to the target asks for, and how much of it the device has."""

    needed: float
    has: float


#: what a device may have too little of, and its unit
UNITS: Mapping[Outcome, str] = {Outcome.NO_SPACE: " MB", Outcome.LOW_POWER: "%"}


def shortfall_words(outcome: Outcome, shortfalls: Sequence[Shortfall]) -> str:
    """What these devices would need and what they have: "needs 32 MB, has 9" of one, ranges of several."""
    if not shortfalls or outcome not in UNITS:
        return ""
    needs, has = ("needs", "has") if len(shortfalls) == 1 else ("need", "have")
    asked, there = _range([s.needed for s in shortfalls]), _range([s.has for s in shortfalls])
    return f"{needs} {asked}{UNITS[outcome]}, {has} {there}"


def _range(amounts: Sequence[float]) -> str:
    low, high = (f"{round(amount, 1):g}" for amount in (min(amounts), max(amounts)))
    return low if low == high else f"{low} to {high}"


class Route(NamedTuple):
    """The builds that a device gets one after another, the target last; the target alone where it has it already,
    none where it is left out, and then what it has too little of."""

    outcome: Outcome
    steps: tuple[Build, ...] = ()
    shortfall: Shortfall | None = None


@dataclass(frozen=True, slots=True)
class _Way:
    """A route with what all of its steps ask together: it depends on the kind of device only."""

    route: Route
    free_space_mb: float | None
    min_battery_pct: float | None


class Preflight:
    """Sorts devices for one change table, or for rolling back to what each had; made once, asked for each device."""

    def __init__(
        self, upgrades: Upgrades, table: ChangeTable | None, *, downgrades: bool = False, replaces: bool = False
    ) -> None:
        """No table rolls back to the version that each candidate had `before`. With `replaces` the rollout takes the
        place of any other that is bringing a newer version."""
        self._upgrades = upgrades
        self._table = table
        self._downgrades = downgrades or table is None
        self._replaces = replaces or table is None
        self._ways: dict[tuple[int, str, str, str | None, str | None], _Way] = {}

    def route(self, device: Candidate) -> Route:
        """The first outcome that applies, the most fundamental first, and the way to the target."""
        if device.admission == "retired":
            return Route(Outcome.RETIRED)
        if device.admission != "admitted":
            return Route(Outcome.NOT_ADMITTED)
        if device.taken_out:
            return Route(Outcome.TAKEN_OUT)
        kind = (device.model_id, device.hardware_revision, device.uplink, device.firmware_key, device.before)
        way = self._ways.get(kind)
        if way is None:
            way = self._ways[kind] = self._way(*kind)
        takes_part = way.route.outcome in TAKES_PART
        return self._ready(device, way) if takes_part else way.route

    def _way(self, model: int, revision: str, uplink: str, key: str | None, before: str | None) -> _Way:
        route = self._route(model, revision, uplink, key, before)
        spaces = [b.free_space_mb for b in route.steps if b.free_space_mb is not None]
        charges = [b.min_battery_pct for b in route.steps if b.min_battery_pct is not None]
        return _Way(route, max(spaces, default=None), max(charges, default=None))

    def _route(self, model: int, revision: str, uplink: str, key: str | None, before: str | None) -> Route:
        target = self._target(model, revision, uplink, key, before)
        if isinstance(target, Outcome):
            return Route(target)
        if not target.fits(model, revision):
            return Route(Outcome.WRONG_HARDWARE)
        if key is None:
            return Route(Outcome.NO_VERSION)
        if key == target.key:
            return Route(Outcome.ALREADY, (target,))
        if key > target.key and not self._downgrades:
            return Route(Outcome.DOWNGRADE)
        steps = self._upgrades.graph(model, revision).path(key, target)
        if steps is None:
            return Route(Outcome.NO_PATH)
        return Route(Outcome.STRAIGHT if len(steps) == 1 else Outcome.VIA, steps)

    def _target(self, model: int, revision: str, uplink: str, key: str | None, before: str | None) -> Build | Outcome:
        if self._table is None:
            builds = self._upgrades.graph(model, revision).builds
            return next((b for b in builds if b.key == before), Outcome.NO_IMAGE)
        row = self._table.row(model, uplink, key)
        if row is None:
            return Outcome.NO_TARGET
        if row.choice is Choice.LEAVE_OUT:
            return Outcome.ROW_LEFT_OUT
        return self._table.target(row, model, revision) or Outcome.NO_IMAGE

    def _ready(self, device: Candidate, way: _Way) -> Route:
        route, space, battery = way.route, device.free_space_mb, device.battery_pct
        if device.coming is not None and device.coming > route.steps[-1].key and not self._replaces:
            return Route(Outcome.NEWER_COMING)
        if way.free_space_mb is not None and space is not None and space < way.free_space_mb:
            return Route(Outcome.NO_SPACE, (), Shortfall(way.free_space_mb, space))
        least = None if device.on_mains else way.min_battery_pct
        if least is not None and battery is not None and battery < least:
            return Route(Outcome.LOW_POWER, (), Shortfall(least, battery))
        if device.silent:
            return route._replace(outcome=Outcome.LATE)
        if device.outranked and not self._replaces:
            return route._replace(outcome=Outcome.OUTRANKED)
        if device.frozen:
            return route._replace(outcome=Outcome.FROZEN)
        return route._replace(outcome=Outcome.PROMISED) if device.in_hand else route
