"""The sieve of a rule over the fleet, who was just missed, and what is worth a look."""

import time
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.db.models import BigIntegerField, Case, Count, ExpressionWrapper, Q, Value, When
from django.db.models.expressions import Combinable

from herald.fleet.models import Device
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.rule_queries import to_condition
from herald.groups.rules import read_rule
from herald.groups.services import explain_devices
from herald.groups.values import value_counts
from herald_core.rules import Clause, FieldSpec, FieldType, Node, Not, Op, Or, Vocabulary, to_text
from herald_core.rules.sieve import LineCount, compared_field, count_lines, named_values, sieve_lines
from herald_core.text import looks_like

#: Fields whose words are names rather than kinds: nearly equal ones are nothing to look at.
_NAMES = frozenset({"uid", "name", "serial"})
#: Types whose words are free; those of a choice were checked when the rule was read.
_WORDS = (FieldType.TEXT, FieldType.SET)
#: Fields that every device has.
_NEVER_MISSING = frozenset({"uid", "name", "model", "time_zone", "presence", "admission"})


@dataclass(frozen=True, kw_only=True)
class Line:
    """A line of the rule with what it lets through; `missing` counts devices without the value it compares.

    `clause` is the line taken apart, where it is a single clause; `negated` says that `not` stands before it.
    """

    text: str
    clause: Clause | None
    negated: bool
    counts: LineCount
    missing: int


@dataclass(frozen=True, kw_only=True)
class JustMissed:
    """A device that fails one line only: which, its own value there, and how near that was."""

    device: Device
    line: str
    value: str
    why: str


@dataclass(frozen=True, kw_only=True)
class Note:
    """Something worth a look. `kind`: near (a word nearly like one in the rule), absent (a word that no
    device has) or missing (devices without a value). `rule` lists the devices."""

    kind: str
    field: str
    word: str
    instead_of: str
    count: int
    rule: str


@dataclass(kw_only=True)
class Sieve:
    """A rule held against the fleet, line by line."""

    lines: list[Line]
    fleet: int
    count: int
    missed_count: int
    missed: list[JustMissed]
    notes: list[Note] = field(default_factory=list)
    took_ms: float = 0.0


def compute_sieve(rule: str, *, limit: int, now: datetime) -> Sieve:
    """The sieve of a rule, with up to `limit` devices that fail exactly one line.

    Raises:
        InvalidRule: the rule cannot be understood.
    """
    started = time.perf_counter()
    vocabulary = load_vocabulary()
    node = read_rule(rule, vocabulary)
    lines = sieve_lines(node)
    conditions = [to_condition(line, vocabulary, now) for line in lines]
    fields = _fields_that_may_be_missing(lines, vocabulary)
    absent = [to_condition(Clause(key, Op.IS_MISSING), vocabulary, now) for key in fields]
    by_mask = _devices_by_mask([*conditions, *absent])
    full = (1 << len(lines)) - 1
    by_line_mask: Counter[int] = Counter()
    for mask, n in by_mask.items():
        by_line_mask[mask & full] += n
    missing = {
        key: sum(n for mask, n in by_mask.items() if mask >> (len(lines) + index) & 1)
        for index, key in enumerate(fields)
    }
    counts = count_lines(by_line_mask, len(lines))
    result = Sieve(
        lines=[
            _line(line, c, missing.get(compared_field(line) or "", 0)) for line, c in zip(lines, counts, strict=True)
        ],
        fleet=sum(by_mask.values()),
        count=by_line_mask[full],
        missed_count=sum(c.stopped_here_only for c in counts) if len(lines) > 1 else 0,
        missed=_missed(rule, conditions, counts, limit, now) if len(lines) > 1 and limit else [],
        notes=_notes(node, vocabulary, missing, now),
    )
    result.took_ms = round((time.perf_counter() - started) * 1000, 1)
    return result


def _line(line: Node, counts: LineCount, missing: int) -> Line:
    inner = line.operand if isinstance(line, Not) else line
    return Line(
        text=f"({to_text(line)})" if isinstance(line, Or) else to_text(line),
        clause=inner if isinstance(inner, Clause) else None,
        negated=isinstance(line, Not),
        counts=counts,
        missing=missing,
    )


def _mask(conditions: Sequence[Q]) -> Combinable:
    """One whole number a device: bit i is set where condition i holds."""
    total: Any = Value(0, BigIntegerField())
    for index, condition in enumerate(conditions):
        bit = Value(1 << index, BigIntegerField())
        # an empty condition is that of "everything"
        total = total + (Case(When(condition, then=bit), default=Value(0, BigIntegerField())) if condition else bit)
    return ExpressionWrapper(total, output_field=BigIntegerField())  # sums of whole numbers lose their size


def _devices_by_mask(conditions: Sequence[Q]) -> dict[int, int]:
    """How many devices have each mask: every condition is looked at once for each device."""
    rows = Device.objects.order_by().annotate(mask=_mask(conditions)).values_list("mask").annotate(n=Count("id"))
    return dict(rows)


def _fields_that_may_be_missing(lines: Sequence[Node], vocabulary: Vocabulary) -> list[str]:
    keys = dict.fromkeys(key for line in lines if (key := compared_field(line)))
    specs = [spec for key in keys if (spec := vocabulary.get(key))]
    return [s.key for s in specs if s.type not in (FieldType.SET, FieldType.GROUP) and s.key not in _NEVER_MISSING][:20]


def _missed(
    rule: str, conditions: Sequence[Q], counts: Sequence[LineCount], limit: int, now: datetime
) -> list[JustMissed]:
    """Those stopped by the line that stops fewest come first: a slip stops few, an intent stops many."""
    full = (1 << len(conditions)) - 1
    stopped = {full ^ (1 << index): c.stopped_here_only for index, c in enumerate(counts)}
    rank = Case(*(When(mask=mask, then=Value(n)) for mask, n in stopped.items()), output_field=BigIntegerField())
    devices = list(
        Device.objects.alias(mask=_mask(conditions))
        .filter(mask__in=list(stopped))
        .with_names()
        .order_by(rank, "mask", "name")[:limit]
    )
    explained = explain_devices(rule, devices, now=now)
    result = []
    for device in devices:
        _, verdicts = explained[device.pk]
        miss = next((v for v in verdicts if not v.true), None)
        if miss is not None:
            result.append(JustMissed(device=device, line=miss.text, value=miss.value, why=miss.why))
    return result


def _notes(node: Node, vocabulary: Vocabulary, missing: dict[str, int], now: datetime) -> list[Note]:
    notes = []
    for key, words in named_values(node).items():
        spec = vocabulary.get(key)
        if spec is not None and spec.type in _WORDS and key not in _NAMES:
            notes += _word_notes(spec, words, now)
    for key, n in missing.items():
        if n:
            notes.append(Note(kind="missing", field=key, word="", instead_of="", count=n, rule=f"{key} is missing"))
    return notes


def _word_notes(spec: FieldSpec, words: Sequence[str], now: datetime) -> list[Note]:
    """Words in the fleet that are nearly those of the rule, and words of the rule that no device has."""
    counts = dict(value_counts(spec, now=now, most=5000))

    def note(kind: str, word: str, instead_of: str) -> Note:
        text = to_text(Clause(spec.key, Op.EQ, (word,)))
        return Note(kind=kind, field=spec.key, word=word, instead_of=instead_of, count=counts.get(word, 0), rule=text)

    near = [note("near", other, word) for word in words for other in counts if looks_like(word, other)]
    absent = [note("absent", word, "") for word in words if word not in counts]
    return [n for n in near if n.word not in words] + absent
