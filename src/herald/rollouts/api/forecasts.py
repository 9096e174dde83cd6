"""Calls about when a rollout will be through."""

from datetime import timedelta
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.http.errors import Invalid
from herald.people.permissions import WHOLE
from herald.rollouts.api.report_serializers import FreezeOfRollout
from herald.rollouts.api.shared import find_rollout
from herald.rollouts.watch import forecast
from herald.rollouts.watch.report import freeze_row
from herald.time import clock
from herald_core.forecast.inputs import LIMIT_WORDS, Limit


class MomentBand(serializers.Serializer[Any]):
    """The median and the 80% band; null is later than the rollout gives up, or never."""

    low = serializers.DateTimeField(allow_null=True)
    median = serializers.DateTimeField(allow_null=True)
    high = serializers.DateTimeField(allow_null=True)


class RingTold(serializers.Serializer[Any]):
    position = serializers.IntegerField()
    name = serializers.CharField()
    opens = MomentBand()
    through = MomentBand()


class ForecastPoint(serializers.Serializer[Any]):
    """How many are confirmed at a moment."""

    at = serializers.DateTimeField()
    low = serializers.FloatField()
    median = serializers.FloatField()
    high = serializers.FloatField()


class LimitRow(serializers.Serializer[Any]):
    """What holds it back, and how many seconds sooner the median end would be without it."""

    limit = serializers.ChoiceField(choices=list(Limit))
    words = serializers.CharField()
    seconds = serializers.FloatField()


class FreezeAhead(serializers.Serializer[Any]):
    """The next freeze that holds some of the devices, and the chance (0 to 1) to be through before it."""

    name = serializers.CharField()
    starts_at = serializers.DateTimeField()
    meets = serializers.FloatField()


class ForecastView(serializers.Serializer[Any]):
    """What 200 simulated futures say. `halts` is the share of them that halt; silent devices are not waited for."""

    end = MomentBand()
    rings = RingTold(many=True)
    curve = ForecastPoint(many=True)
    halts = serializers.FloatField()
    failed_low = serializers.FloatField()
    failed_high = serializers.FloatField()
    silent = serializers.IntegerField()
    limits = LimitRow(many=True)
    freeze = FreezeAhead(allow_null=True)
    freezes = FreezeOfRollout(many=True)


class RolloutForecastView(APIView):
    """When a rollout will be through; of a draft, if it were launched now."""

    within_limits = WHOLE

    @extend_schema(
        operation_id="rollouts_forecast",
        parameters=[
            OpenApiParameter("failure_pct", float, description="rehearse it with this rate of failing attempts")
        ],
        responses=ForecastView,
    )
    def get(self, request: Request, rollout_id: int) -> Response:
        rollout, now = find_rollout(rollout_id), clock.now()
        told = forecast.forecast_rollout(rollout, now=now, failure_rate=_rate(request.query_params.get("failure_pct")))
        found = told.forecast
        rings = zip(rollout.rings.all(), found.rings, strict=True)
        body = {
            "end": found.end.moments(now),
            "rings": [
                {
                    "position": ring.position,
                    "name": ring.name,
                    "opens": r.opens.moments(now),
                    "through": r.through.moments(now),
                }
                for ring, r in rings
            ],
            "curve": [
                {"at": now + timedelta(seconds=at), "low": low, "median": median, "high": high}
                for at, low, median, high in found.curve
            ],
            "halts": found.halts,
            "failed_low": found.failed.low,
            "failed_high": found.failed.high,
            "silent": told.silent,
            "limits": [
                {"limit": limit, "words": LIMIT_WORDS[limit], "seconds": seconds}
                for limit, seconds in sorted(found.limits.items(), key=lambda found: -found[1])
                if seconds >= 60
            ],
            "freeze": {"name": told.freeze.name, "starts_at": told.freeze.starts_at, "meets": told.meets}
            if told.freeze
            else None,
            "freezes": [freeze_row(f, number) for f, number in told.freezes],
        }
        return Response(ForecastView(body).data)


def _rate(text: str | None) -> float | None:
    if not text:
        return None
    try:
        rate = float(text)
    except ValueError as error:
        raise Invalid("/failure_pct", "A share in per cent is expected, from 0 to 100.") from error
    if not 0 <= rate <= 100:
        raise Invalid("/failure_pct", "A share in per cent is expected, from 0 to 100.")
    return rate / 100
