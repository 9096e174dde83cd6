"""Calls about people: the list of accounts and invitations, and what administrators do with them."""

import uuid
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any

import structlog
from django.conf import settings
from django.db.models import Count, Exists, OuterRef, Q
from django.http.response import HttpResponseBase
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.errors import Invalid
from herald.http.export import CSV, JSON_LINES, XLSX, Table, as_asked, documented
from herald.http.fields import NamedThing, StrictSerializer, valid
from herald.http.mail import MailError, deliver
from herald.limits.services import Limits, limit_person, limits_of_people, reach_of, read_limits
from herald.people import accounts, second_factor, wanted
from herald.people.models import ABILITIES, Ability, Invitation, Role, User
from herald.people.permissions import WHOLE, person
from herald.time import clock

MOST_AT_ONCE = 100
#: folders, and sites, that a person is limited to
MOST_LIMITS = 200
log = structlog.get_logger()


class LimitsRow(serializers.Serializer[Any]):
    """What a person is limited to; neither folders nor sites is nothing at all."""

    folders = NamedThing(many=True)
    sites = NamedThing(many=True)
    words = serializers.CharField()


class PersonRow(serializers.Serializer[Any]):
    """An account: who may do what, since when, and when they were last seen. `limits` is null for whoever sees
    everything."""

    id = serializers.IntegerField()
    email = serializers.CharField()
    name = serializers.CharField()
    role = serializers.ChoiceField(choices=Role.choices)
    limits = LimitsRow(allow_null=True)
    has_second_factor = serializers.BooleanField()
    passkeys = serializers.IntegerField(source="passkey_count")
    time_zone = serializers.CharField()
    is_active = serializers.BooleanField()
    joined_at = serializers.DateTimeField(allow_null=True)
    seen_at = serializers.DateTimeField(allow_null=True)
    sessions = serializers.IntegerField()
    #: of them, those that began by a password alone
    weak_sessions = serializers.IntegerField()
    tokens = serializers.IntegerField()


class InvitationRow(serializers.ModelSerializer[Invitation]):
    """Somebody who has not made their account yet, or, with `person`, not opened it anew."""

    invited_by = serializers.CharField(source="invited_by.name", default=None, allow_null=True)
    is_limited = serializers.SerializerMethodField()

    class Meta:
        model = Invitation
        fields = ("id", "email", "person", "role", "is_limited", "invited_by", "made_at", "expires_at")

    def get_is_limited(self, invitation: Invitation) -> bool:
        return invitation.limits is not None


class PeopleAnswer(serializers.Serializer[Any]):
    """Who has an account, who is invited to one, and of which roles more than a password is wanted."""

    second_factor_wanted = serializers.ListField(child=serializers.ChoiceField(choices=Role.choices))
    people = PersonRow(many=True)
    invitations = InvitationRow(many=True)


class LimitsBody(StrictSerializer):
    """Folders of groups, and sites, by their ids. Neither is nothing at all."""

    folders = serializers.ListField(child=serializers.IntegerField(min_value=1), max_length=MOST_LIMITS)
    sites = serializers.ListField(child=serializers.IntegerField(min_value=1), max_length=MOST_LIMITS)


class PersonLimits(StrictSerializer):
    """What a person is to be limited to; null lets them see everything."""

    limits = LimitsBody(allow_null=True)


class LimitsReach(serializers.Serializer[Any]):
    """How many devices, and how many groups, somebody with these limits sees."""

    devices = serializers.IntegerField()
    groups = serializers.IntegerField()


class InviteBody(StrictSerializer):
    """Whom to invite, by e-mail address, and as what. `limits` as for a person."""

    emails = serializers.ListField(child=serializers.EmailField(), min_length=1, max_length=MOST_AT_ONCE)
    role = serializers.ChoiceField(choices=Role.choices)
    limits = LimitsBody(allow_null=True, default=None)


class NewInvitation(InvitationRow):
    """An invitation made just now; `path` is its link on this server, told only this once."""

    path = serializers.CharField()
    #: whether the link went out by mail; where it did not, somebody has to send it
    mailed = serializers.BooleanField()

    class Meta(InvitationRow.Meta):
        fields = (*InvitationRow.Meta.fields, "path", "mailed")


