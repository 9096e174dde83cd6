"""What devices answered to a command, put together: equal answers, nearly equal texts, numbers as a histogram."""

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from itertools import pairwise
from typing import TypeGuard

import numpy as np

from herald_core.deliveries import OPEN, Phase

#: Numbers are shown as a histogram where at least so many different ones came.
MIN_DISTINCT = 6
MIN_BINS, MAX_BINS = 5, 20
#: So many groups are told apart; the rarest are put together.
MAX_GROUPS = 40
#: Numbers beyond are shown as they are.
LARGEST = 1e15
LONGEST_LABEL = 200
#: What may differ in texts that are nearly equal: numbers, times, addresses in hexadecimal.
_VARIABLE = re.compile(r"0x[0-9a-f]+|\b[0-9a-f]{8,}\b|[+-]?\d+(?:[.,:]\d+)*", re.IGNORECASE)


class Sort(StrEnum):
    """What kind of answer a group has."""

    EQUAL = "equal"  # all said the same
    NEAR = "near"  # texts that differ in numbers only
    NUMBER = "number"  # numbers of one bin
    DONE = "done"  # done, without an answer
    FAILED = "failed"
    MISSED = "missed"  # its time ran out before the device began
    LEFT = "left"  # taken back, or the next firing took its place
    OPEN = "open"  # not there yet
    OTHER = "other"  # the rarest answers together


@dataclass(frozen=True, kw_only=True)
class Outcome:
    """How a command stands on one device; `answer` is None where it gave none."""

    device: int
    phase: str
    answer: object = None
    error: str = ""


@dataclass(kw_only=True)
class AnswerGroup:
    """Devices with one answer. `key` names the group within its firing; `low` and `high` bound a bin, the upper bound
    belongs to the last one only. `examples` are the texts of a group that are nearly equal, the commonest first."""

    key: str
    sort: Sort
    label: str
    devices: list[int] = field(default_factory=list)
    low: float | None = None
    high: float | None = None
    examples: list[str] = field(default_factory=list)

    @property
    def count(self) -> int:
        return len(self.devices)


def grouped(outcomes: Iterable[Outcome]) -> list[AnswerGroup]:
    """The groups: answers by how common they are, numbers by size, then what failed, was missed, left and is open. Each
    device is in exactly one."""
    answers: list[tuple[int, object]] = []
    ended: dict[tuple[Sort, str], list[int]] = {}
    for outcome in outcomes:
        if outcome.phase == Phase.CONFIRMED and outcome.answer is not None:
            answers.append((outcome.device, outcome.answer))
        else:
            ended.setdefault(_ended(outcome), []).append(outcome.device)
    numbers = [(d, float(a)) for d, a in answers if _is_number(a)]
    if len({a for _, a in numbers}) >= MIN_DISTINCT:
        as_numbers = {d for d, _ in numbers}
        found = _bins(numbers) + _texts([(d, a) for d, a in answers if d not in as_numbers])
    else:
        found = _texts(answers)
    order = (Sort.DONE, Sort.FAILED, Sort.MISSED, Sort.LEFT, Sort.OPEN)
    for (sort, label), devices in sorted(ended.items(), key=lambda e: (order.index(e[0][0]), -len(e[1]), e[0][1])):
        found.append(AnswerGroup(key=f"{sort}:{label}", sort=sort, label=label, devices=devices))
    return found


def _is_number(answer: object) -> TypeGuard[int | float]:
    return isinstance(answer, int | float) and not isinstance(answer, bool) and abs(answer) < LARGEST


def _ended(outcome: Outcome) -> tuple[Sort, str]:
    phase = Phase(outcome.phase)
    if phase is Phase.CONFIRMED:
        return Sort.DONE, ""
    if phase is Phase.FAILED:
        return Sort.FAILED, outcome.error or "unspecified"
    if phase is Phase.EXPIRED:
        return Sort.MISSED, ""
    return (Sort.OPEN, "") if phase in OPEN else (Sort.LEFT, "")


def _bins(numbers: Sequence[tuple[int, float]]) -> list[AnswerGroup]:
    values = np.array([v for _, v in numbers])
    # Freedman and Diaconis: a bin is as wide as twice the middle half of the values, by the cube root of their number
    low, high = np.percentile(values, [25, 75])
    width = 2 * (high - low) / len(values) ** (1 / 3)
    wanted = np.ptp(values) / width if width > np.ptp(values) / MAX_BINS else MAX_BINS
    edges = np.histogram_bin_edges(values, bins=int(np.clip(np.ceil(wanted), MIN_BINS, MAX_BINS)))
    places = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, len(edges) - 2)
    groups = [
        AnswerGroup(
            key=f"number:{low!r}:{high!r}",
            sort=Sort.NUMBER,
            label=f"{low:.4g} to {high:.4g}",
            low=low,
            high=high,
        )
        for low, high in pairwise(edges.tolist())
    ]
    for (device, _), place in zip(numbers, places, strict=True):
        groups[int(place)].devices.append(device)
    return groups


def _texts(answers: Sequence[tuple[int, object]]) -> list[AnswerGroup]:
    """Equal answers together; of those that only one device gave, texts that differ in numbers only."""
    by_text: dict[str, list[int]] = {}
    for device, answer in answers:
        by_text.setdefault(answer_text(answer), []).append(device)
    near: dict[str, list[str]] = {}
    for text in by_text:
        near.setdefault(_VARIABLE.sub("#", text), []).append(text)
    groups = []
    for pattern, texts in near.items():
        if len(texts) >= MIN_DISTINCT and pattern != "#":
            groups.append(_near(pattern, {t: by_text[t] for t in texts}))
        else:
            groups += [AnswerGroup(key=f"equal:{t}", sort=Sort.EQUAL, label=t, devices=by_text[t]) for t in texts]
    groups.sort(key=lambda g: (-g.count, g.label))
    if len(groups) <= MAX_GROUPS:
        return groups
    rest = groups[MAX_GROUPS - 1 :]
    other = AnswerGroup(
        key="other:",
        sort=Sort.OTHER,
        label=f"{len(rest)} rarer answers",
        devices=[d for g in rest for d in g.devices],
        examples=[g.label for g in rest[:5]],
    )
    return [*groups[: MAX_GROUPS - 1], other]


def _near(pattern: str, texts: Mapping[str, list[int]]) -> AnswerGroup:
    counted = Counter({t: len(d) for t, d in texts.items()})
    return AnswerGroup(
        key=f"near:{pattern}",
        sort=Sort.NEAR,
        label=pattern,
        devices=[d for devices in texts.values() for d in devices],
        examples=[t for t, _ in counted.most_common(5)],
    )


def answer_text(answer: object) -> str:
    """An answer of a device as it is compared and shown."""
    if isinstance(answer, bool):
        return "yes" if answer else "no"
    if isinstance(answer, float):
        return f"{answer:.6g}"
    return " ".join(str(answer).split())[:LONGEST_LABEL]
