"""Calls about having reports sent by mail."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.fields import StrictSerializer, valid
from herald.people.models import Ability
from herald.people.permissions import WHOLE, Tokens, person
from herald.samples.mailing import MOST_ADDRESSES, ReportMailDraft, delete_report_mail, make_report_mail, send_at_once
from herald.samples.models import Report, ReportMail
from herald.time import clock


class ReportMailBody(StrictSerializer):
    """Which report is sent to whom, on which days of the week (0 is Monday), and when by the clock of a time zone."""

    report = serializers.ChoiceField(choices=Report.choices, default=Report.FIRMWARE.value)
    to = serializers.ListField(child=serializers.EmailField(max_length=254), max_length=MOST_ADDRESSES)
    days = serializers.ListField(child=serializers.IntegerField(min_value=0, max_value=6), max_length=7)
    at = serializers.TimeField()
    zone = serializers.CharField(max_length=64)


class ReportMailRow(serializers.ModelSerializer[ReportMail]):
    """A report that one has sent: when it is sent next, when it last was, and why the last try failed, if it did."""

    class Meta:
        model = ReportMail
        fields = ("id", "report", "to", "days", "at", "zone", "created_at", "next_at", "last_sent_at", "last_words")


class ReportMailListView(APIView):
    """The reports that one has sent by mail."""

    within_limits = WHOLE
    by_token = Tokens.UNLIMITED
    needs = Ability.OWN

    @extend_schema(operation_id="report_mails", responses=ReportMailRow(many=True))
    def get(self, request: Request) -> Response:
        mine = ReportMail.objects.filter(owner=person(request)).order_by("pk")
        return Response(ReportMailRow(mine, many=True).data)

    @extend_schema(operation_id="report_mails_create", request=ReportMailBody, responses={201: ReportMailRow})
    def post(self, request: Request) -> Response:
        body: dict[str, Any] = valid(ReportMailBody(data=request.data))
        mail = make_report_mail(ReportMailDraft(**body), owner=person(request), now=clock.now())
        return Response(ReportMailRow(mail).data, status=201)


class ReportMailView(APIView):
    """One report that one has sent by mail."""

    within_limits = WHOLE
    by_token = Tokens.UNLIMITED
    needs = Ability.OWN

    @extend_schema(operation_id="report_mails_delete", responses={204: None})
    def delete(self, request: Request, mail_id: int) -> Response:
        delete_report_mail(_mine(request, mail_id), actor=person(request), now=clock.now())
        return Response(status=204)


class ReportMailSendAction(APIView):
    """Have it sent at once as well."""

    within_limits = WHOLE
    by_token = Tokens.UNLIMITED
    needs = Ability.OWN

    @extend_schema(operation_id="report_mails_send", request=None, responses=ReportMailRow)
    def post(self, request: Request, mail_id: int) -> Response:
        mail = _mine(request, mail_id)
        send_at_once(mail, now=clock.now())
        return Response(ReportMailRow(mail).data)


def _mine(request: Request, mail_id: int) -> ReportMail:
    return get_object_or_404(ReportMail, pk=mail_id, owner=person(request))
