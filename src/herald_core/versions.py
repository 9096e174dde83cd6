"""Version numbers: one total order and one sort key, the same in Python and in the database.

A leading ``v`` and build data after ``+`` are dropped. Before the first ``-`` come dotted segments:
whole numbers by value and before words, words by code point, missing segments zero. No suffix sorts
after any suffix; suffixes compare by semantic-version identifiers (SemVer 2.0.0, section 11).
"""

import re

MAX_LENGTH = 64
_UNFIT = re.compile(r"[\x00-\x20\x7f]")

# Each part of a key starts with one of these; their code points carry the order.
_END = "0"  # below any part, so that a shorter run of parts sorts first
_NUMBER = "1"
_WORD = "2"
_WORD_END = "\x01"  # below any character that a version may hold
_NO_SUFFIX = "3"  # above any suffix


def is_version(text: str) -> bool:
    """Whether `text` can be read as a version: 1 to 64 characters, no blanks or control characters."""
    return 0 < len(text) <= MAX_LENGTH and not _UNFIT.search(text)


def version_key(text: str) -> str:
    """A key whose code-point order is the order of versions.

    Two versions are equal exactly when their keys are equal. In the database the key is compared
    with the collation "C".

    Raises:
        ValueError: `text` is no version (see `is_version`).
    """
    if not is_version(text):
        raise ValueError(f"not a version: {text!r}")
    release, has_suffix, suffix = text.removeprefix("v").split("+", 1)[0].partition("-")
    parts = [_part(segment) for segment in release.split(".")]
    while parts and parts[-1] == _part("0"):
        parts.pop()
    key = "".join(parts) + _END
    if not has_suffix:
        return key + _NO_SUFFIX
    return key + "".join(_part(identifier) for identifier in suffix.split(".")) + _END


def version_key_or_none(text: str | None) -> str | None:
    """The key of `text`, or None where it is missing or no version."""
    return version_key(text) if text is not None and is_version(text) else None


def _part(segment: str) -> str:
    if segment.isascii() and segment.isdigit():
        digits = segment.lstrip("0") or "0"
        return f"{_NUMBER}{len(digits):02d}{digits}"
    return f"{_WORD}{segment}{_WORD_END}"
