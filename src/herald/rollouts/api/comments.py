"""Calls about comments on rollouts."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response

from herald.people.permissions import WHOLE
from herald.record.api.comments import CommentBody, CommentRow, CommentsView
from herald.record.models import Kind
from herald.rollouts.models import Rollout


class RolloutCommentsView(CommentsView):
    """What people said about a rollout."""

    within_limits = WHOLE
    kind = Kind.ROLLOUT

    def check(self, object_id: int) -> None:
        get_object_or_404(Rollout, pk=object_id)

    @extend_schema(operation_id="rollouts_comments", responses=CommentRow(many=True))
    def get(self, request: Request, rollout_id: int) -> Response:
        return self.listed(rollout_id)

    @extend_schema(operation_id="rollouts_comment", request=CommentBody, responses={201: CommentRow})
    def post(self, request: Request, rollout_id: int) -> Response:
        return self.added(request, rollout_id)
