"""Serializer pieces that several rooms use."""

from datetime import UTC, datetime
from typing import Any

from rest_framework import serializers

from herald.http.errors import Invalid

# the framework's own words speak of objects and pks
serializers.PrimaryKeyRelatedField.default_error_messages["does_not_exist"] = (
    "There is none with the number {pk_value}."
)
serializers.SlugRelatedField.default_error_messages["does_not_exist"] = "There is none called “{value}”."


class StrictSerializer(serializers.Serializer[Any]):
    """A serializer that refuses fields it does not know, naming them."""

    def to_internal_value(self, data: Any) -> Any:
        unknown = set(data) - set(self.fields) if isinstance(data, dict) else set()
        if unknown:
            known = ", ".join(sorted(self.fields))
            raise serializers.ValidationError(
                {u: [f"This field is not known here; known are {known}."] for u in unknown}
            )
        return super().to_internal_value(data)


class SentencePart(serializers.Serializer[Any]):
    """A piece of a sentence; `slot` is empty for the words between slots."""

    slot = serializers.CharField()
    text = serializers.CharField()


class NamedThing(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    name = serializers.CharField()


class TimeSpan(serializers.Serializer[Any]):
    """[starts_at, ends_at)."""

    starts_at = serializers.DateTimeField()
    ends_at = serializers.DateTimeField()


def next_page(rows: list[Any], limit: int) -> tuple[list[Any], Any]:
    """Of `limit` + 1 rows asked for: the page, and its last row if there are more."""
    return (rows[:limit], rows[limit - 1]) if len(rows) > limit else (rows, None)


def read_number(text: str | None) -> int | None:
    """A whole number from a query parameter; None where it is missing or no number that an id could be."""
    return int(text) if text and text.isascii() and text.isdigit() and len(text) <= 18 else None


def read_limit(value: str | None, *, default: int = 100, most: int = 1000) -> int:
    """A page size from a query parameter, within bounds."""
    number = read_number(value)
    return default if number is None else max(1, min(most, number))


def valid(serializer: serializers.BaseSerializer[Any]) -> dict[str, Any]:
    """What a request holds, checked; every error is raised at once."""
    serializer.is_valid(raise_exception=True)
    return dict(serializer.validated_data)


def read_moment(text: str | None, name: str) -> datetime:
    """An instant from a query parameter, in ISO 8601 with its offset.

    Raises:
        Invalid: it is none, or does not say its clock.
    """
    try:
        moment = datetime.fromisoformat(text or "")
    except ValueError as error:
        raise Invalid(f"/{name}", "An instant is expected, like 2026-11-23T14:32:00Z.") from error
    if moment.tzinfo is None:
        raise Invalid(f"/{name}", "The instant must say its offset from UTC, like 2026-11-23T14:32:00Z.")
    try:
        return moment.astimezone(UTC)  # the database does not know each offset that may be written
    except OverflowError as error:
        raise Invalid(f"/{name}", "No instant lies there in UTC; dates are of the years 1 to 9999.") from error
