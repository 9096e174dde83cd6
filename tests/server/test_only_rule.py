"""A rollout to those of its groups' devices that a rule matches: at launch, by extending, and as devices join."""

from datetime import timedelta

import pytest
from django.db.models import QuerySet
from rest_framework.test import APIClient

from herald.deliveries.models import Delivery
from herald.fleet.models import Device, PropertyDefinition
from herald.groups.membership import set_members
from herald.record.models import RecordEntry
from herald.rollouts.compose.drafts import preflight
from herald.rollouts.engine import audience_sync
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.models import Rollout
from herald.rollouts.watch.sentence import rollout_sentence
from tests.factories import NOW, launched, make_device, make_devices, make_draft, make_image, make_static, make_user

pytestmark = pytest.mark.django_db
MINUTE = timedelta(minutes=1)


def in_rollout(rollout: Rollout) -> set[int]:
    return set(Delivery.objects.of_rollout(rollout.pk).values_list("device_id", flat=True))


def everyone() -> "QuerySet[Device]":
    return Device.objects.all()


def test_only_those_that_the_rule_matches_take_part_also_by_extending() -> None:
    fit, other, later, later_other = (make_device(hardware_revision=r) for r in "BCBC")
    rollout = make_draft(make_static("G", [fit, other]), rule_filter="hardware = B")
    assert (preflight(rollout, now=NOW).audience, preflight(rollout, now=NOW).reached) == (1, 1)
    assert "on G, only those with hardware = B, in 1 ring" in rollout_sentence(rollout)
    rollout = launched(rollout)
    assert in_rollout(rollout) == {fit.pk}
    told = audience_sync.extend(rollout, [make_static("H", [later, later_other])], actor=None, now=NOW)
    assert told.joins == 1 and in_rollout(rollout) == {fit.pk, later.pk}


def test_who_joins_must_fit_and_who_no_longer_fits_stays() -> None:
    first, second = make_devices(2)
    group = make_static("G", [first])
    rollout = launched(
        make_draft(group, rule_filter="hardware = B", follows_audience=True, starts_at=NOW + 60 * MINUTE)
    )
    Device.objects.filter(pk=first.pk).update(hardware_revision="C")
    make_device(hardware_revision="C")
    set_members(group, everyone(), now=NOW, cause="t")
    tick_rollouts(now=NOW + MINUTE)
    assert in_rollout(rollout) == {first.pk, second.pk}
    assert set(Delivery.objects.of_rollout(rollout.pk).values_list("phase", flat=True)) == {"waiting"}


def test_a_rule_that_cannot_be_read_is_refused_with_its_place_and_names_nobody_later() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    client.post("/api/v1/attributes", {"key": "crop", "label": "Crop", "type": "text"}, format="json")
    group, image = make_static("G", make_devices(1, attributes={"crop": "figs"})), make_image()
    body = {
        "changes": [{"choice": "image", "image_id": image.pk}],
        "include": [group.pk],
        "rings": [{"name": "All", "kind": "rest"}],
        "rule_filter": "crop = figs",
    }
    refused = client.post("/api/v1/rollouts", {**body, "rule_filter": "cropp = figs"}, format="json")
    assert refused.status_code == 422
    assert (refused.json()["errors"][0]["line"], refused.json()["errors"][0]["column"]) == (1, 1)
    made = client.post("/api/v1/rollouts", {**body, "follows_audience": True}, format="json").json()
    assert made["rule_filter"] == "crop = figs"
    rollout = launched(Rollout.objects.get(pk=made["id"]))
    PropertyDefinition.objects.filter(key="crop").delete()  # as if it had gone while nobody looked
    make_device()
    set_members(group, everyone(), now=NOW, cause="t")
    for minute in (1, 2):
        tick_rollouts(now=NOW + minute * MINUTE)
    rollout.refresh_from_db()
    assert (rollout.follows_audience, len(in_rollout(rollout))) == (False, 1)
    assert RecordEntry.objects.filter(sentence__startswith="Its audience is fixed from now on").count() == 1


def test_its_rule_follows_as_what_it_names_gets_another_name_and_keeps_it_from_being_deleted() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    first, second = make_device(tags=["north"]), make_device(tags=["north"])
    marked, group = make_static("Marked", [first]), make_static("G", [first])
    rollout = launched(make_draft(group, rule_filter="tag = north and group = Marked", follows_audience=True))
    assert "rollout" in client.delete("/api/v1/tags/north").json()["detail"]
    assert client.delete(f"/api/v1/groups/{marked.pk}").json()["uses"][0]["kind"] == "rollout"
    assert client.post("/api/v1/tags/north/rename", {"to": "upland"}, format="json").status_code == 200
    renamed = client.patch(f"/api/v1/groups/{marked.pk}", {"name": "Chosen ones"}, format="json")
    assert renamed.status_code == 200, renamed.json()
    rollout.refresh_from_db()
    assert rollout.rule_filter == 'tag = upland and group = "Chosen ones"'
    for whom in (group, marked):
        set_members(whom, Device.objects.filter(pk__in=[first.pk, second.pk]), now=NOW, cause="t")
    tick_rollouts(now=NOW + MINUTE)
    assert in_rollout(rollout) == {first.pk, second.pk}
