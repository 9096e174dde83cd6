"""Finding a rollout, and answering with it."""

from typing import Any

from django.shortcuts import get_object_or_404
from rest_framework.response import Response

from herald.rollouts.api.serializers import Effect, RolloutDetail
from herald.rollouts.models import Rollout
from herald.rollouts.watch import overview
from herald.time import clock


def find_rollout(rollout_id: int) -> Rollout:
    """The rollout with what its views show; 404 where there is none."""
    found: Rollout = get_object_or_404(Rollout.objects.listed(), pk=rollout_id)
    return found


def detail_of(rollout_id: int) -> Any:
    """The rollout as its page shows it."""
    return RolloutDetail(overview.detail(find_rollout(rollout_id), clock.now())).data


def effect(rollout_id: int, *, withdrawn: int = 0, finishing: int = 0) -> Response:
    """What an action did to the rollout."""
    state = find_rollout(rollout_id).state
    return Response(Effect({"state": state, "withdrawn": withdrawn, "finishing": finishing}).data)
