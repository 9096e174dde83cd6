"""Fields of a device and their types: which operators go with which."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from functools import lru_cache

from herald_core.rules.tree import Op


class FieldType(StrEnum):
    """What kind of value a field holds."""

    TEXT = "text"
    CHOICE = "choice"
    NUMBER = "number"
    YES_NO = "yes/no"
    DATE = "date"
    TIME = "time"
    VERSION = "version"
    SET = "set"
    GROUP = "group"


_EQUALITY = (Op.EQ, Op.NE)
_LISTS = (Op.ANY_OF, Op.NONE_OF)
_ORDER = (Op.LT, Op.LE, Op.GT, Op.GE, Op.BETWEEN)
_TEXT = (Op.CONTAINS, Op.STARTS_WITH, Op.ENDS_WITH, Op.LIKE)
_PRESENCE = (Op.IS_SET, Op.IS_MISSING)
_AGE = (Op.OLDER_THAN, Op.WITHIN)

#: The operators each type has, in the order in which they are offered.
OPERATORS: Mapping[FieldType, tuple[Op, ...]] = {
    FieldType.TEXT: (*_EQUALITY, *_LISTS, *_TEXT, *_ORDER, *_PRESENCE),
    FieldType.CHOICE: (*_EQUALITY, *_LISTS, *_TEXT, *_PRESENCE),
    FieldType.NUMBER: (*_EQUALITY, *_ORDER, *_LISTS, *_PRESENCE),
    FieldType.YES_NO: (*_EQUALITY, *_PRESENCE),
    FieldType.DATE: (*_EQUALITY, *_ORDER, *_LISTS, *_AGE, *_PRESENCE),
    FieldType.TIME: (*_AGE, *_EQUALITY, *_ORDER, *_PRESENCE),
    FieldType.VERSION: (*_EQUALITY, *_ORDER, *_LISTS, *_TEXT, *_PRESENCE),
    FieldType.SET: (*_EQUALITY, Op.ANY_OF, Op.ALL_OF, Op.NONE_OF, *_TEXT, *_PRESENCE),
    FieldType.GROUP: (*_EQUALITY, Op.ANY_OF, Op.ALL_OF, Op.NONE_OF),
}


@dataclass(frozen=True, kw_only=True)
class FieldSpec:
    """A field that rules may name. `choices` empty means that any value may be written."""

    key: str
    type: FieldType
    label: str
    choices: tuple[str, ...] = ()
    unit: str = ""
    #: "device", "attribute" (set by operators) or "fact" (reported by the device)
    source: str = "device"
    #: of an attribute: what a new device gets where nothing is said, None for nothing
    default: str | float | bool | None = None
    #: of an attribute: whether a device may not go without
    required: bool = False


PRESENCES = ("on time", "late", "silent", "never seen")
ADMISSIONS = ("waiting", "admitted", "retired")

#: The fields every fleet has; attributes and facts are added to them by the fleet itself.
BUILT_IN: tuple[FieldSpec, ...] = (
    FieldSpec(key="uid", type=FieldType.TEXT, label="Device UID"),
    FieldSpec(key="name", type=FieldType.TEXT, label="Name"),
    FieldSpec(key="serial", type=FieldType.TEXT, label="Serial"),
    FieldSpec(key="model", type=FieldType.TEXT, label="Model"),
    FieldSpec(key="family", type=FieldType.TEXT, label="Family"),
    FieldSpec(key="hardware", type=FieldType.TEXT, label="Hardware revision"),
    FieldSpec(key="firmware", type=FieldType.VERSION, label="Firmware"),
    FieldSpec(key="site", type=FieldType.TEXT, label="Site"),
    FieldSpec(key="region", type=FieldType.TEXT, label="Region"),
    FieldSpec(key="time_zone", type=FieldType.TEXT, label="Time zone"),
    FieldSpec(key="custodian", type=FieldType.TEXT, label="Custodian"),
    FieldSpec(key="custodian_tag", type=FieldType.SET, label="Custodian's tag"),
    FieldSpec(key="tag", type=FieldType.SET, label="Tag"),
    FieldSpec(key="group", type=FieldType.GROUP, label="Group"),
    FieldSpec(key="presence", type=FieldType.CHOICE, label="Presence", choices=PRESENCES),
    FieldSpec(key="admission", type=FieldType.CHOICE, label="Admission", choices=ADMISSIONS),
    FieldSpec(key="first_seen", type=FieldType.TIME, label="First seen"),
    FieldSpec(key="last_check_in", type=FieldType.TIME, label="Last check-in"),
)

BUILT_IN_KEYS = frozenset(spec.key for spec in BUILT_IN)

#: Fields that name single devices or change by themselves: nothing is found out about kinds of devices by them.
NON_CATEGORICAL = frozenset({"uid", "name", "serial", "group", "presence", "admission", "first_seen", "last_check_in"})

#: Fields whose value changes as time passes, without anything being reported.
TIME_DEPENDENT = frozenset({"presence"})


@dataclass(frozen=True, eq=False)
class Vocabulary:
    """The fields that a fleet has, by key: the built-in ones, its attributes and its facts.

    `with_fields` gives the same object for the same fields, so that what is kept for a vocabulary
    (trees, predicates) is found by its identity instead of by comparing every field.
    """

    fields: Mapping[str, FieldSpec] = field(default_factory=lambda: {s.key: s for s in BUILT_IN})

    @classmethod
    def with_fields(cls, extra: tuple[FieldSpec, ...]) -> "Vocabulary":
        """The built-in fields and `extra`; a built-in key always keeps its meaning."""
        return _vocabulary_of(extra)

    def get(self, key: str) -> FieldSpec | None:
        return self.fields.get(key)


@lru_cache(maxsize=32)
def _vocabulary_of(extra: tuple[FieldSpec, ...]) -> Vocabulary:
    return Vocabulary({**{s.key: s for s in extra}, **{s.key: s for s in BUILT_IN}})
