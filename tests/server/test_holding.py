"""Holding devices of a rollout back, and what its failed ones share."""

import contextlib
from datetime import timedelta
from typing import Any

import pytest
from django.db import transaction
from hypothesis import given, settings
from hypothesis import strategies as st
from rest_framework.test import APIClient

from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import waits_of
from herald.http.errors import Conflict, Invalid, InvalidRule, NobodyThere
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene.holds import common_causes, hold, preview_hold, release
from herald.rollouts.intervene.lifecycle import stop
from herald.rollouts.models import Rollout
from tests.factories import NOW, launched, make_devices, make_draft, make_image, make_static, make_user

pytestmark = pytest.mark.django_db
BY: dict[str, Any] = {"actor": None, "now": NOW}


def rollout_of(**kinds: int) -> Rollout:
    """A launched rollout of devices, so many with each tag."""
    devices = [d for tag, n in kinds.items() for d in make_devices(n, tags=[tag], firmware="5.1.0")]
    return launched(make_draft(make_static("G", devices), make_image()))


def phases(rollout: Rollout, tag: str) -> list[str]:
    found = Delivery.objects.of_rollout(rollout.pk).filter(device__tags__contains=[tag])
    return sorted(found.values_list("phase", flat=True))


def test_held_devices_are_not_offered_until_they_are_released() -> None:
    rollout = rollout_of(lab=2, field=3)
    first = Delivery.objects.of_rollout(rollout.pk).filter(device__tags__contains=["lab"])[:1]
    deliveries.offer([d.pk for d in first], until=NOW + timedelta(hours=1), now=NOW)

    told = preview_hold(rollout, rule="tag = lab", names=[], now=NOW)
    assert (told.waiting, told.recalled, told.finishing) == (1, 1, 0)
    hold(rollout, rule="tag = lab", names=[], reason="bench is busy", **BY)
    tick_rollouts(now=NOW)

    assert (phases(rollout, "lab"), phases(rollout, "field")) == (["waiting"] * 2, ["offered"] * 3)
    (waiting,) = waits_of(Delivery.objects.listed().filter(device__tags__contains=["lab"])[:1], NOW).values()
    assert waiting is not None
    assert waiting.reason == "somebody to release it: bench is busy"

    assert release(rollout, rule="everything", names=[], **BY) == 2
    tick_rollouts(now=NOW)
    assert phases(rollout, "lab") == ["offered"] * 2


def test_a_device_that_is_held_keeps_the_reason_it_was_held_for() -> None:
    rollout = rollout_of(lab=1, field=1)
    hold(rollout, rule="tag = lab", names=[], reason="bench is busy", **BY)
    told = hold(rollout, rule="everything", names=[], reason="storm", **BY)
    assert told.waiting == 1
    assert sorted(Delivery.objects.of_rollout(rollout.pk).values_list("hold_reason", flat=True)) == [
        "bench is busy",
        "storm",
    ]


def test_what_cannot_be_held_is_refused() -> None:
    rollout = rollout_of(lab=1)
    name = Delivery.objects.get().device.name
    with pytest.raises(Invalid, match="why"):
        hold(rollout, rule="tag = lab", names=[], reason=" ", **BY)
    with pytest.raises(Invalid, match="Name devices"):
        hold(rollout, rule="", names=[], reason="x", **BY)
    with pytest.raises(InvalidRule):
        hold(rollout, rule="tag lab", names=[], reason="x", **BY)
    with pytest.raises(NobodyThere):
        hold(rollout, rule="tag = other", names=[], reason="x", **BY)
    with pytest.raises(NobodyThere):
        release(rollout, rule="", names=[name], **BY)
    hold(rollout, rule="", names=[name], reason="x", **BY)
    with pytest.raises(NobodyThere):
        hold(rollout, rule="", names=[name], reason="again", **BY)
    stop(rollout, **BY)
    tick_rollouts(now=NOW)
    with pytest.raises(Conflict, match="stopped"):
        release(rollout, rule="everything", names=[], **BY)


