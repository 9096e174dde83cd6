"""Why a device is, or is not, a member: each line of the rule with the device's own value."""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from herald_core.rules.evaluate import Record, compile_predicate
from herald_core.rules.fields import Vocabulary
from herald_core.rules.printer import clause_text, duration_text, to_text
from herald_core.rules.sieve import lines_of
from herald_core.rules.tree import Clause, Everything, Node, Not, Op, clauses
from herald_core.text import edit_distance


@dataclass(frozen=True, kw_only=True)
class ClauseVerdict:
    """One top-level line of a rule for one device.

    `value` is the device's own value in words; `why` says what decided, and how near a miss was.
    """

    text: str
    true: bool
    value: str
    why: str


def explain(node: Node, record: Record, vocabulary: Vocabulary, now: datetime) -> tuple[bool, list[ClauseVerdict]]:
    """Whether the device is a member, and a verdict for each top-level line of the rule."""
    verdicts = [_verdict(line, record, vocabulary, now) for line in lines_of(node)]
    return all(v.true for v in verdicts), verdicts


def _verdict(line: Node, record: Record, vocabulary: Vocabulary, now: datetime) -> ClauseVerdict:
    def true(node: Node) -> bool:
        return compile_predicate(node, vocabulary, now)(record)

    holds = true(line)
    inner = list(clauses(line))
    fields = list(dict.fromkeys(c.field for c in inner))
    value = "; ".join(
        value_words(record.get(f), now) if len(fields) == 1 else f"{f} {value_words(record.get(f), now)}"
        for f in fields
    )
    return ClauseVerdict(text=to_text(line), true=holds, value=value, why=_why(line, holds, record, now, true))


def _why(line: Node, holds: bool, record: Record, now: datetime, true: Callable[[Node], bool]) -> str:
    match line:
        case Everything():
            return ""
        case Clause():
            return "" if holds else _miss(line, record, now)
        case Not(operand):
            hit = [clause_text(c) for c in clauses(operand) if true(c)]
            return "" if holds else f"because {', '.join(hit) or 'the part after not'} is true"
        case _:
            hit = [clause_text(c) for c in clauses(line) if true(c)]
            return f"true: {', '.join(hit)}" if hit else "none of its parts is true"


def _miss(clause: Clause, record: Record, now: datetime) -> str:
    value = record.get(clause.field)
    if value is None or value == frozenset():
        return "the device has no value here, so the clause is false"
    wanted = clause.values[0] if clause.values else None
    if isinstance(value, frozenset) and clause.op in (Op.EQ, Op.ANY_OF, Op.ALL_OF):
        missing = [str(v) for v in clause.values if v not in value]
        return _nearest_word(missing, sorted(value))
    if isinstance(value, str) and clause.op in (Op.EQ, Op.ANY_OF) and isinstance(wanted, str):
        return _nearest_word([str(v) for v in clause.values], [value])
    if isinstance(value, int | float) and not isinstance(value, bool) and isinstance(wanted, int | float):
        gap = min(abs(value - v) for v in clause.values if isinstance(v, int | float))
        return f"off by {gap:g}"
    if isinstance(value, datetime) and isinstance(wanted, timedelta):
        return f"that is {age_words(now - value)} ago; the limit is {duration_text(wanted)}"
    return f"{value_words(value, now)} does not fit {clause.op} {', '.join(map(str, clause.values))}"


def _nearest_word(wanted: list[str], present: list[str]) -> str:
    distance, word, other = min((edit_distance(w[:200], p[:200]), w, p) for w in wanted for p in present)
    if distance <= max(1, len(word) // 3):
        letters = "letter differs" if distance == 1 else "letters differ"
        return f"close: {other} is nearly {word}, {distance} {letters}"
    return f"has {', '.join(present[:8])}"


def value_words(value: Any, now: datetime) -> str:
    """A device's value in words."""
    match value:
        case None:
            return "no value"
        case frozenset():
            words = sorted(value)
            more = f" and {len(words) - 5} more" if len(words) > 6 else ""
            return (", ".join(words[:5] if more else words) or "none") + more
        case bool():
            return "yes" if value else "no"
        case datetime():
            return f"{value:%Y-%m-%d %H:%M} UTC ({age_words(now - value)} ago)"
    return str(value)


def age_words(age: timedelta) -> str:
    """An age in its largest whole unit."""
    seconds = max(0, int(age.total_seconds()))
    for size, unit in ((86_400, "d"), (3_600, "h"), (60, "min")):
        if seconds >= size:
            return f"{seconds // size} {unit}"
    return f"{seconds} s"
