"""Calls for whoever follows the link of an invitation: who is invited to what, and making the account."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.errors import NotFound
from herald.http.fields import StrictSerializer, valid
from herald.people import accounts, passkeys, second_factor
from herald.people.api.passkeys import site
from herald.people.api.slowing import slowed
from herald.people.api.views import CsrfAlways, SessionState, enter, session_state
from herald.people.models import Ability, Role
from herald.time import clock

#: those who guess at links are slowed down as those who guess at passwords are
_GUESSING = ("invitation", NotFound, "Too many links were tried")


class Welcome(serializers.Serializer[Any]):
    """What an invitation is for."""

    email = serializers.CharField()
    role = serializers.ChoiceField(choices=Role.choices)
    #: whose account is opened anew; null where one is to be made
    name = serializers.CharField(source="person.name", default=None, allow_null=True)
    invited_by = serializers.CharField(source="invited_by.name", default=None, allow_null=True)
    expires_at = serializers.DateTimeField()


class AcceptBody(StrictSerializer):
    """Who accepts: the name that the record shows, the clock in which to show times, and a password, or a passkey that
    the browser has made, as `PublicKeyCredential.toJSON` tells it. Where an account is opened anew, its name and clock
    stay as they are."""

    name = serializers.CharField(max_length=accounts.LONGEST_NAME, allow_blank=True, default="")
    password = serializers.CharField(trim_whitespace=False, max_length=200, allow_blank=True, default="")
    passkey = serializers.DictField(allow_null=True, default=None)
    time_zone = serializers.CharField(max_length=64, allow_blank=True, default="")


class WelcomeView(APIView):
    """An invitation, for whoever has its link: the secret in it stands for signing in."""

    permission_classes = (AllowAny,)
    needs = Ability.OWN

    def get_authenticators(self) -> Any:
        return [CsrfAlways()] if self.request and self.request.method == "POST" else []

    @extend_schema(operation_id="welcome_retrieve", responses=Welcome)
    def get(self, request: Request, secret: str) -> Response:
        with slowed(request, *_GUESSING):
            return Response(Welcome(accounts.invitation_by(secret, now=clock.now())).data)

    @extend_schema(operation_id="welcome_accept", request=AcceptBody, responses={201: SessionState})
    def post(self, request: Request, secret: str) -> Response:
        body = valid(AcceptBody(data=request.data))
        now, made = clock.now(), body.pop("passkey")
        with slowed(request, *_GUESSING):
            accounts.invitation_by(secret, now=now)  # nothing else is told about a link that opens nothing
            passkey = None
            if made is not None:
                real_now = second_factor.real_time()
                passkey = passkeys.made_for_invitation(secret, made, site(request), now=now, real_now=real_now)
            user = accounts.accept(secret, **body, now=now, passkey=passkey)
        enter(request, user, is_strong=made is not None)
        return Response(session_state(request, user), status=201)
