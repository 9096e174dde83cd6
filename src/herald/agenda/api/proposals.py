"""Calls that propose hours for a rollout."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.agenda.proposals import suggest_hours
from herald.http.fields import NamedThing, StrictSerializer, valid
from herald.people.permissions import WHOLE
from herald.rollouts.api.forecasts import MomentBand
from herald.rollouts.api.shared import find_rollout
from herald.rollouts.watch.sentence import title_of
from herald.time import clock
from herald_core.forecast.engine import QuantileBand
from herald_core.proposals import NIGHT, AllowedHours, Choice, HoursPlan


class SuggestBody(StrictSerializer):
    """By when it must be through, and which hours of the device's clock may be used: from `from_hour` on, so many
    `hours`."""

    by = serializers.DateTimeField()
    from_hour = serializers.IntegerField(min_value=0, max_value=23, default=NIGHT.start)
    hours = serializers.IntegerField(min_value=2, max_value=24, default=NIGHT.length)


class HoursProposal(serializers.Serializer[Any]):
    """Hours, empty for any hour, and a spread, and when the rollout is expected to end with them. With `goes_first` it
    goes before the other rollouts that want its devices. `choice` says why it is proposed; empty for one that is too
    late."""

    choice = serializers.ChoiceField(choices=[(c.value, c.value) for c in Choice], allow_blank=True)
    window_start = serializers.TimeField(allow_null=True)
    window_end = serializers.TimeField(allow_null=True)
    spread_minutes = serializers.IntegerField()
    goes_first = serializers.BooleanField()
    end = MomentBand()


class OtherRollout(NamedThing):
    """A rollout that goes first with some of the devices, and with how many."""

    devices = serializers.IntegerField()


class HoursSuggestionView(serializers.Serializer[Any]):
    """Up to three proposals that are through in time, the gentlest first. `gentler` is one before them that is too
    late; where none is in time, `nearest` ends soonest. `kept_clear` are commands whose firings were left alone,
    `others` rollouts that go first with some of the devices."""

    devices = serializers.IntegerField()
    tried = serializers.IntegerField()
    proposals = HoursProposal(many=True)
    gentler = HoursProposal(allow_null=True)
    nearest = HoursProposal(allow_null=True)
    kept_clear = NamedThing(many=True)
    others = OtherRollout(many=True)


class SuggestHoursView(APIView):
    """Hours with which a rollout is through by a moment; changes nothing."""

    within_limits = WHOLE
    changes_nothing = True

    @extend_schema(operation_id="rollouts_suggest_hours", request=SuggestBody, responses=HoursSuggestionView)
    def post(self, request: Request, rollout_id: int) -> Response:
        body, now = valid(SuggestBody(data=request.data)), clock.now()
        allowed = AllowedHours(body["from_hour"], body["hours"])
        told = suggest_hours(find_rollout(rollout_id), by=body["by"], allowed=allowed, now=now)

        def row(choice: str, plan: HoursPlan, end: QuantileBand) -> dict[str, Any]:
            window = plan.window
            return {
                "choice": choice,
                "window_start": window and window.start,
                "window_end": window and window.end,
                "spread_minutes": plan.spread_minutes,
                "goes_first": plan.goes_first,
                "end": end.moments(now),
            }

        found = told.suggestion
        answer = {
            "devices": told.devices,
            "tried": found.tried,
            "proposals": [row(p.choice, p.plan, p.end) for p in found.proposals],
            "gentler": row("", *found.gentler) if found.gentler else None,
            "nearest": row("", *found.nearest) if found.nearest else None,
            "kept_clear": [{"id": s.pk, "name": s.title} for s in told.kept_clear],
            "others": [{"id": r.pk, "name": title_of(r), "devices": n} for r, n in told.others],
        }
        return Response(HoursSuggestionView(answer).data)
