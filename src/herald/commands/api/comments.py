"""Calls about comments on scheduled commands."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response

from herald.commands.models import Schedule
from herald.people.permissions import WHOLE
from herald.record.api.comments import CommentBody, CommentRow, CommentsView
from herald.record.models import Kind


class ScheduleCommentsView(CommentsView):
    """What people said about a scheduled command."""

    within_limits = WHOLE
    kind = Kind.SCHEDULE

    def check(self, object_id: int) -> None:
        get_object_or_404(Schedule, pk=object_id)

    @extend_schema(operation_id="schedules_comments", responses=CommentRow(many=True))
    def get(self, request: Request, schedule_id: int) -> Response:
        return self.listed(schedule_id)

    @extend_schema(operation_id="schedules_comment", request=CommentBody, responses={201: CommentRow})
    def post(self, request: Request, schedule_id: int) -> Response:
        return self.added(request, schedule_id)
