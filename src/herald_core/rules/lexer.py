"""Rule text to tokens."""

import re
from dataclasses import dataclass
from enum import StrEnum

from herald_core.rules.errors import RuleError, RuleProblem
from herald_core.text import is_storable

MAX_CHARACTERS = 10_000


class Kind(StrEnum):
    WORD = "word"
    STRING = "quoted text"
    COMPARE = "operator"
    OPEN = "("
    CLOSE = ")"
    COMMA = ","
    END = "the end"


@dataclass(frozen=True)
class Token:
    """A piece of the text. `value` has quotes and escapes taken off; `start`, `end` are offsets."""

    kind: Kind
    value: str
    start: int
    end: int

    @property
    def word(self) -> str:
        """The word in lower case, for comparing with keywords; empty for anything but a word."""
        return self.value.lower() if self.kind is Kind.WORD else ""


_TOKEN = re.compile(
    r"""\s*(?:
      (?P<string>"(?:[^"\\]|\\["\\])*")
    | (?P<compare><=|>=|!=|=|<|>)
    | (?P<open>\() | (?P<close>\)) | (?P<comma>,)
    | (?P<word>[^\s"(),=<>!]+)
    )""",
    re.VERBOSE,
)
_ESCAPE = re.compile(r"\\([\"\\])")
_KINDS = {"compare": Kind.COMPARE, "open": Kind.OPEN, "close": Kind.CLOSE, "comma": Kind.COMMA, "word": Kind.WORD}


def position(text: str, offset: int) -> tuple[int, int]:
    """Line and column of an offset, both from 1."""
    before = text[:offset]
    return before.count("\n") + 1, offset - (before.rfind("\n") + 1) + 1


def problem(
    text: str, start: int, end: int, message: str, expected: tuple[str, ...] = (), closest: str | None = None
) -> RuleProblem:
    """A problem with the piece of `text` from offset `start` up to `end`."""
    line, column = position(text, start)
    return RuleProblem(
        line=line, column=column, length=max(1, end - start), message=message, expected=expected, closest=closest
    )


def tokenize(text: str) -> list[Token]:
    """All tokens of the text, the last one being the end.

    Raises:
        RuleError: the text is too long, or holds a character or a quote that fits nowhere.
    """
    if len(text) > MAX_CHARACTERS:
        message = f"The rule has {len(text):,} characters; at most {MAX_CHARACTERS:,} are allowed.".replace(",", " ")
        raise RuleError((problem(text, MAX_CHARACTERS, MAX_CHARACTERS, message),))
    if not is_storable(text):
        at = next(i for i, c in enumerate(text) if not is_storable(c))
        raise RuleError((problem(text, at, at + 1, "This character cannot be stored, so no device can hold it."),))
    tokens, offset, end = [], 0, len(text.rstrip())
    while offset < end:
        match = _TOKEN.match(text, offset)
        if match is None:
            start = offset + len(text[offset:]) - len(text[offset:].lstrip())
            raise RuleError((_misfit(text, start),))
        name = str(match.lastgroup)
        start, offset = match.span(name)
        if name == "string":
            tokens.append(Token(Kind.STRING, _ESCAPE.sub(r"\1", match[name][1:-1]), start, offset))
        else:
            tokens.append(Token(_KINDS[name], match[name], start, offset))
    tokens.append(Token(Kind.END, "", end, end))
    return tokens


def _misfit(text: str, start: int) -> RuleProblem:
    if text[start] == '"':
        message = 'This quote is not closed, or a backslash in it stands before something other than " or \\.'
        return problem(text, start, len(text), message, ('"',))
    return problem(text, start, start + 1, f"{text[start]} stands alone here; write != for “is not”.", ("!=",), "!=")
