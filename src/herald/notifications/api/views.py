"""Calls about notifications: one's own messages and wishes; rules, channels and what was sent."""

from typing import Any

from django.conf import settings
from django.db.models import Prefetch
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.attention.models import ItemKind
from herald.http.fields import StrictSerializer, read_limit, read_number, valid
from herald.notifications import rules
from herald.notifications.models import (
    Attempt,
    Channel,
    Message,
    NotificationRule,
    Occasion,
    Preference,
    SendState,
)
from herald.people.models import Ability
from herald.people.permissions import WHOLE, Tokens, person
from herald.time import clock
from herald_core.timing.quiet import MailWhen

MOST_MINUTES = 7 * 24 * 60
MAIL_CHOICES = [(m.value, m.value) for m in MailWhen]


class OwnMessage(serializers.ModelSerializer[Message]):
    """What one is told of: of which item, when, and whether one has read it."""

    item = serializers.IntegerField(source="item_id", allow_null=True)
    occasion = serializers.ChoiceField(choices=Occasion.choices)
    at = serializers.DateTimeField(source="shown_at")

    class Meta:
        model = Message
        fields = ("id", "item", "occasion", "text", "path", "is_urgent", "at", "read_at")


class OwnMessages(serializers.Serializer[Any]):
    """One's messages, the latest first. `next` goes into `offset` for the following ones."""

    messages = OwnMessage(many=True)
    unread = serializers.IntegerField()
    next = serializers.IntegerField(allow_null=True)


class ReadBody(StrictSerializer):
    """Up to which message one has read."""

    up_to = serializers.IntegerField(min_value=1)


class PreferenceBody(StrictSerializer):
    """How one wants to be written to, by one's own clock. What is urgent comes at once in any case."""

    mail = serializers.ChoiceField(choices=MAIL_CHOICES)
    daily_at = serializers.TimeField(format="%H:%M", input_formats=["%H:%M"])
    quiet_from = serializers.TimeField(format="%H:%M", input_formats=["%H:%M"], allow_null=True)
    quiet_until = serializers.TimeField(format="%H:%M", input_formats=["%H:%M"], allow_null=True)


class PreferenceView(serializers.Serializer[Any]):
    """How one wants to be written to; and whether this installation sends mail at all."""

    mail = serializers.ChoiceField(choices=MAIL_CHOICES)
    daily_at = serializers.TimeField(format="%H:%M")
    quiet_from = serializers.TimeField(format="%H:%M", allow_null=True)
    quiet_until = serializers.TimeField(format="%H:%M", allow_null=True)
    sends_mail = serializers.BooleanField()


class RecipientView(serializers.Serializer[Any]):
    id = serializers.IntegerField(source="person_id")
    name = serializers.CharField(source="person.name")


