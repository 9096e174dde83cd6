"""The rule language: text to tree, tree to text, and the meaning of a tree for one device."""

from herald_core.rules.errors import RuleError, RuleProblem
from herald_core.rules.evaluate import Predicate, Record, compile_predicate, depends_on_time
from herald_core.rules.explain import ClauseVerdict, explain
from herald_core.rules.fields import FieldSpec, FieldType, Vocabulary
from herald_core.rules.parser import parse
from herald_core.rules.printer import to_text
from herald_core.rules.tree import And, Clause, Everything, Node, Not, Op, Or, clauses, groups_of

__all__ = [
    "And",
    "Clause",
    "ClauseVerdict",
    "Everything",
    "FieldSpec",
    "FieldType",
    "Node",
    "Not",
    "Op",
    "Or",
    "Predicate",
    "Record",
    "RuleError",
    "RuleProblem",
    "Vocabulary",
    "clauses",
    "compile_predicate",
    "depends_on_time",
    "explain",
    "groups_of",
    "parse",
    "to_text",
]
