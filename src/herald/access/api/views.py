"""Signing in and out, and API tokens."""

from typing import Any

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from drf_spectacular.authentication import SessionScheme
from drf_spectacular.utils import extend_schema
from knox.models import AuthToken
from rest_framework import exceptions, serializers
from rest_framework.authentication import SessionAuthentication
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from herald.access.models import User
from herald.api.fields import Strict, valid
from herald.clock.source import clock


class CsrfAlways(SessionAuthentication):
    """Checks the CSRF token of anonymous requests too, so that nobody is signed in by another site."""

    def authenticate(self, request: Request) -> Any:
        self.enforce_csrf(request)
        return super().authenticate(request)


class CsrfAlwaysScheme(SessionScheme):  # type: ignore[no-untyped-call]  # found by drf-spectacular by being defined
    target_class = CsrfAlways
    name = "sessionCookie"


class Me(serializers.ModelSerializer[User]):
    """Who is signed in."""

    class Meta:
        model = User
        fields = ("id", "email", "name", "role", "time_zone")


class SignInBody(Strict):
    email = serializers.EmailField()
    password = serializers.CharField(trim_whitespace=False)


class SessionState(serializers.Serializer[Any]):
    """`csrf` goes into the header X-CSRFToken of every call that changes something."""

    user = Me(allow_null=True)
    csrf = serializers.CharField()
    demo = serializers.BooleanField()


class SessionView(APIView):
    """The session: who is signed in, signing in, signing out."""

    permission_classes = (AllowAny,)
    throttle_scope = "sign-in"

    def get_authenticators(self) -> Any:
        return (
            [CsrfAlways()] if self.request and self.request.method in ("POST", "DELETE") else [SessionAuthentication()]
        )

    def get_throttles(self) -> Any:
        return [ScopedRateThrottle()] if self.request.method == "POST" else []

    @extend_schema(operation_id="session_retrieve", responses=SessionState)
    def get(self, request: Request) -> Response:
        return Response(_state(request, request.user))

    @extend_schema(operation_id="session_sign_in", request=SignInBody, responses=SessionState)
    def post(self, request: Request) -> Response:
        body = valid(SignInBody(data=request.data))
        user = authenticate(request, username=body["email"].lower(), password=body["password"])
        if user is None:
            raise exceptions.AuthenticationFailed("No account has this e-mail address and password.")
        login(request, user)
        return Response(_state(request, user))

    @extend_schema(operation_id="session_sign_out", request=None, responses=SessionState)
    def delete(self, request: Request) -> Response:
        logout(request)
        return Response(_state(request, None))


def _state(request: Request, user: Any) -> Any:
    known = user if isinstance(user, User) else None
    state = {"user": known, "csrf": get_token(request._request), "demo": settings.DEMO}
    return SessionState(state).data


class NewToken(serializers.Serializer[Any]):
    """A token, shown this once."""

    token = serializers.CharField()


class TokenListView(APIView):
    """API tokens for scripts."""

    changes_nothing = True  # a reader's token may only read

    @extend_schema(operation_id="tokens_create", request=None, responses={201: NewToken})
    def post(self, request: Request) -> Response:
        _, token = AuthToken.objects.create(request.user)
        return Response(NewToken({"token": token}).data, status=201)


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