class PersonChange(StrictSerializer):
    role = serializers.ChoiceField(choices=Role.choices, required=False)
    name = serializers.CharField(max_length=accounts.LONGEST_NAME, required=False)


class WantedBody(StrictSerializer):
    """Roles of which more than a password is wanted: all, some or none."""

    roles = serializers.ListField(child=serializers.ChoiceField(choices=Role.choices), max_length=len(Role))


class PeopleBody(StrictSerializer):
    """Accounts, by their ids."""

    people = serializers.ListField(child=serializers.IntegerField(min_value=1), min_length=1, max_length=MOST_AT_ONCE)


def _people() -> list[Any]:
    people: list[Any] = list(
        User.objects.filter(removed_at=None)
        .annotate(
            sessions=Count("open_sessions", distinct=True),
            weak_sessions=Count("open_sessions", distinct=True, filter=Q(open_sessions__is_strong=False)),
            tokens=Count("auth_token_set", distinct=True),
            passkey_count=Count("passkeys", distinct=True),
            has_second_factor=Exists(second_factor.turned_on().filter(person=OuterRef("pk"))),
        )
        .order_by("name", "email")
    )
    limits = limits_of_people(people)
    for user in people:
        user.limits = limits.get(user.pk)
    return people


def _limits(body: Any) -> Limits | None:
    return None if body is None else read_limits(body["folders"], body["sites"])


def _answer() -> Response:
    invitations = Invitation.objects.filter(expires_at__gt=clock.now()).select_related("invited_by").order_by("email")
    told = {"second_factor_wanted": wanted.wanted_roles(), "people": _people(), "invitations": invitations}
    return Response(PeopleAnswer(told).data)


class PeopleView(APIView):
    """Everybody who has an account, and who is invited to one."""

    @extend_schema(operation_id="people_list", responses=PeopleAnswer)
    def get(self, request: Request) -> Response:
        return _answer()


class PeopleExportView(APIView):
    """Who may do what, since when, and when last seen: the access review as a file."""

    @extend_schema(
        operation_id="people_export",
        parameters=[OpenApiParameter("format", enum=["csv", "xlsx", "jsonl"])],
        responses=documented(CSV, XLSX, JSON_LINES),
    )
    def get(self, request: Request) -> HttpResponseBase:
        columns = [
            "name",
            "email",
            "role",
            "may",
            "sees",
            "state",
            "since",
            "last seen",
            "second factor",
            "passkeys",
            "sessions",
            "tokens",
        ]
        rows = (
            [
                user.name,
                user.email,
                user.role,
                "; ".join(a.label for a in Ability if a in ABILITIES[Role(user.role)]),
                user.limits.words if user.limits else "everything",
                "active" if user.is_active else "disabled",
                _moment(user.joined_at),
                _moment(user.seen_at),
                "yes" if user.has_second_factor else "no",
                user.passkey_count,
                user.sessions,
                user.tokens,
            ]
            for user in _people()
        )
        return as_asked(Table("people", columns, rows), request.query_params.get("format"))


class InvitationListView(APIView):
    """Inviting people: one or many."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="people_invite", request=InviteBody, responses={201: NewInvitation(many=True)})
    def post(self, request: Request) -> Response:
        body = valid(InviteBody(data=request.data))
        role, limits = Role(body["role"]), _limits(body["limits"])
        if limits and role == Role.ADMINISTRATOR:
            raise Invalid("/limits", "Administrators see all. Choose another role, or no limits.")
        kept = limits.kept if limits else None
        made = accounts.invite(body["emails"], role, limits=kept, actor=person(request), now=clock.now())
        return Response([_new_invitation(i) for i in made], status=201)


class InvitationView(APIView):
    """One invitation."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="people_revoke_invitation", responses={204: None})
    def delete(self, request: Request, invitation_id: int) -> Response:
        accounts.revoke_invitation(invitation_id, actor=person(request), now=clock.now())
        return Response(status=204)


class PersonView(APIView):
    """One account."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="people_change", request=PersonChange, responses=PeopleAnswer)
    def patch(self, request: Request, user_id: int) -> Response:
        body = valid(PersonChange(data=request.data))
        if not body:
            raise Invalid("/role", "Say the role or the name that is to change.")
        role = Role(body["role"]) if "role" in body else None
        accounts.change_person(user_id, role=role, name=body.get("name"), actor=person(request), now=clock.now())
        return _answer()


class PersonLimitsView(APIView):
    """What one person is limited to."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="people_limit", request=PersonLimits, responses=PeopleAnswer)
    def put(self, request: Request, user_id: int) -> Response:
        body = valid(PersonLimits(data=request.data))
        limit_person(user_id, _limits(body["limits"]), actor=person(request), now=clock.now())
        return _answer()


