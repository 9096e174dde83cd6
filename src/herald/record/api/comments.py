"""What the calls about comments of several rooms share."""

from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import StrictSerializer, valid
from herald.people.models import Ability
from herald.people.permissions import person
from herald.record.comments import LONGEST, comment, comments_on
from herald.record.models import Comment, Kind
from herald.time import clock


class CommentRow(serializers.ModelSerializer[Comment]):
    author = serializers.CharField(source="author.name")

    class Meta:
        model = Comment
        fields = ("id", "at", "author", "text")


class CommentBody(StrictSerializer):
    text = serializers.CharField(max_length=LONGEST)


class CommentsView(APIView):
    """The comments on one thing, the latest first; a room says of which kind, and whether there is such a thing."""

    needs = Ability.COMMENT
    kind: Kind

    def check(self, object_id: int) -> None:
        """Refuse an id of which there is nothing.

        Raises:
            Http404: there is no such thing.
        """
        raise NotImplementedError

    def listed(self, object_id: int) -> Response:
        self.check(object_id)
        return Response(CommentRow(comments_on(self.kind, object_id), many=True).data)

    def added(self, request: Request, object_id: int) -> Response:
        self.check(object_id)
        text = valid(CommentBody(data=request.data))["text"]
        made = comment(self.kind, object_id, text, actor=person(request), now=clock.now())
        return Response(CommentRow(made).data, status=201)
