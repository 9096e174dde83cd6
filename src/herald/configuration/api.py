"""Calls about configuration that is kept as files."""

from typing import Any

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.configuration import services
from herald.configuration.kinds import KINDS
from herald.configuration.schema import VERSION, json_schema
from herald.groups.api.agreement import agreement_of
from herald.http.fields import StrictSerializer, valid
from herald.people.permissions import person
from herald.time import clock
from herald_core.configuration import Verb


class _Lists(serializers.DictField):
    """Lists of documents by kind; what they hold is said by `GET configuration/schema`."""

    child = serializers.ListField(child=serializers.DictField())


class ConfigurationView(serializers.Serializer[Any]):
    """All that can be kept as files, by kind; fields that hold their defaults are left out."""

    herald = serializers.IntegerField(help_text="the form of the documents")
    kinds = _Lists()


class ConfigurationBody(StrictSerializer):
    """What is wanted. Kinds that are not named are left alone; with `deletes` what is there of a named kind, and is not
    wanted, goes."""

    herald = serializers.IntegerField(min_value=VERSION, max_value=VERSION, default=VERSION)
    kinds = _Lists()
    deletes = serializers.BooleanField(default=False)


class ConfigurationToApply(ConfigurationBody):
    """The same with the `digest` of the comparison that was looked at, and where the documents come from: the file of
    each kind, and what the files call their state."""

    digest = serializers.CharField(max_length=100)
    files = serializers.DictField(child=serializers.CharField(max_length=200), default=dict)
    revision = serializers.CharField(max_length=100, allow_blank=True, default="")


class ConfigurationDifference(serializers.Serializer[Any]):
    """One thing that is not as it is wanted: `before` and `after` hold the fields that differ."""

    kind = serializers.CharField()
    name = serializers.CharField()
    verb = serializers.ChoiceField(choices=[(v.value, v.value) for v in Verb])
    before = serializers.SerializerMethodField()
    after = serializers.SerializerMethodField()

    def get_before(self, difference: Any) -> dict[str, Any]:
        return {k: before for k, (before, _) in difference.fields.items()}

    def get_after(self, difference: Any) -> dict[str, Any]:
        return {k: after for k, (_, after) in difference.fields.items()}


class ConfigurationFires(serializers.Serializer[Any]):
    """When a command that is new or changed fires next, and on how many devices it would now."""

    name = serializers.CharField()
    devices = serializers.IntegerField()
    at = serializers.DateTimeField(allow_null=True)


class ConfigurationPlan(serializers.Serializer[Any]):
    """What is to be done, and what it does to groups and to what runs. `digest` is of what is to be done; `agreed` of
    what that sets off, to be sent as `Herald-Agreed`. `stays` are the names, by kind, of what is there, is not wanted,
    and stays."""

    differences = ConfigurationDifference(many=True)
    stays = serializers.DictField(child=serializers.ListField(child=serializers.CharField()))
    fires = ConfigurationFires(many=True)
    groups = serializers.SerializerMethodField()
    uses = serializers.SerializerMethodField()
    digest = serializers.CharField()
    agreed = serializers.SerializerMethodField()

    def get_agreed(self, plan: services.Plan) -> str:
        return str(plan.consequences.get("digest", ""))

    def get_groups(self, plan: services.Plan) -> list[dict[str, Any]]:
        return list(plan.consequences.get("groups", []))

    def get_uses(self, plan: services.Plan) -> list[dict[str, Any]]:
        return list(plan.consequences.get("uses", []))


class ConfigurationOrigin(serializers.Serializer[Any]):
    """From which file a thing was applied last, and whether it was changed by hand since."""

    file = serializers.CharField()
    revision = serializers.CharField()
    applied_at = serializers.DateTimeField()
    applied_by = serializers.CharField(source="applied_by.name", default=None, allow_null=True)
    changed_since = serializers.BooleanField()


class ConfigurationOriginAnswer(serializers.Serializer[Any]):
    """Where a thing comes from; null where it is in no file."""

    origin = ConfigurationOrigin(allow_null=True)


class ConfigurationExportView(APIView):
    """All that can be kept as files."""

    @extend_schema(operation_id="configuration_export", responses=ConfigurationView)
    def get(self, request: Request) -> Response:
        return Response(ConfigurationView({"herald": VERSION, "kinds": services.export()}).data)


class ConfigurationSchemaView(APIView):
    """The JSON Schema of files."""

    @extend_schema(operation_id="configuration_schema", responses=OpenApiTypes.OBJECT)
    def get(self, request: Request) -> Response:
        return Response(json_schema({kind.key: kind.document for kind in KINDS.values()}))


class ConfigurationCompareView(APIView):
    """What applying documents would do; nothing is changed."""

    changes_nothing = True

    @extend_schema(operation_id="configuration_compare", request=ConfigurationBody, responses=ConfigurationPlan)
    def post(self, request: Request) -> Response:
        body = valid(ConfigurationBody(data=request.data))
        plan = services.compare_with(body["kinds"], deletes=body["deletes"], now=clock.now())
        return Response(ConfigurationPlan(plan).data)


class ConfigurationApplyView(APIView):
    """Apply documents, as one act."""

    @extend_schema(operation_id="configuration_apply", request=ConfigurationToApply, responses=ConfigurationPlan)
    def post(self, request: Request) -> Response:
        body = valid(ConfigurationToApply(data=request.data))
        plan = services.apply(
            body["kinds"],
            deletes=body["deletes"],
            digest=body["digest"],
            agreement=agreement_of(request),
            origin=services.Origin(files=body["files"], revision=body["revision"]),
            actor=person(request),
            now=clock.now(),
        )
        return Response(ConfigurationPlan(plan).data)


class ConfigurationOriginView(APIView):
    """From which file a thing was applied last."""

    @extend_schema(
        operation_id="configuration_origin",
        parameters=[OpenApiParameter("kind", str, required=True), OpenApiParameter("name", str, required=True)],
        responses=ConfigurationOriginAnswer,
    )
    def get(self, request: Request) -> Response:
        found = services.origin_of(request.query_params.get("kind", ""), request.query_params.get("name", ""))
        if found is None:
            return Response({"origin": None})
        kept, changed = found
        kept.changed_since = changed  # type: ignore[attr-defined]
        return Response(ConfigurationOriginAnswer({"origin": kept}).data)
