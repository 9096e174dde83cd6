"""An image that failed before says so, and is sent again only with a reason."""

import pytest
from rest_framework.test import APIClient

from herald.deliveries import services as deliveries
from herald.http.errors import Invalid
from herald.record.models import RecordEntry
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald.time import clock
from herald_core.deliveries import Event
from tests.factories import NOW, launched, make_devices, make_draft, make_image, make_static, make_user

pytestmark = pytest.mark.django_db


def failed_once(halted: bool = True) -> Rollout:
    """A rollout of four devices of which three failed."""
    rollout = launched(make_draft(make_static("First", make_devices(4)), max_attempts=1))
    tick_rollouts(now=NOW)
    last = rollout.deliveries.order_by("id").last()
    deliveries.move(rollout.deliveries.exclude(pk=last.pk), Event.FAIL, now=NOW, cause="flash-verify")
    deliveries.move(rollout.deliveries.filter(pk=last.pk), Event.RETURN, now=NOW, cause="back")
    deliveries.move(rollout.deliveries.filter(pk=last.pk), Event.CONFIRM, now=NOW, cause="good")
    if halted:
        lifecycle.halt(rollout, reason="3 of 4 failed", now=NOW)
    lifecycle.stop(rollout, actor=None, now=NOW)
    return rollout


def again(earlier: Rollout) -> Rollout:
    return make_draft(make_static("Second", make_devices(2)), earlier.changes.get().image)


def test_preflight_says_how_it_went_before() -> None:
    earlier = failed_once()
    draft = again(earlier)
    client = APIClient()
    client.force_authenticate(make_user())
    with clock.fixed(NOW):
        told = client.post(f"/api/v1/rollouts/{draft.pk}/preflight").json()["past_failures"]
    assert told == [f"Sill 5.2.1 failed on 3 of 4 in rollout {earlier.pk}, which halted itself"]


def test_a_launch_needs_the_reason_and_keeps_it() -> None:
    draft = again(failed_once())
    client = APIClient()
    client.force_authenticate(make_user())
    with clock.fixed(NOW):
        url = f"/api/v1/rollouts/{draft.pk}/launch"
        refused = client.post(url, {"devices": 2}, format="json")
        assert (refused.status_code, refused.json()["errors"][0]["pointer"]) == (422, "/reason")
        assert client.post(url, {"devices": 2, "reason": "  "}, format="json").status_code == 422
        assert client.post(url, {"devices": 2, "reason": "The loader is mended"}, format="json").status_code == 202
    launching.launch(draft, now=NOW)
    assert "The loader is mended" in RecordEntry.objects.filter(object_id=draft.pk).latest("id").sentence


def test_few_failures_within_the_limit_are_no_reason_to_ask() -> None:
    earlier = failed_once(halted=False)
    draft = again(earlier)
    Rollout.objects.filter(pk=draft.pk).update(failure_limit_pct=80)
    draft.refresh_from_db()
    launching.request_launch(draft, expected=2, actor=None, now=NOW)
    assert Rollout.objects.get(pk=draft.pk).launched_despite == ""


def test_another_image_is_not_blamed() -> None:
    failed_once()
    other = make_draft(make_static("Second", make_devices(2)), make_image("5.3.0", b"other"))
    launching.request_launch(other, expected=2, actor=None, now=NOW)


def test_only_what_was_carried_out_counts() -> None:
    earlier = failed_once(halted=False)
    earlier.deliveries.update(offered_at=None)
    launching.request_launch(again(earlier), expected=2, actor=None, now=NOW)


def test_a_launch_that_fails_leaves_its_reason_in_the_record() -> None:
    group = make_static("First", make_devices(1))
    draft = make_draft(group)
    launching.request_launch(draft, expected=1, actor=None, now=NOW)
    group.memberships.all().delete()
    assert launching.launch(draft, now=NOW) is None
    draft.refresh_from_db()
    assert draft.state == "draft" and "audience is empty" in draft.reason
    assert "The launch failed" in RecordEntry.objects.latest("id").sentence


def test_a_launch_that_breaks_ends_after_its_last_attempt(monkeypatch: pytest.MonkeyPatch) -> None:
    from types import SimpleNamespace

    from herald.rollouts.tasks import ATTEMPTS, carry_out_launch

    draft = make_draft(make_static("First", make_devices(1)))
    launching.request_launch(draft, expected=1, actor=None, now=NOW)

    def broken(*args: object, **kwargs: object) -> None:
        raise ValueError("planted")

    monkeypatch.setattr(launching, "write_devices", broken)
    for attempts, state in ((ATTEMPTS - 1, "launching"), (ATTEMPTS, "draft")):
        with pytest.raises(ValueError, match="planted"):
            carry_out_launch.func(SimpleNamespace(job=SimpleNamespace(attempts=attempts)), rollout_id=draft.pk)
        draft.refresh_from_db()
        assert draft.state == state
    assert draft.reason == "ValueError: planted"


def test_without_a_reason_the_service_refuses_too() -> None:
    with pytest.raises(Invalid) as refused:
        launching.request_launch(again(failed_once()), expected=2, actor=None, now=NOW)
    assert len(refused.value.extra["failures"]) == 1
