"""Pages of a list, the newest first: a list that is cut says how many there are, and how to go on."""

from typing import Any, TypeVar

from django.db.models import Model, QuerySet
from drf_spectacular.utils import OpenApiParameter
from rest_framework import serializers
from rest_framework.request import Request

from herald.http.fields import next_page, read_limit, read_number

M = TypeVar("M", bound=Model)

#: the parameters of a list in pages
PAGE = [
    OpenApiParameter("cursor", int, description="`next` of the page before"),
    OpenApiParameter("limit", int, description="1 to 1000, 100 if left out"),
]


def page_of(name: str, row: type[serializers.BaseSerializer[Any]], rows: str) -> type[serializers.Serializer[Any]]:
    """The answer of a list in pages: `count` of all, the rows under their name, and `next` for `cursor`."""
    fields: dict[str, Any] = {
        "__doc__": f"A page of {rows}. `next` goes into `cursor` for the following one; null, where there is none.",
        "count": serializers.IntegerField(),
        rows: row(many=True),
        "next": serializers.IntegerField(allow_null=True),
    }
    return type(name, (serializers.Serializer,), fields)


def newest_first(found: "QuerySet[M]", request: Request) -> tuple[list[M], int, int | None]:
    """A page of what was found, by ids downwards; how many there are; and the cursor of the next page."""
    params = request.query_params
    limit, cursor = read_limit(params.get("limit")), read_number(params.get("cursor"))
    page = found if cursor is None else found.filter(pk__lt=cursor)
    rows, last = next_page(list(page.order_by("-pk")[: limit + 1]), limit)
    return rows, found.order_by().count(), last.pk if last else None
