"""What models and firmware can do: the table, and how preflight, commands and files ahead go by it."""

from datetime import time
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rest_framework.test import APIClient

from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import Occurrence, When
from herald.deliveries.models import Delivery
from herald.fleet.capabilities import RangeDraft, lacking, lacking_rule, set_capabilities, supported_now
from herald.fleet.models import CapabilityRange, Device
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.rule_queries import matching
from herald.http.errors import InvalidFields, NobodyThere
from herald.record.models import RecordEntry
from herald.rollouts.compose.drafts import preflight
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.watch.forecast import forecast_rollout
from herald_core.capabilities import Capability
from herald_core.rules import parse
from tests.factories import NOW, launched, make_device, make_draft, make_model, make_static, make_user, restart

pytestmark = pytest.mark.django_db
VERSIONS = ("", "4.9.0", "5.0.0-rc.1", "5.0.0", "5.1.2", "5.2.0", "6")


def limit(capability: Capability = Capability.RESTART, model: str = "Sill 400", **fields: Any) -> None:
    set_capabilities(make_model(model), [RangeDraft(capability=capability, **fields)], actor=None, now=NOW)


@st.composite
def ranges(draw: st.DrawFn) -> RangeDraft:
    low, high = sorted(draw(st.tuples(st.sampled_from(range(7)), st.sampled_from(range(7)))))
    never = draw(st.booleans())
    ends = {} if never else {"from_version": VERSIONS[low], "to_version": VERSIONS[high]}
    return RangeDraft(capability=Capability.RESTART, never=never, **ends)


@settings(max_examples=30, deadline=None)
@given(sill=ranges(), rill=ranges())
def test_the_table_the_query_and_the_rule_find_the_same_devices(sill: RangeDraft, rill: RangeDraft) -> None:
    Device.objects.all().delete()
    models = [make_model("Sill 400"), make_model("Rill V2", "Rill"), make_model("Drum P7", "Drum")]
    devices = [make_device(model=m, firmware=v or None) for m in models for v in VERSIONS]
    for model, draft in zip(models, (sill, rill), strict=False):
        set_capabilities(model, [draft], actor=None, now=NOW)
    table = supported_now()
    by_table = {d.pk for d in devices if Capability.RESTART in table.lacks(d.model_id, d.firmware_key)}
    assert set(Device.objects.filter(lacking(Capability.RESTART)).values_list("pk", flat=True)) == by_table
    rule = lacking_rule(Capability.RESTART)
    words = load_vocabulary()
    found = matching(parse(rule, words), words, now=NOW).values_list("pk", flat=True) if rule else ()
    assert set(found) == by_table


def test_ranges_are_kept_in_place_of_those_before_and_recorded() -> None:
    limit(from_version="5.0", to_version="5.9")
    limit(Capability.NOTICE, never=True)
    assert [(r.capability, r.never) for r in CapabilityRange.objects.all()] == [("notice", True)]
    assert RecordEntry.objects.latest("id").sentence == (
        "Changed what Sill 400 can do: show a notice on no firmware; restart by command on all firmware"
    )
    count = RecordEntry.objects.count()
    limit(Capability.NOTICE, never=True)
    assert RecordEntry.objects.count() == count  # nothing changed, nothing to record


@pytest.mark.parametrize(
    ("fields", "pointer"),
    [
        ({"from_version": "five point two"}, "/ranges/0/from_version"),
        ({"from_version": "5.2", "to_version": "5.1"}, "/ranges/0/to_version"),
        ({"never": True, "to_version": "5.1"}, "/ranges/0/never"),
    ],
)
def test_ranges_that_do_not_fit_are_refused_and_change_nothing(fields: dict[str, Any], pointer: str) -> None:
    limit(from_version="5.0")
    with pytest.raises(InvalidFields) as refused:
        limit(**fields)
    assert [e["pointer"] for e in refused.value.extra["errors"]] == [pointer]
    assert CapabilityRange.objects.get().from_version == "5.0"


def test_a_command_leaves_out_devices_whose_firmware_cannot() -> None:
    devices = [make_device(), make_device(firmware="4.9.0"), make_device(firmware=None)]
    group = make_static("G", devices)
    limit(from_version="5.0.0")
    draft = ScheduleDraft(template=restart(), include=[group], when=When.NOW)
    schedule = create_schedule(draft, actor=None, now=NOW)
    assert [d.device_id for d in Delivery.objects.of_schedule(schedule.pk)] == [devices[0].pk]
    occurrence = Occurrence.objects.get()
    assert (occurrence.audience, occurrence.unsupported_count) == (1, 2)
    with pytest.raises(NobodyThere):
        limit(never=True)
        create_schedule(draft, actor=None, now=NOW)


def test_preflight_counts_who_cannot_and_opens_them() -> None:
    able, unable = make_device(), make_device(firmware="4.9.0")
    limit(Capability.FILES_AHEAD, from_version="5.0.0")
    hours = {"window_start": time(5), "window_end": time(7)}
    rollout = make_draft(make_static("G", [able, unable]), prefetch=True, notice="Soon", **hours)
    found = preflight(rollout, now=NOW)
    assert found.lacking == {Capability.FILES_AHEAD: 1}
    assert [d.id for d in found.behind("files_ahead")] == [unable.pk]
    assert [d.id for d in found.behind("straight")] == [able.pk, unable.pk]
    launched(rollout)
    tick_rollouts(now=NOW)
    phases = dict(Delivery.objects.of_rollout(rollout.pk).values_list("device_id", "phase"))
    assert phases == {able.pk: "offered", unable.pk: "waiting"}
    assert forecast_rollout(rollout, now=NOW).forecast.end.median > 0


def test_the_api_shows_previews_and_sets_the_table() -> None:
    make_device(firmware="4.9.0")
    api = APIClient()
    api.force_authenticate(make_user())
    model = make_model()
    body = {"ranges": [{"capability": "restart", "from_version": "5.0.0"}]}
    told = api.post(f"/api/v1/models/{model.pk}/capabilities/preview", body, format="json").data
    cell = next(c for c in told["capabilities"] if c["capability"] == "restart")
    assert (cell["without"], cell["rule"]) == (1, 'model = "Sill 400" and not firmware >= 5.0.0')
    assert CapabilityRange.objects.count() == 0
    assert api.put(f"/api/v1/models/{model.pk}/capabilities", body, format="json").data == told
    assert api.get("/api/v1/capabilities").data == [told]
    group = make_static("G", list(Device.objects.all()))
    schedule = {"template": "restart", "include": [group.pk], "when": "now"}
    preview = api.post("/api/v1/schedules/preview", schedule, format="json").data
    assert (preview["devices"], preview["unsupported_count"]) == (0, 1)
    assert api.get("/api/v1/devices", {"rule": preview["unable_rule"]}).data["count"] == 1
