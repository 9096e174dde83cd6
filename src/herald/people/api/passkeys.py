"""Calls about passkeys: one's own, and signing in with one."""

from datetime import datetime
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import exceptions, serializers
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import StrictSerializer, valid
from herald.people import accounts, passkeys, second_factor
from herald.people.addresses import client_address
from herald.people.api.slowing import proving, slowed
from herald.people.api.views import CsrfAlways, SessionState, enter, session_state
from herald.people.models import Ability, Passkey
from herald.people.permissions import WHOLE, Tokens, person
from herald.people.set_up_first import unmark
from herald.time import clock


class PasskeyRow(serializers.ModelSerializer[Passkey]):
    class Meta:
        model = Passkey
        fields = ("id", "name", "added_at", "used_at")


class OwnPasskeys(serializers.Serializer[Any]):
    """One's passkeys, and whether one has a password besides."""

    passkeys = PasskeyRow(many=True)
    has_password = serializers.BooleanField()


class ProofBody(StrictSerializer):
    """Who one is, as whoever sits at an open session is not always who signed in: the password, or, where one has none,
    what the browser answers to `session_passkey_options`."""

    password = serializers.CharField(trim_whitespace=False, max_length=200, allow_blank=True, default="")
    assertion = serializers.DictField(allow_null=True, default=None)


class NewPasskeyBody(StrictSerializer):
    """A passkey that the browser has made, as `PublicKeyCredential.toJSON` tells it."""

    name = serializers.CharField(max_length=passkeys.LONGEST_NAME)
    credential = serializers.DictField()


class AssertionBody(StrictSerializer):
    """What the browser answers with a passkey, as `PublicKeyCredential.toJSON` tells it."""

    assertion = serializers.DictField()


class PasskeyOptions(serializers.Serializer[Any]):
    """What the browser's `navigator.credentials` is asked with, in WebAuthn's JSON."""

    options = serializers.DictField()


def prove(request: Request, body: Any) -> None:
    """Hold a `ProofBody` against whoever is signed in; NotProved where it does not fit."""
    with proving(request):
        passkeys.prove(person(request), body["password"], body["assertion"], site(request), **_moment())


def site(request: Request) -> passkeys.PasskeySite:
    """The site by whose name the request came."""
    return passkeys.site_of(request._request.get_host())


class OwnPasskeyListView(APIView):
    """One's own passkeys."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN
    sets_up_second_factor = True

    @extend_schema(operation_id="own_passkeys", responses=OwnPasskeys)
    def get(self, request: Request) -> Response:
        return _own(request)

    @extend_schema(operation_id="own_passkeys_add", request=NewPasskeyBody, responses={201: OwnPasskeys})
    def post(self, request: Request) -> Response:
        body = valid(NewPasskeyBody(data=request.data))
        passkeys.add(
            person(request),
            body["name"],
            body["credential"],
            site(request),
            session_key=request._request.session.session_key,
            **_moment(),
        )
        unmark(request._request)
        return _own(request, status=201)


class OwnPasskeyOptionsAction(APIView):
    """What the browser needs to make a passkey."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN
    sets_up_second_factor = True

    @extend_schema(operation_id="own_passkeys_options", request=ProofBody, responses=PasskeyOptions)
    def post(self, request: Request) -> Response:
        prove(request, valid(ProofBody(data=request.data)))
        options = passkeys.options_to_add(person(request), site(request), real_now=second_factor.real_time())
        return Response(PasskeyOptions({"options": options}).data)


class OwnPasskeyRemoveAction(APIView):
    """Removing one of them."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_passkeys_remove", request=ProofBody, responses=OwnPasskeys)
    def post(self, request: Request, passkey_id: int) -> Response:
        prove(request, valid(ProofBody(data=request.data)))
        passkeys.remove(person(request), passkey_id, now=clock.now())
        return _own(request)


class SessionPasskeyView(APIView):
    """Signing in with a passkey, without saying who one is."""

    permission_classes = (AllowAny,)
    authentication_classes = (CsrfAlways,)
    needs = Ability.OWN

    @extend_schema(operation_id="session_passkey", request=AssertionBody, responses=SessionState)
    def post(self, request: Request) -> Response:
        body = valid(AssertionBody(data=request.data))
        address = client_address(request._request)
        try:
            with slowed(request, "passkey", passkeys.Refused, "Too many sign-ins failed"):
                user = passkeys.person_by(body["assertion"], site(request), **_moment())
        except passkeys.Refused:
            raise exceptions.AuthenticationFailed("No account here opens by this passkey.") from None
        enter(request, user, f"Signed in with a passkey from {address}", is_strong=True)
        return Response(session_state(request, user))


class SessionPasskeyOptionsAction(APIView):
    """What the browser needs to ask for a passkey."""

    permission_classes = (AllowAny,)
    authentication_classes = (CsrfAlways,)
    needs = Ability.OWN
    changes_nothing = True

    @extend_schema(operation_id="session_passkey_options", request=None, responses=PasskeyOptions)
    def post(self, request: Request) -> Response:
        options = passkeys.options_to_sign_in(site(request), real_now=second_factor.real_time())
        return Response(PasskeyOptions({"options": options}).data)


class WelcomePasskeyOptionsAction(APIView):
    """What the browser of whoever accepts an invitation needs to make a passkey."""

    permission_classes = (AllowAny,)
    authentication_classes = (CsrfAlways,)
    needs = Ability.OWN
    changes_nothing = True

    @extend_schema(operation_id="welcome_passkey_options", request=None, responses=PasskeyOptions)
    def post(self, request: Request, secret: str) -> Response:
        invitation = accounts.invitation_by(secret, now=clock.now())
        options = passkeys.options_to_accept(
            invitation.email, secret, site(request), real_now=second_factor.real_time()
        )
        return Response(PasskeyOptions({"options": options}).data)


def _moment() -> dict[str, datetime]:
    return {"now": clock.now(), "real_now": second_factor.real_time()}


def _own(request: Request, status: int = 200) -> Response:
    user = person(request)
    own = {"passkeys": user.passkeys.order_by("added_at", "pk"), "has_password": user.has_usable_password()}
    return Response(OwnPasskeys(own).data, status=status)