class ChannelName(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    name = serializers.CharField()


class NotificationRuleRow(serializers.ModelSerializer[NotificationRule]):
    """A rule: of which kinds of items (of every kind, where none is named) whom to tell, and how."""

    kinds = serializers.ListField(child=serializers.ChoiceField(choices=ItemKind.choices))
    people = RecipientView(many=True, source="recipients")
    channels = ChannelName(many=True)

    class Meta:
        model = NotificationRule
        fields = (
            "id",
            "name",
            "kinds",
            "at_least",
            "after_minutes",
            "is_urgent",
            "tells_over",
            "next_after_minutes",
            "people",
            "channels",
            "is_on",
        )


class NotificationRuleBody(StrictSerializer):
    """A rule, whole. People are told in the order in which they are named; `next_after_minutes` tells one by one."""

    name = serializers.CharField(max_length=80)
    kinds = serializers.ListField(child=serializers.ChoiceField(choices=ItemKind.choices), default=list)
    at_least = serializers.IntegerField(min_value=0, max_value=10_000_000, default=0)
    after_minutes = serializers.IntegerField(min_value=0, max_value=MOST_MINUTES, default=0)
    is_urgent = serializers.BooleanField(default=False)
    tells_over = serializers.BooleanField(default=True)
    next_after_minutes = serializers.IntegerField(min_value=1, max_value=MOST_MINUTES, allow_null=True, default=None)
    people = serializers.ListField(child=serializers.IntegerField(min_value=1), default=list, max_length=50)
    channels = serializers.ListField(child=serializers.IntegerField(min_value=1), default=list, max_length=50)
    is_on = serializers.BooleanField(default=True)


class ChannelRow(serializers.ModelSerializer[Channel]):
    """A channel: the address that is called. Its secret is told only as it is made."""

    class Meta:
        model = Channel
        fields = ("id", "name", "url", "is_on")


class NewChannel(ChannelRow):
    """A channel that was made just now, with the secret that signs its calls."""

    class Meta(ChannelRow.Meta):
        fields = (*ChannelRow.Meta.fields, "secret")


class ChannelBody(StrictSerializer):
    name = serializers.CharField(max_length=80)
    url = serializers.URLField(max_length=500)
    is_on = serializers.BooleanField(default=True)


class NotificationKind(serializers.Serializer[Any]):
    kind = serializers.ChoiceField(choices=ItemKind.choices)
    words = serializers.CharField()


class NotificationRules(serializers.Serializer[Any]):
    """All rules and channels, what rules can be about, and whether mail is sent at all."""

    rules = NotificationRuleRow(many=True)
    channels = ChannelRow(many=True)
    kinds = NotificationKind(many=True)
    sends_mail = serializers.BooleanField()


class AttemptView(serializers.ModelSerializer[Attempt]):
    """One try at sending. Real time."""

    class Meta:
        model = Attempt
        fields = ("at", "ok", "words")


class SentMessage(serializers.Serializer[Any]):
    """A message to somebody or to a channel, and how its sending went."""

    id = serializers.IntegerField()
    to = serializers.SerializerMethodField()
    occasion = serializers.ChoiceField(choices=Occasion.choices)
    text = serializers.CharField()
    made_at = serializers.DateTimeField()
    due_at = serializers.DateTimeField()
    state = serializers.ChoiceField(choices=SendState.choices)
    tries = AttemptView(many=True)

    def get_to(self, message: Message) -> str:
        return str(message.person) if message.person else message.channel.name if message.channel else ""


class OwnMessagesView(APIView):
    """What one is told of."""

    within_limits = WHOLE
    by_token = Tokens.NONE

    @extend_schema(
        operation_id="own_messages",
        parameters=[OpenApiParameter("offset", int), OpenApiParameter("limit", int)],
        responses=OwnMessages,
    )
    def get(self, request: Request) -> Response:
        now, limit = clock.now(), read_limit(request.query_params.get("limit"), default=50)
        mine = Message.objects.of_person(person(request).pk, now)
        offset = read_number(request.query_params.get("offset")) or 0
        rows = list(mine[offset : offset + limit + 1])
        unread = mine.unread().count()
        following = offset + limit if len(rows) > limit else None
        return Response(OwnMessages({"messages": rows[:limit], "unread": unread, "next": following}).data)


class OwnMessagesReadAction(APIView):
    """Marking what one is told of as read."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_messages_read", request=ReadBody, responses={204: None})
    def post(self, request: Request) -> Response:
        rules.mark_read(person(request), valid(ReadBody(data=request.data))["up_to"], now=clock.now())
        return Response(status=204)


class OwnPreferenceView(APIView):
    """How one wants to be written to."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_preference", responses=PreferenceView)
    def get(self, request: Request) -> Response:
        kept = Preference.objects.filter(person=person(request)).first() or Preference()
        return Response(_preference(kept))

    @extend_schema(operation_id="own_preference_set", request=PreferenceBody, responses=PreferenceView)
    def put(self, request: Request) -> Response:
        body = valid(PreferenceBody(data=request.data))
        draft = rules.PreferenceDraft(**{**body, "mail": MailWhen(body["mail"])})
        return Response(_preference(rules.save_preference(person(request), draft)))


class OwnTestAction(APIView):
    """A test message to oneself."""

    within_limits = WHOLE
    by_token = Tokens.NONE
    needs = Ability.OWN

    @extend_schema(operation_id="own_test_message", request=None, responses={202: None})
    def post(self, request: Request) -> Response:
        rules.send_test(person=person(request), channel=None, now=clock.now())
        return Response(status=202)