def test_what_the_failed_share_is_named_as_a_rule_with_who_still_waits() -> None:
    rollout = rollout_of(lab=20, field=60)
    tried = Delivery.objects.of_rollout(rollout.pk)
    lab = list(tried.filter(device__tags__contains=["lab"]).values_list("pk", flat=True))
    field = list(tried.filter(device__tags__contains=["field"]).values_list("pk", flat=True))
    Delivery.objects.filter(pk__in=lab[:12]).update(phase="failed")
    Delivery.objects.filter(pk__in=field[:50]).update(phase="confirmed")

    found = common_causes(rollout, now=NOW)

    assert (found.failed, found.confirmed) == (12, 50)
    assert [(c.rule, c.cause.failed_with, c.cause.tried_with, c.waiting) for c in found.causes] == [
        ("tag = lab", 12, 12, 8)
    ]


def test_failures_that_have_nothing_in_common_name_no_cause() -> None:
    rollout = rollout_of(field=60)
    ids = list(Delivery.objects.of_rollout(rollout.pk).values_list("pk", flat=True))
    assert common_causes(rollout, now=NOW).causes == []
    Delivery.objects.filter(pk__in=ids[:3]).update(phase="failed", last_error="flash-verify")
    Delivery.objects.filter(pk__in=ids[3:4]).update(phase="failed", last_error="no-space")
    Delivery.objects.filter(pk__in=ids[4:50]).update(phase="confirmed", last_error="no-link")
    found = common_causes(rollout, now=NOW)
    assert found.causes == [] and [(e.error, e.devices) for e in found.errors] == [("flash-verify", 3), ("no-space", 1)]
    client = APIClient()
    client.force_authenticate(make_user())
    shown = client.get(f"/api/v1/rollouts/{rollout.pk}/common-causes").json()
    assert shown["errors"] == [{"error": "flash-verify", "devices": 3}, {"error": "no-space", "devices": 1}]


def test_the_calls_hold_release_and_say_what_is_shared() -> None:
    rollout = rollout_of(lab=2)
    client = APIClient()
    client.force_authenticate(make_user())
    url = f"/api/v1/rollouts/{rollout.pk}"
    assert client.post(f"{url}/hold/preview", {"rule": "tag = lab"}, format="json").data["waiting"] == 2
    held = client.post(f"{url}/hold", {"rule": "tag = lab", "reason": "later"}, format="json")
    assert (held.status_code, held.data["waiting"]) == (200, 2)
    rows = client.get(f"{url}/deliveries").data["deliveries"]
    assert {r["hold_reason"] for r in rows} == {"later"}
    assert client.post(f"{url}/release", {"rule": "everything"}, format="json").data == {"released": 2}
    assert client.get(f"{url}/common-causes").data == {"failed": 0, "confirmed": 0, "errors": [], "causes": []}
    refused = client.post(f"{url}/hold", {"rule": "tag = lab", "reason": ""}, format="json")
    assert refused.status_code == 422


ACTS = st.lists(
    st.tuples(
        st.sampled_from(["hold", "release", "turn", "offer"]),
        st.sampled_from(["tag = lab", "tag = field", "everything", "name contains 1"]),
    ),
    max_size=8,
)


@settings(max_examples=25)
@given(ACTS)
def test_whatever_is_held_and_released_no_held_device_is_offered_and_the_sums_agree(
    acts: list[tuple[str, str]],
) -> None:
    with transaction.atomic():
        rollout = rollout_of(lab=3, field=4)
        of_rollout = Delivery.objects.of_rollout(rollout.pk)
        for act, rule in acts:
            told = preview_hold(rollout, rule=rule, names=[], now=NOW)
            if act == "turn":
                tick_rollouts(now=NOW)
            elif act == "hold" and told.waiting + told.recalled:
                assert hold(rollout, rule=rule, names=[], reason="why", **BY) == told
            elif act == "release":
                with contextlib.suppress(NobodyThere):
                    release(rollout, rule=rule, names=[], **BY)
            assert not of_rollout.exclude(hold_reason="").exclude(phase="waiting").exists()
            assert of_rollout.count() == 7
            assert (
                sum(n for _, n in Delivery.objects.held_with_counts(rollout.pk))
                == of_rollout.exclude(hold_reason="").count()
            )
        transaction.set_rollback(True)
