"""The room Now: what waits for a decision, what moves, what comes, what wants attention."""

from datetime import datetime, timedelta
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from herald.clock.source import clock
from herald.commands.models import Schedule
from herald.commands.overview import next_firings
from herald.commands.sentence import schedule_sentence
from herald.fleet.models import Device
from herald.rollouts import overview
from herald.rollouts.api.serializers import RolloutRow
from herald.rollouts.models import Rollout

HEARD_WITHIN = timedelta(minutes=30)
LOW_BATTERY_PCT = 20


class Decision(serializers.Serializer[Any]):
    """Something that waits for a person. `kind`: halted, stuck or paused."""

    kind = serializers.CharField()
    rollout = serializers.IntegerField()
    title = serializers.CharField()
    detail = serializers.CharField()


class Coming(serializers.Serializer[Any]):
    """Something that will happen by itself."""

    at = serializers.DateTimeField()
    text = serializers.CharField()
    detail = serializers.CharField()
    schedule = serializers.IntegerField()


class Attention(serializers.Serializer[Any]):
    """A count of devices, with the rule that lists them."""

    text = serializers.CharField()
    count = serializers.IntegerField()
    rule = serializers.CharField()


class NowView(serializers.Serializer[Any]):
    """The state of everything, in brief."""

    now = serializers.DateTimeField()
    devices = serializers.IntegerField()
    heard = serializers.IntegerField()
    heard_within_minutes = serializers.IntegerField()
    decisions = Decision(many=True)
    moving = RolloutRow(many=True)
    coming = Coming(many=True)
    attention = Attention(many=True)
    zones = serializers.ListField(child=serializers.CharField())


class NowApiView(APIView):
    """What waits for a decision, what moves, what comes next, what wants attention."""

    @extend_schema(operation_id="now", responses=NowView)
    def get(self, request: Request) -> Response:
        now = clock.now()
        rollouts = overview.rows(list(Rollout.objects.listed().moving()), now)
        body = {
            "now": now,
            "devices": Device.objects.count(),
            "heard": Device.objects.heard_since(now - HEARD_WITHIN).count(),
            "heard_within_minutes": HEARD_WITHIN // timedelta(minutes=1),
            "decisions": [d for r in rollouts if (d := _decision(r))],
            "moving": [r for r in rollouts if r["state"] in ("running", "launching")],
            "coming": _coming(now),
            "attention": _attention(now),
            "zones": Device.objects.zones(),
        }
        return Response(NowView(body).data)


def _decision(rollout: dict[str, Any]) -> dict[str, Any] | None:
    """What a person must decide about a rollout, if anything."""
    title = f"{rollout['target']} on {rollout['audience']}"
    phases = rollout["phases"]
    counts = (
        f"{phases.get('confirmed', 0)} confirmed, {phases.get('failed', 0)} failed, {phases.get('waiting', 0)} wait"
    )
    if rollout["state"] == "halted":
        return _wait("halted", rollout, f"“{title}” stopped itself", f"{rollout['reason']}. {counts}.")
    if rollout["state"] == "paused":
        return _wait("paused", rollout, f"“{title}” is paused", f"Nothing new is offered. {counts}.")
    for ring in rollout["rings"]:
        if ring["stuck"]:
            missing = ", ".join(c["name"] for c in ring["criteria"] if not c["met"] and c["name"] != "soak")
            detail = f"All its devices are through, but the gate is not met ({missing}). {counts}."
            return _wait("stuck", rollout, f"“{title}” cannot leave ring {ring['position']} by itself", detail)
        if ring["opened_at"] and not ring["gate_met_at"] and _only_approval_misses(ring):
            detail = f"Ring {ring['position']}, {ring['name']}, is through and nobody has approved it yet. {counts}."
            return _wait("approval", rollout, f"“{title}” waits for an approval", detail)
    return None


def _only_approval_misses(ring: dict[str, Any]) -> bool:
    return [c["name"] for c in ring["criteria"] if not c["met"]] == ["approval"]


def _wait(kind: str, rollout: dict[str, Any], title: str, detail: str) -> dict[str, Any]:
    return {"kind": kind, "rollout": rollout["id"], "title": title, "detail": detail}


def _coming(now: datetime) -> list[dict[str, Any]]:
    """Firings within the next 24 hours, soonest first."""
    rows = []
    for schedule in Schedule.objects.due():
        for at, zone, devices in next_firings(schedule, now):
            if at <= now + timedelta(hours=24):
                city = zone.rsplit("/", 1)[-1].replace("_", " ")
                text = f"{schedule.get_recipe_display()}, {city}"
                rows.append(
                    {
                        "at": at,
                        "text": text,
                        "detail": f"{devices} devices: {schedule_sentence(schedule)}",
                        "schedule": schedule.pk,
                    }
                )
    return sorted(rows, key=lambda r: r["at"])


def _attention(now: datetime) -> list[dict[str, Any]]:
    admitted = Device.objects.filter(admission="admitted")
    rows = [
        (
            "Silent for over 24 h",
            Device.objects.silent(now).count(),
            'admission = admitted and presence any of (silent, "never seen")',
        ),
        (
            f"Battery below {LOW_BATTERY_PCT} %",
            admitted.low_battery(LOW_BATTERY_PCT).count(),
            f"admission = admitted and battery < {LOW_BATTERY_PCT}",
        ),
        (
            "Report no firmware",
            admitted.filter(firmware__isnull=True).count(),
            "admission = admitted and firmware is missing",
        ),
        ("Wait for admission", Device.objects.filter(admission="waiting").count(), "admission = waiting"),
    ]
    return [{"text": t, "count": n, "rule": r} for t, n, r in rows if n]
