"""Queries that are compiled once: they ask what Django would have asked, or are refused when they are made."""

from datetime import timedelta
from typing import Any

import pytest
from django.db import connection
from django.db.models import F
from django.db.models.sql import Query
from django.test.utils import CaptureQueriesContext

from herald.db.compiled import Compiled, update_of
from herald.fleet.models import Device
from tests.factories import NOW, make_device

pytestmark = pytest.mark.django_db
LATER = NOW + timedelta(days=1)


def heard_since(ids: list[int], moment: Any) -> Query:
    return Device.objects.by_ids(ids).filter(last_check_in__gte=moment, admission="admitted").values_list("id").query


def test_each_use_puts_its_own_parameters_in() -> None:
    a, b = make_device(last_check_in=NOW), make_device(last_check_in=LATER)
    query = Compiled(heard_since, ([1], NOW), ([2], LATER))
    assert sorted(query.rows([a.pk, b.pk], NOW)) == [(a.pk,), (b.pk,)]
    assert query.rows([a.pk, b.pk], LATER) == [(b.pk,)]
    assert query.rows([a.pk], LATER) == []
    assert query.rows([], NOW) == []


def test_it_is_the_query_that_django_would_have_run() -> None:
    query = Compiled(heard_since, ([1], NOW), ([2], LATER))
    with CaptureQueriesContext(connection) as asked:
        query.rows([7, 8], LATER)
        list(Device.objects.by_ids([7, 8]).filter(last_check_in__gte=LATER, admission="admitted").values_list("id"))
    assert asked[0]["sql"] == asked[1]["sql"]


def test_rows_are_changed_and_counted() -> None:
    a, b = make_device(boots=1), make_device(boots=5)
    query = Compiled(
        lambda ids, moment: update_of(Device.objects.by_ids(ids), last_check_in=moment, boots=F("boots") + 1),
        ([1], NOW),
        ([2], LATER),
    )
    assert query.change([a.pk], NOW) == 1
    assert query.change([a.pk, b.pk], LATER) == 2
    assert [(d.boots, d.last_check_in) for d in Device.objects.order_by("boots")] == [(3, LATER), (6, LATER)]


def test_a_parameter_that_is_computed_with_is_refused() -> None:
    query = Compiled(
        lambda moment: Device.objects.filter(last_check_in__gte=moment - timedelta(hours=1)).query, (NOW,), (LATER,)
    )
    with pytest.raises(ValueError, match="computed"):
        query.rows(NOW)


def test_a_text_that_depends_on_its_parameters_is_refused() -> None:
    query = Compiled(lambda admissions: Device.objects.filter(admission__in=admissions).query, (["a"],), (["b", "c"],))
    with pytest.raises(ValueError, match="depends"):
        query.rows(["admitted"])
