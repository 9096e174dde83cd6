"""Dates that can be planned with: years far from now overflow as soon as a zone's offset is added."""

from datetime import date

from herald.http.errors import Invalid
from herald_core.timing.clocks import FIRST_YEAR, LAST_YEAR


def check_plannable(value: date | None, pointer: str) -> None:
    """Refuse a day or moment that cannot be planned with; none is fine.

    Raises:
        Invalid: its year is too far away.
    """
    if value is not None and not FIRST_YEAR <= value.year < LAST_YEAR:
        raise Invalid(pointer, f"A date from the year {FIRST_YEAR} to {LAST_YEAR - 1} is expected.")
