"""Putting one word in place of another in a rule, leaving the rest of its text as it was."""

from herald_core.rules.fields import Vocabulary
from herald_core.rules.lexer import tokenize
from herald_core.rules.parser import parse
from herald_core.rules.printer import value_text
from herald_core.rules.tree import clauses


def rename_value(rule: str, field: str, old: str, new: str, vocabulary: Vocabulary) -> str:
    """The rule with the word `old` written as `new` wherever a clause on `field` names it.

    Raises:
        RuleError: the rule cannot be understood.
    """
    spans = [(c.start, c.end) for c in clauses(parse(rule, vocabulary)) if c.field == field]
    result = rule
    for token in reversed(tokenize(rule)):
        inside = any(start < token.start and token.end <= end for start, end in spans)
        if inside and token.value == old:
            result = result[: token.start] + value_text(new) + result[token.end :]
    return result
