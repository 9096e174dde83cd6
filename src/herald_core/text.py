"""Text as rules compare it (Unicode NFC, and one mapping for ignoring case), and as sentences are put together."""

import unicodedata
from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher
from itertools import islice

#: One-to-one lower-case mapping of every storable character; characters whose lower case is longer
#: than one character keep themselves. The database holds the same table (function herald_fold). Only the first two
#: planes are looked at, which each process does when it starts: the others hold ideographs and what has no case.
FOLD_TABLE: dict[int, int] = {
    code: ord(lower)
    for code in range(1, 0x20000)
    if not 0xD800 <= code <= 0xDFFF and len(lower := chr(code).lower()) == 1 and ord(lower) != code
}

#: a piece of a sentence: its `text`, and the `slot` that it fills, if any
Part = dict[str, str]

#: words that are compared to find the nearest: how long, and how many
LONGEST_WORD, MOST_COMPARED = 200, 5000


def fold(text: str) -> str:
    """`text` with case ignored, character by character (never changes the length)."""
    return text.lower() if text.isascii() else text.translate(FOLD_TABLE)


def nfc(text: str) -> str:
    """`text` in Unicode NFC, the form in which all text is stored and compared."""
    return unicodedata.normalize("NFC", text)


def is_storable(text: str) -> bool:
    """Whether the database can hold `text`: no NUL and no lone surrogates."""
    return "\x00" not in text and not any(0xD800 <= ord(c) <= 0xDFFF for c in text)


def in_words(words: Sequence[str]) -> str:
    """“A”, “A and B”, “A, B and C”; empty for none."""
    return " and ".join([", ".join(words[:-1]), words[-1]] if len(words) > 1 else words)


def edit_distance(a: str, b: str) -> int:
    """Levenshtein's distance: the fewest insertions, deletions and replacements from `a` to `b`."""
    previous = list(range(len(b) + 1))
    for i, left in enumerate(a, 1):
        current = [i]
        for j, right in enumerate(b, 1):
            current.append(min(previous[j] + 1, current[j - 1] + 1, previous[j - 1] + (left != right)))
        previous = current
    return previous[-1]


def closest(wanted: str, known: Iterable[str]) -> str | None:
    """The known word nearest to `wanted`, ignoring case, or None where nothing is near.

    Only words of about its length are compared, for at most `MOST_COMPARED` of them: what is far longer is not near.
    """
    if len(wanted) > LONGEST_WORD:
        return None
    folded, best, best_score = fold(wanted), None, 0.0
    for word in islice(known, MOST_COMPARED):
        other = fold(word[:LONGEST_WORD])
        score = SequenceMatcher(None, folded, other).ratio()
        if other.startswith(folded) and folded:
            score = max(score, 0.75)
        if score > best_score:
            best, best_score = word, score
    return best if best_score >= 0.6 else None


def looks_like(word: str, other: str) -> bool:
    """Whether two different words are probably one, misspelt: the same but for case, dashes and blanks,
    or with one letter in five wrong."""
    if word == other:
        return False
    a, b = (fold(w).translate(_SEPARATORS) for w in (word, other))
    if a == b:
        return True
    shorter = min(len(a), len(b))
    if shorter < 5 or abs(len(a) - len(b)) > 2 or any(c.isdigit() for c in a + b):
        return False  # short words and numbered ones differ by a letter on purpose
    return edit_distance(a[:80], b[:80]) <= shorter // 5


_SEPARATORS = str.maketrans("", "", " -_./")


def word(text: str) -> Part:
    """A piece of a sentence that says nothing by itself: the words between its slots."""
    return {"slot": "", "text": text}


def slot(name: str, text: str) -> Part:
    """A piece of a sentence that says one thing, which `name` names."""
    return {"slot": name, "text": text}
