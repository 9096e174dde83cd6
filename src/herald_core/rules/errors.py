"""What is wrong with a rule, said so that it can be corrected."""

from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class RuleProblem:
    """One fault of a rule. `line` and `column` count from 1; `length` is in characters."""

    line: int
    column: int
    length: int
    message: str
    expected: tuple[str, ...] = ()
    closest: str | None = None


class RuleError(Exception):
    """The rule cannot be understood; `problems` says what, where and what would be right."""

    def __init__(self, problems: tuple[RuleProblem, ...]) -> None:
        super().__init__(problems[0].message)
        self.problems = problems
