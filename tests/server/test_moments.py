"""Moments come from the database as Django would read them, and by the driver's own code."""

from datetime import UTC, datetime, timedelta, timezone

import psycopg
import pytest
from django.db import DataError, connection
from django.db.models import DateTimeField, Value
from hypothesis import given, settings
from hypothesis import strategies as st

from herald.db.moments import MomentLoader, read_moments_fast
from herald.fleet.models import Site

pytestmark = pytest.mark.django_db


@given(
    st.datetimes(
        min_value=datetime(2, 1, 1),  # noqa: DTZ001 - the zone is drawn beside it
        max_value=datetime(9998, 12, 31),  # noqa: DTZ001
        timezones=st.sampled_from([UTC, timezone(timedelta(hours=5, minutes=45)), timezone(timedelta(hours=-9))]),
    )
)
@settings(max_examples=60)
def test_a_moment_comes_back_as_it_went_and_in_utc(moment: datetime) -> None:
    with connection.cursor() as cursor:
        for zone in ("UTC", "Asia/Kathmandu", "America/St_Johns"):
            cursor.execute("SELECT set_config('TimeZone', %s, false)", [zone])
            try:
                cursor.execute("SELECT %s::timestamptz", [moment])
                (back,) = cursor.fetchone()
            finally:
                cursor.execute("SELECT set_config('TimeZone', 'UTC', false)")
            assert back == moment
            assert back.tzinfo is UTC


def test_every_connection_reads_moments_so_and_the_next_one_too() -> None:
    with connection.cursor() as cursor:
        loader = cursor.connection.adapters.get_loader(
            psycopg.adapters.types["timestamptz"].oid, psycopg.pq.Format.TEXT
        )
        assert loader is MomentLoader
        cursor.execute("SELECT NULL::timestamptz")
        assert cursor.fetchone() == (None,)
    at = datetime(2026, 12, 1, 2, 3, 4, 567, tzinfo=UTC)
    Site.objects.create(name="Moment field")
    row = Site.objects.annotate(at=Value(at, DateTimeField())).get(name="Moment field")
    assert row.at == at


def test_a_moment_that_python_cannot_hold_is_an_error_and_not_another_moment() -> None:
    for text in ("infinity", "20000-01-01 00:00:00+00", "0044-03-15 00:00:00+00 BC"):
        with connection.cursor() as cursor:
            cursor.execute("SELECT %s::timestamptz", [text])
            with pytest.raises(DataError):
                cursor.fetchone()


def test_setting_it_twice_changes_nothing() -> None:
    with connection.cursor():
        read_moments_fast(connection=connection)
        read_moments_fast(connection=connection)
    with connection.cursor() as cursor:
        cursor.execute("SELECT '2026-12-01 00:00+00'::timestamptz")
        assert cursor.fetchone() == (datetime(2026, 12, 1, tzinfo=UTC),)
