"""Signing in and out."""

from datetime import timedelta
from typing import Any

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from drf_spectacular.authentication import SessionScheme
from drf_spectacular.utils import extend_schema
from rest_framework import exceptions, serializers
from rest_framework.authentication import SessionAuthentication
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import StrictSerializer, valid
from herald.limits.services import limits_of_people
from herald.people import second_factor
from herald.people.addresses import client_address
from herald.people.models import ABILITIES, Ability, OpenSession, Role, User
from herald.people.sessions import end_sessions, note_sign_in
from herald.people.set_up_first import is_marked, is_wanted_of, mark
from herald.people.throttling import note_failure, note_success, wait_before
from herald.record.services import record
from herald.time import clock


class CsrfAlways(SessionAuthentication):
    """Checks the CSRF token of anonymous requests too, so that nobody is signed in by another site."""

    def authenticate(self, request: Request) -> Any:
        self.enforce_csrf(request)
        return super().authenticate(request)


class CsrfAlwaysScheme(SessionScheme):  # type: ignore[no-untyped-call]  # found by drf-spectacular by being defined
    target_class = CsrfAlways
    name = "sessionCookie"


class Me(serializers.ModelSerializer[User]):
    """Who is signed in, and what the role may change. An administrator who stands in for an approver has until when."""

    abilities = serializers.SerializerMethodField()
    stands_in_until = serializers.DateTimeField(allow_null=True)
    limits = serializers.SerializerMethodField()

    class Meta:
        model = User
        fields = ("id", "email", "name", "role", "limits", "time_zone", "abilities", "stands_in_until")

    def get_limits(self, user: User) -> str | None:
        """What somebody is limited to, in words."""
        found = limits_of_people([user]).get(user.pk)
        return found.words if found else None

    def get_abilities(self, user: User) -> list[str]:
        own = ABILITIES[Role(user.role)]
        return sorted(a.value for a in Ability if a in own or user.may(a))


class SignInBody(StrictSerializer):
    email = serializers.EmailField()
    password = serializers.CharField(trim_whitespace=False)
    #: of the app, or a recovery code, where the account has a second factor
    code = serializers.CharField(max_length=40, allow_blank=True, default="")


class CodeWanted(exceptions.AuthenticationFailed):
    """The password is right, and a code is wanted besides."""

    default_code = "second-factor"


class SessionState(serializers.Serializer[Any]):
    """`csrf` goes into the header X-CSRFToken of every call that changes something. While `sets_up_first`, the session
    opens only what setting up a passkey or a second factor takes."""

    user = Me(allow_null=True)
    sets_up_first = serializers.BooleanField()
    csrf = serializers.CharField()
    demo = serializers.BooleanField()


class SessionView(APIView):
    """The session: who is signed in, signing in, signing out."""

    permission_classes = (AllowAny,)
    needs = Ability.OWN

    def get_authenticators(self) -> Any:
        return (
            [CsrfAlways()] if self.request and self.request.method in ("POST", "DELETE") else [SessionAuthentication()]
        )

    @extend_schema(operation_id="session_retrieve", responses=SessionState)
    def get(self, request: Request) -> Response:
        return Response(session_state(request, request.user))

    @extend_schema(operation_id="session_sign_in", request=SignInBody, responses=SessionState)
    def post(self, request: Request) -> Response:
        body = valid(SignInBody(data=request.data))
        email, address = body["email"].lower(), client_address(request._request)
        wait = wait_before(email, address)
        if wait > timedelta(0):
            raise exceptions.Throttled(wait.total_seconds(), "Too many sign-ins failed; wait a moment.")
        user = authenticate(request, username=email, password=body["password"])
        if user is None:
            note_failure(email, address)
            raise exceptions.AuthenticationFailed("No account has this e-mail address and password.")
        is_strong = isinstance(user, User) and second_factor.has_second_factor(user)
        if isinstance(user, User) and is_strong:
            if not body["code"]:
                raise CodeWanted("This account has a second factor: send the code that the app shows, too.")
            if not second_factor.holds(user, body["code"], now=clock.now(), real_now=second_factor.real_time()):
                note_failure(email, address)
                raise CodeWanted("This is neither the code that the app shows now nor an unused recovery code.")
        note_success(email, address)
        if isinstance(user, User):
            if not is_strong and is_wanted_of(user) and user.passkeys.exists():
                raise exceptions.AuthenticationFailed("A password alone is not enough here: sign in with your passkey.")
            enter(request, user, f"Signed in from {address}", is_strong=is_strong)
        return Response(session_state(request, user))

    @extend_schema(operation_id="session_sign_out", request=None, responses={200: SessionState})
    def delete(self, request: Request) -> Response:
        user = request.user
        if isinstance(user, User):
            end_sessions(OpenSession.objects.filter(key=request._request.session.session_key or ""))
            record(now=clock.now(), actor=user, kind="user", object_id=user.pk, sentence="Signed out")
        logout(request)
        return Response(session_state(request, None))


def enter(request: Request, user: User, sentence: str = "", *, is_strong: bool) -> None:
    """Sign somebody in whose proof was looked at, and put it on record; `is_strong` where that was a passkey, or a code
    besides the password."""
    login(request._request, user, backend="django.contrib.auth.backends.ModelBackend")
    mark(request._request, user, is_strong=is_strong)
    note_sign_in(request._request, user, is_strong=is_strong)
    if sentence:
        record(now=clock.now(), actor=user, kind="user", object_id=user.pk, sentence=sentence)


def session_state(request: Request, user: Any) -> Any:
    """Who is signed in, as the answer of every call that changes it."""
    known = user if isinstance(user, User) else None
    state = {
        "user": known,
        "sets_up_first": known is not None and is_marked(request._request),
        "csrf": get_token(request._request),
        "demo": settings.DEMO,
    }
    return SessionState(state).data


class Health(serializers.Serializer[Any]):
    """`now` is the installation's time, which passes `speed` times as fast as life."""

    ok = serializers.BooleanField()
    now = serializers.DateTimeField()
    speed = serializers.FloatField()
    demo = serializers.BooleanField()


class HealthView(APIView):
    """Whether the server answers and reaches its database."""

    permission_classes = (AllowAny,)
    authentication_classes = ()

    @extend_schema(operation_id="health", responses=Health)
    def get(self, request: Request) -> Response:
        User.objects.exists()  # asks the database
        return Response(Health({"ok": True, "now": clock.now(), "speed": clock.speed, "demo": settings.DEMO}).data)