class NotificationRuleListView(APIView):
    """The rules and channels of the installation."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="notifications_rules", responses=NotificationRules)
    def get(self, request: Request) -> Response:
        return _rules()

    @extend_schema(
        operation_id="notifications_create", request=NotificationRuleBody, responses={201: NotificationRuleRow}
    )
    def post(self, request: Request) -> Response:
        draft = rules.RuleDraft(**valid(NotificationRuleBody(data=request.data)))
        made = rules.save_rule(draft, actor=person(request), now=clock.now())
        return Response(NotificationRuleRow(made).data, status=201)


class NotificationRuleView(APIView):
    """One rule."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="notifications_change", request=NotificationRuleBody, responses=NotificationRuleRow)
    def put(self, request: Request, rule_id: int) -> Response:
        draft = rules.RuleDraft(**valid(NotificationRuleBody(data=request.data)))
        kept = rules.save_rule(draft, actor=person(request), now=clock.now(), rule=rules.find_rule(rule_id))
        return Response(NotificationRuleRow(kept).data)

    @extend_schema(operation_id="notifications_delete", responses={204: None})
    def delete(self, request: Request, rule_id: int) -> Response:
        rules.delete_rule(rules.find_rule(rule_id), actor=person(request), now=clock.now())
        return Response(status=204)


class ChannelListView(APIView):
    """Making channels."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="channels_create", request=ChannelBody, responses={201: NewChannel})
    def post(self, request: Request) -> Response:
        body = valid(ChannelBody(data=request.data))
        made = rules.save_channel(**body, actor=person(request), now=clock.now())
        return Response(NewChannel(made).data, status=201)


class ChannelView(APIView):
    """One channel."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="channels_change", request=ChannelBody, responses=ChannelRow)
    def put(self, request: Request, channel_id: int) -> Response:
        channel = get_object_or_404(Channel, pk=channel_id)
        body = valid(ChannelBody(data=request.data))
        return Response(
            ChannelRow(rules.save_channel(**body, actor=person(request), now=clock.now(), channel=channel)).data
        )

    @extend_schema(operation_id="channels_delete", responses={204: None})
    def delete(self, request: Request, channel_id: int) -> Response:
        rules.delete_channel(get_object_or_404(Channel, pk=channel_id), actor=person(request), now=clock.now())
        return Response(status=204)


class ChannelTestAction(APIView):
    """A test message to a channel."""

    needs = Ability.ADMINISTER

    @extend_schema(operation_id="channels_test", request=None, responses={202: None})
    def post(self, request: Request, channel_id: int) -> Response:
        channel = get_object_or_404(Channel, pk=channel_id)
        rules.send_test(person=None, channel=channel, now=clock.now())
        return Response(status=202)


class SentMessagesView(APIView):
    """What went out lately, to whom, and how that went; the latest first."""

    @extend_schema(
        operation_id="notifications_sent", parameters=[OpenApiParameter("limit", int)], responses=SentMessage(many=True)
    )
    def get(self, request: Request) -> Response:
        limit = read_limit(request.query_params.get("limit"), default=100, most=500)
        sent = Message.objects.exclude(state=SendState.KEPT).select_related("person", "channel")
        tries = Prefetch("tries", Attempt.objects.order_by("at", "id"))
        return Response(SentMessage(sent.prefetch_related(tries).order_by("-id")[:limit], many=True).data)


def _rules() -> Response:
    listed = NotificationRule.objects.prefetch_related("recipients__person", "channels").order_by("name")
    kinds = [{"kind": k.value, "words": k.label} for k in ItemKind]
    body = {
        "rules": listed,
        "channels": Channel.objects.order_by("name"),
        "kinds": kinds,
        "sends_mail": bool(settings.EMAIL_HOST),
    }
    return Response(NotificationRules(body).data)


def _preference(kept: Preference) -> Any:
    view = {name: getattr(kept, name) for name in ("mail", "daily_at", "quiet_from", "quiet_until")}
    return PreferenceView({**view, "sends_mail": bool(settings.EMAIL_HOST)}).data
