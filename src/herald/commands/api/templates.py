"""Calls about command templates."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.commands import templates
from herald.commands.api.serializers import TemplateBody, TemplateRow
from herald.commands.models import CommandTemplate
from herald.commands.overview import template_row
from herald.http.fields import valid
from herald.people.permissions import READING, person
from herald.time import clock
from herald_core.actions import Action, Harm


class TemplateListView(APIView):
    """What commands can be made from: the built-in ones first."""

    within_limits = READING

    @extend_schema(operation_id="command_templates_list", responses=TemplateRow(many=True))
    def get(self, request: Request) -> Response:
        rows = [template_row(t) for t in CommandTemplate.objects.offered()]
        return Response(TemplateRow(rows, many=True).data)

    @extend_schema(operation_id="command_templates_create", request=TemplateBody, responses={201: TemplateRow})
    def post(self, request: Request) -> Response:
        template = templates.save_template(_draft(request), actor=person(request), now=clock.now())
        return Response(_row(template), status=201)


class TemplateView(APIView):
    """One command template of one’s own."""

    @extend_schema(operation_id="command_templates_change", request=TemplateBody, responses=TemplateRow)
    def put(self, request: Request, key: str) -> Response:
        found = get_object_or_404(CommandTemplate, key=key)
        return Response(
            _row(templates.save_template(_draft(request), actor=person(request), now=clock.now(), template=found))
        )

    @extend_schema(operation_id="command_templates_delete", responses={204: None})
    def delete(self, request: Request, key: str) -> Response:
        templates.retire_template(get_object_or_404(CommandTemplate, key=key), actor=person(request), now=clock.now())
        return Response(status=204)


def _draft(request: Request) -> templates.TemplateDraft:
    body = valid(TemplateBody(data=request.data))
    offers = [templates.Offer(**o) for o in body.pop("models")]
    return templates.TemplateDraft(
        action=Action(body.pop("action")), harm=Harm(body.pop("harm")), offers=offers, **body
    )


def _row(template: CommandTemplate) -> Any:
    return TemplateRow(
        template_row(CommandTemplate.objects.prefetch_related("offered_by__model").get(pk=template.pk))
    ).data
