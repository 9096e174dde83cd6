"""Calls about one's own account: name and clock, password, where one is signed in."""

from typing import Any

from django.contrib.auth import update_session_auth_hash
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import StrictSerializer, valid
from herald.people import own, passkeys, second_factor
from herald.people.accounts import LONGEST_NAME
from herald.people.api.passkeys import site
from herald.people.api.slowing import proving
from herald.people.api.views import Me
from herald.people.models import Ability, OpenSession
from herald.people.permissions import WHOLE, Tokens, person
from herald.people.sessions import end_session, end_sessions, sessions_of
from herald.people.set_up_first import unmark
from herald.time import clock


class OwnChange(StrictSerializer):
    """One's name as the record shows it, and the clock in which one is shown times."""

    name = serializers.CharField(max_length=LONGEST_NAME)
    time_zone = serializers.CharField(max_length=64)


class PasswordBody(StrictSerializer):
    """A new password by the current one; whoever has none yet shows by a passkey who they are: `assertion` is what the
    browser answers to `session_passkey_options`."""

    current = serializers.CharField(trim_whitespace=False, max_length=200, allow_blank=True, default="")
    assertion = serializers.DictField(allow_null=True, default=None)
    new = serializers.CharField(trim_whitespace=False, max_length=200)


class SessionsEnded(serializers.Serializer[Any]):
    """How many other sessions ended by it."""

    ended = serializers.IntegerField()


class SessionRow(serializers.ModelSerializer[OpenSession]):
    """Where one is signed in; `is_this` is the session that asks."""

    is_this = serializers.SerializerMethodField()

    class Meta:
        model = OpenSession
        fields = ("id", "began_at", "seen_at", "address", "agent", "is_this")

    def get_is_this(self, row: OpenSession) -> bool:
        return bool(row.key == self.context.get("key"))


class OwnView(APIView):
    """One's own account."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_change", request=OwnChange, responses=Me)
    def put(self, request: Request) -> Response:
        body = valid(OwnChange(data=request.data))
        return Response(Me(own.change_own(person(request), **body, now=clock.now())).data)


class OwnPasswordAction(APIView):
    """A new password; every other session ends."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_password", request=PasswordBody, responses=SessionsEnded)
    def post(self, request: Request) -> Response:
        body = valid(PasswordBody(data=request.data))
        user, key, now, assertion = person(request), _key(request), clock.now(), body.pop("assertion")
        is_proved = not user.has_usable_password()
        with proving(request):
            if is_proved:
                passkeys.prove(user, "", assertion, site(request), now=now, real_now=second_factor.real_time())
            ended = own.change_password(user, **body, session_key=key, now=now, is_proved=is_proved)
        if key is not None:
            update_session_auth_hash(request._request, user)  # gives this session another key
            OpenSession.objects.filter(key=key).update(key=_key(request))
        return Response(SessionsEnded({"ended": ended}).data)


class OwnSessionListView(APIView):
    """Where one is signed in."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_sessions", responses=SessionRow(many=True))
    def get(self, request: Request) -> Response:
        rows = SessionRow(sessions_of(person(request)), many=True, context={"key": _key(request)})
        return Response(rows.data)


class OwnSessionView(APIView):
    """One of one's own sessions."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_session_end", responses={204: None})
    def delete(self, request: Request, session_id: int) -> Response:
        end_session(person(request), session_id)
        return Response(status=204)


class OwnSessionsEndOthersAction(APIView):
    """Sign out everywhere but here."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_sessions_end_others", request=None, responses=SessionsEnded)
    def post(self, request: Request) -> Response:
        others = OpenSession.objects.filter(user=person(request)).exclude(key=_key(request) or "")
        return Response(SessionsEnded({"ended": end_sessions(others)}).data)


def _key(request: Request) -> str | None:
    key: str | None = request._request.session.session_key
    return key


class SecondFactorState(serializers.Serializer[Any]):
    """Whether one signs in with a code besides the password: since when, and how many recovery codes are left."""

    since = serializers.DateTimeField(allow_null=True)
    recovery_codes = serializers.IntegerField()


class OwnPasswordBody(StrictSerializer):
    """One's password, as whoever sits at an open session is not always who signed in."""

    password = serializers.CharField(trim_whitespace=False, max_length=200)


class CodeBody(StrictSerializer):
    code = serializers.CharField(max_length=40)


class TakeOffBody(OwnPasswordBody):
    """`code` is the app's of now, or a recovery code."""

    code = serializers.CharField(max_length=40)


class SecondFactorSetup(serializers.Serializer[Any]):
    """What an app needs to make codes, told this once: to type, as an address, and as a picture of that, which is a
    data address."""

    secret = serializers.CharField()
    address = serializers.CharField()
    picture = serializers.CharField()


class RecoveryCodes(serializers.Serializer[Any]):
    """Codes that open once each for whoever has lost their app; told this once."""

    codes = serializers.ListField(child=serializers.CharField())


class OwnSecondFactorView(APIView):
    """One's own second factor: whether it is on, and setting it up."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN
    sets_up_second_factor = True

    @extend_schema(operation_id="own_second_factor", responses=SecondFactorState)
    def get(self, request: Request) -> Response:
        return Response(SecondFactorState(second_factor.standing(person(request))).data)

    @extend_schema(operation_id="own_second_factor_begin", request=OwnPasswordBody, responses=SecondFactorSetup)
    def post(self, request: Request) -> Response:
        body = valid(OwnPasswordBody(data=request.data))
        with proving(request):
            begun = second_factor.begin(person(request), body["password"])
        return Response(SecondFactorSetup(begun).data)


class OwnSecondFactorConfirmAction(APIView):
    """Turning it on with a first code; every other session ends."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN
    sets_up_second_factor = True

    @extend_schema(operation_id="own_second_factor_confirm", request=CodeBody, responses=RecoveryCodes)
    def post(self, request: Request) -> Response:
        code = valid(CodeBody(data=request.data))["code"]
        codes = second_factor.confirm(
            person(request), code, session_key=_key(request), now=clock.now(), real_now=second_factor.real_time()
        )
        unmark(request._request)
        return Response(RecoveryCodes({"codes": codes}).data)


class OwnRecoveryCodesAction(APIView):
    """New recovery codes in the place of all from before."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_recovery_codes", request=OwnPasswordBody, responses=RecoveryCodes)
    def post(self, request: Request) -> Response:
        body = valid(OwnPasswordBody(data=request.data))
        with proving(request):
            codes = second_factor.renew_codes(person(request), body["password"], now=clock.now())
        return Response(RecoveryCodes({"codes": codes}).data)


class OwnSecondFactorTakeOffAction(APIView):
    """Turning it off."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_second_factor_take_off", request=TakeOffBody, responses=SecondFactorState)
    def post(self, request: Request) -> Response:
        body = valid(TakeOffBody(data=request.data))
        with proving(request):
            second_factor.take_off(
                person(request), body["password"], body["code"], now=clock.now(), real_now=second_factor.real_time()
            )
        return Response(SecondFactorState(second_factor.standing(person(request))).data)
