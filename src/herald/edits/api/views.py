"""Calls that edit devices."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.edits import services
from herald.edits.api.serializers import EditPreview, EditRequest, EditRow
from herald.edits.change import RequestedEdit
from herald.edits.models import Edit
from herald.groups.api.agreement import agreement_of
from herald.http.fields import valid
from herald.http.pages import PAGE, newest_first, page_of
from herald.people.permissions import person
from herald.time import clock

EditPage = page_of("EditPage", EditRow, "edits")


class EditListView(APIView):
    """The latest edits, and new ones."""

    @extend_schema(operation_id="edits_list", parameters=PAGE, responses=EditPage)
    def get(self, request: Request) -> Response:
        rows, count, following = newest_first(Edit.objects.select_related("created_by"), request)
        return Response(EditPage({"count": count, "edits": rows, "next": following}).data)

    @extend_schema(operation_id="edits_create", request=EditRequest, responses={201: EditRow})
    def post(self, request: Request) -> Response:
        asked, target = _read(request)
        edit = services.request_edit(
            asked, target, actor=person(request), now=clock.now(), agreement=agreement_of(request)
        )
        return Response(EditRow(edit).data, status=201)


class EditPreviewView(APIView):
    """What an edit would do."""

    changes_nothing = True

    @extend_schema(operation_id="edits_preview", request=EditRequest, responses=EditPreview)
    def post(self, request: Request) -> Response:
        asked, target = _read(request)
        return Response(EditPreview(services.preview_edit(asked, target, now=clock.now())).data)


class EditView(APIView):
    """One edit."""

    @extend_schema(operation_id="edits_retrieve", responses=EditRow)
    def get(self, request: Request, edit_id: int) -> Response:
        return Response(EditRow(get_object_or_404(Edit, pk=edit_id)).data)


class EditUndoAction(APIView):
    """Restore what every device had before the edit."""

    @extend_schema(operation_id="edits_undo", request=None, responses=EditRow)
    def post(self, request: Request, edit_id: int) -> Response:
        edit = services.request_undo(
            get_object_or_404(Edit, pk=edit_id),
            actor=person(request),
            now=clock.now(),
            agreement=agreement_of(request),
        )
        return Response(EditRow(edit).data)


def _read(request: Request) -> tuple[RequestedEdit, services.Target]:
    body: dict[str, Any] = valid(EditRequest(data=request.data))
    return RequestedEdit(**{k: v for k, v in body.items() if k != "target"}), services.Target(**body["target"])
