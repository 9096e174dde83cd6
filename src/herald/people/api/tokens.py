"""API tokens for scripts."""

from typing import Any

from drf_spectacular.extensions import OpenApiAuthenticationExtension
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import StrictSerializer, valid
from herald.limits.services import limits_of_tokens, make_scoped_token, read_limits
from herald.people import tokens
from herald.people.api.people import LimitsBody
from herald.people.models import Ability, ApiToken
from herald.people.permissions import WHOLE, Tokens, person
from herald.time import clock


class ApiTokenScheme(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]  # found by being defined
    target_class = tokens.TokenAuthentication
    name = "apiToken"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        return {"type": "http", "scheme": "bearer"}


class TokenRow(serializers.ModelSerializer[ApiToken]):
    """A token of one's own: what it is for, what it opens, since when and until when, and when it was used last. The
    letters are shown once, as it is made. `limits` say in words what it is limited to; null where it opens all that its
    owner sees."""

    limits = serializers.SerializerMethodField()
    created_at = serializers.DateTimeField(source="token.created")
    expires_at = serializers.DateTimeField(source="token.expiry", allow_null=True)

    class Meta:
        model = ApiToken
        fields = ("id", "name", "reads_only", "limits", "created_at", "expires_at", "used_at")

    def get_limits(self, token: ApiToken) -> str | None:
        """What it is limited to, in words."""
        found = self.context["limits"].get(token.pk)
        return found.words if found else None


class NewTokenBody(StrictSerializer):
    """What a token is for, whether it only reads, what it is limited to (null: nothing but what its owner is), and
    after how many days it expires; no number is never."""

    name = serializers.CharField(max_length=80)
    days = serializers.IntegerField(min_value=1, max_value=3650, allow_null=True, default=90)
    reads_only = serializers.BooleanField(default=False)
    limits = LimitsBody(allow_null=True, default=None)


class NewToken(serializers.Serializer[Any]):
    """A token, shown this once."""

    token = serializers.CharField()


class TokenListView(APIView):
    """API tokens for scripts, one's own: they open what their owner may, or less."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="tokens_list", responses=TokenRow(many=True))
    def get(self, request: Request) -> Response:
        rows = list(tokens.tokens_of(person(request)))
        return Response(TokenRow(rows, many=True, context={"limits": limits_of_tokens(rows)}).data)

    @extend_schema(operation_id="tokens_create", request=NewTokenBody, responses={201: NewToken})
    def post(self, request: Request) -> Response:
        body = valid(NewTokenBody(data=request.data))
        limits = body["limits"]
        letters = make_scoped_token(
            person(request),
            name=body["name"],
            days=body["days"],
            reads_only=body["reads_only"],
            limits=read_limits(limits["folders"], limits["sites"]) if limits is not None else None,
            now=clock.now(),
        )
        return Response(NewToken({"token": letters}).data, status=201)


class TokenView(APIView):
    """One token of one's own."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="tokens_revoke", responses={204: None})
    def delete(self, request: Request, token_id: int) -> Response:
        tokens.revoke_token(person(request), token_id, now=clock.now())
        return Response(status=204)
