"""Random rules and devices, shared by the tests of both engines."""

from datetime import UTC, date, datetime, timedelta
from typing import Any

from hypothesis import strategies as st

from herald_core.rules import And, Clause, Everything, FieldSpec, FieldType, Node, Not, Op, Or, Vocabulary
from herald_core.rules.fields import ADMISSIONS, OPERATORS, PRESENCES

NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)
WORDS = ["a", "A", "ab", "Ab c", "é", "É", "ß", "İ", "Σ", 'q"q', "b\\s", "100%", "a_b", "a*b", "", "Zürich", "日本"]
VERSIONS = ["5.2", "5.2.0", "v5.2", "5.2.1-rc.1", "5.2.1", "05.2+x", "4.9", "a.b", "5.2-1", "5.10"]
TAGS = ["frost-zone", "frost_zone", "lab", "Spare", "é"]
GROUPS = ["One", "Two words", 'Qu"ote'.replace('"', "'")]
DAYS = [date(2026, 11, d) for d in (20, 21, 22, 23, 24)]
NUMBERS = [0, 1, 2, 20, 20.5, -3, 0.1, 1000000]
AGES = [timedelta(minutes=45), timedelta(hours=6), timedelta(days=2), timedelta(weeks=1)]
TIMES = [NOW - age for age in AGES] + [NOW - timedelta(days=2, microseconds=1), NOW + timedelta(hours=3)]
TIMES += [datetime(2026, 11, 21, tzinfo=UTC), datetime(2026, 11, 22, tzinfo=UTC) - timedelta(microseconds=1)]

EXTRA = (
    FieldSpec(key="note", type=FieldType.TEXT, label="Note", source="attribute"),
    FieldSpec(key="crop", type=FieldType.CHOICE, label="Crop", choices=("olive", "Grape"), source="attribute"),
    FieldSpec(key="class_no", type=FieldType.NUMBER, label="Class", source="attribute"),
    FieldSpec(key="leased", type=FieldType.YES_NO, label="Leased", source="attribute"),
    FieldSpec(key="made_on", type=FieldType.DATE, label="Made on", source="attribute"),
    FieldSpec(key="loader", type=FieldType.VERSION, label="Loader", source="attribute"),
    FieldSpec(key="battery", type=FieldType.NUMBER, label="Battery", source="fact"),
    FieldSpec(key="uplink", type=FieldType.TEXT, label="Uplink", source="fact"),
    FieldSpec(key="boot", type=FieldType.VERSION, label="Boot loader", source="fact"),
    FieldSpec(key="checked_on", type=FieldType.DATE, label="Checked on", source="fact"),
    FieldSpec(key="door_open", type=FieldType.YES_NO, label="Door", source="fact"),
)
VOCABULARY = Vocabulary.with_fields(EXTRA)
_LISTS = (Op.ANY_OF, Op.ALL_OF, Op.NONE_OF)
_TEXT_OPS = (Op.CONTAINS, Op.STARTS_WITH, Op.ENDS_WITH, Op.LIKE)
_PATTERNS = [*WORDS, "*", "?", "a*", "*b", "?b", "A?c*", "5.*", "frost?zone", "%", "_"]


def _operand(spec: FieldSpec, op: Op) -> st.SearchStrategy[Any]:
    if op in (Op.OLDER_THAN, Op.WITHIN):
        return st.sampled_from(AGES)
    if op in _TEXT_OPS:
        return st.sampled_from(_PATTERNS)
    special = {"presence": PRESENCES, "admission": ADMISSIONS, "tag": TAGS, "custodian_tag": TAGS, "group": GROUPS}
    if spec.key in special:
        return st.sampled_from(list(special[spec.key]))
    return {
        FieldType.TEXT: st.sampled_from(WORDS),
        FieldType.CHOICE: st.sampled_from(list(spec.choices) or WORDS),
        FieldType.NUMBER: st.sampled_from(NUMBERS),
        FieldType.YES_NO: st.booleans(),
        FieldType.DATE: st.sampled_from(DAYS),
        FieldType.TIME: st.sampled_from(DAYS),
        FieldType.VERSION: st.sampled_from(VERSIONS),
    }[spec.type]


@st.composite
def clause_nodes(draw: st.DrawFn, without: tuple[str, ...] = ()) -> Clause:
    spec = draw(st.sampled_from([s for s in VOCABULARY.fields.values() if s.key not in without]))
    op = draw(st.sampled_from(OPERATORS[spec.type]))
    if op in (Op.IS_SET, Op.IS_MISSING):
        return Clause(spec.key, op)
    count = draw(st.integers(1, 3)) if op in _LISTS else 2 if op is Op.BETWEEN else 1
    return Clause(spec.key, op, tuple(draw(_operand(spec, op)) for _ in range(count)))


def rule_nodes(without: tuple[str, ...] = ()) -> st.SearchStrategy[Node]:
    """Trees as the grammar makes them: no AND directly in an AND, no OR directly in an OR."""

    def combine(children: st.SearchStrategy[Node]) -> st.SearchStrategy[Node]:
        lists = st.lists(children, min_size=2, max_size=3)
        return st.one_of(
            children.map(Not),
            lists.filter(lambda o: not any(isinstance(x, And) for x in o)).map(lambda o: And(tuple(o))),
            lists.filter(lambda o: not any(isinstance(x, Or) for x in o)).map(lambda o: Or(tuple(o))),
        )

    return st.recursive(st.one_of(clause_nodes(without), st.just(Everything())), combine, max_leaves=6)


def maybe(values: list[Any]) -> st.SearchStrategy[Any]:
    return st.one_of(st.none(), st.sampled_from(values))
