"""Calls about enrolment codes."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.catalog import codes
from herald.fleet.models import EnrolmentCode
from herald.http.fields import StrictSerializer, valid
from herald.people.models import Ability
from herald.people.permissions import person
from herald.time import clock


class CodeRow(serializers.ModelSerializer[EnrolmentCode]):
    """An enrolment code, without its letters."""

    site = serializers.CharField(source="site.name", default=None, allow_null=True)
    custodian = serializers.CharField(source="custodian.name", default=None, allow_null=True)

    class Meta:
        model = EnrolmentCode
        fields = (
            "id",
            "label",
            "admit",
            "known_only",
            "tags",
            "attributes",
            "site",
            "custodian",
            "uses_left",
            "expires_at",
        )


class NewCode(CodeRow):
    """A new code with its letters, which are told this once."""

    code = serializers.CharField()

    class Meta(CodeRow.Meta):
        fields = (*CodeRow.Meta.fields, "code")


class CodeDraftBody(StrictSerializer):
    """A new code. `known_only` lets only devices use it that were imported beforehand."""

    label = serializers.CharField(max_length=80)
    admit = serializers.BooleanField(default=False)
    known_only = serializers.BooleanField(default=False)
    tags = serializers.ListField(child=serializers.CharField(), default=list)
    attributes = serializers.DictField(default=dict)
    site = serializers.CharField(allow_blank=True, default="")
    custodian = serializers.CharField(allow_blank=True, default="")
    uses = serializers.IntegerField(min_value=1, max_value=1_000_000, allow_null=True, default=None)
    expires_at = serializers.DateTimeField(allow_null=True, default=None)


class CodeListView(APIView):
    """The codes that new devices may show."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="codes_list", responses=CodeRow(many=True))
    def get(self, request: Request) -> Response:
        found = EnrolmentCode.objects.select_related("site", "custodian").order_by("label")
        return Response(CodeRow(found, many=True).data)

    @extend_schema(operation_id="codes_create", request=CodeDraftBody, responses={201: NewCode})
    def post(self, request: Request) -> Response:
        draft: dict[str, Any] = valid(CodeDraftBody(data=request.data))
        code, letters = codes.make_code(codes.CodeDraft(**draft), actor=person(request), now=clock.now())
        made: Any = code
        made.code = letters
        return Response(NewCode(made).data, status=201)


class CodeView(APIView):
    """One code."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="codes_revoke", responses={204: None})
    def delete(self, request: Request, code_id: int) -> Response:
        codes.revoke_code(get_object_or_404(EnrolmentCode, pk=code_id), actor=person(request), now=clock.now())
        return Response(status=204)