class SecondFactorResetAction(APIView):
    """Taking the second factor off somebody who has lost it."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="people_reset_second_factor", request=None, responses=PeopleAnswer)
    def post(self, request: Request, user_id: int) -> Response:
        second_factor.reset(user_id, actor=person(request), now=clock.now())
        return _answer()


class PersonNewLinkAction(APIView):
    """A link for somebody who has lost their password, second factor or passkeys: it opens their account anew."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="people_new_link", request=None, responses={201: NewInvitation})
    def post(self, request: Request, user_id: int) -> Response:
        made = accounts.new_link(user_id, actor=person(request), now=clock.now())
        return Response(_new_invitation(made), status=201)


class SecondFactorWantedView(APIView):
    """Of which roles more than a password is wanted."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="people_want_second_factor", request=WantedBody, responses=PeopleAnswer)
    def put(self, request: Request) -> Response:
        roles = [Role(role) for role in valid(WantedBody(data=request.data))["roles"]]
        key = request._request.session.session_key
        wanted.want(roles, actor=person(request), session_key=key, now=clock.now())
        return _answer()


class LimitsPreview(APIView):
    """What somebody with these limits would see, in numbers."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="people_limits_preview", request=PersonLimits, responses=LimitsReach)
    def post(self, request: Request) -> Response:
        limits = _limits(valid(PersonLimits(data=request.data))["limits"])
        if limits is None:
            raise Invalid("/limits", "Say the folders and the sites.")
        return Response(LimitsReach(reach_of(limits)).data)


class _PeopleAction(APIView):
    """What is done with several accounts at once; all or none."""

    needs = Ability.ADMINISTER

    def _done(self, request: Request, act: "Callable[..., Sequence[User]]") -> Response:
        body = valid(PeopleBody(data=request.data))
        act(body["people"], actor=person(request), now=clock.now())
        return _answer()


class PeopleDisableAction(_PeopleAction):
    """Keep people out; their sessions end at once."""

    @extend_schema(operation_id="people_disable", request=PeopleBody, responses=PeopleAnswer)
    def post(self, request: Request) -> Response:
        return self._done(request, accounts.disable)


class PeopleEnableAction(_PeopleAction):
    """Let people in again."""

    @extend_schema(operation_id="people_enable", request=PeopleBody, responses=PeopleAnswer)
    def post(self, request: Request) -> Response:
        return self._done(request, accounts.enable)


class PeopleRemoveAction(_PeopleAction):
    """Remove people for good; what they did stays on record under a neutral name."""

    @extend_schema(operation_id="people_remove", request=PeopleBody, responses=PeopleAnswer)
    def post(self, request: Request) -> Response:
        return self._done(request, accounts.remove)


def _new_invitation(made: accounts.Invited) -> Any:
    return {**InvitationRow(made.invitation).data, "path": f"/welcome/{made.secret}", "mailed": _mail(made)}


def _mail(invited: accounts.Invited) -> bool:
    """Send an invitation's link, where this installation sends mail; whether the mail server took it."""
    if not settings.EMAIL_HOST:
        return False
    invitation = invited.invitation
    by, is_anew = invitation.invited_by or "An administrator", invitation.person_id is not None
    opening = (
        f"{by} made this link, by which you open your account of Brisk Herald anew."
        if is_anew
        else f"{by} invites you to Brisk Herald as {invitation.role}."
    )
    subject = "Open your account anew" if is_anew else "You are invited"
    text = (
        f"{opening}\n\n{settings.PUBLIC_URL}/welcome/{invited.secret}\n\n"
        f"The link can be used once, and holds until {invitation.expires_at:%-d %b %Y, %H:%M} UTC."
    )
    try:
        deliver(invitation.email, subject, text, message_id=f"invitation-{uuid.uuid4().hex}")
    except MailError as error:
        log.warning("invitation_not_mailed", why=str(error))
        return False
    return True


def _moment(at: datetime | None) -> str:
    return at.isoformat(timespec="seconds") if at else ""
