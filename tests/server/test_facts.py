"""Facts are found in what devices report, counted, and never move anybody by themselves."""

from datetime import timedelta
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from rest_framework.test import APIClient

from herald.catalog import facts
from herald.catalog.facts import find_facts
from herald.fleet.models import Device, PropertyDefinition, ReportedFact
from herald.fleet.properties import MOST_KEYS, kind_expression
from herald.gateway.flush import PendingCheckIn, flush
from herald.gateway.messages import CheckIn
from herald.groups.membership import process_changed_devices
from herald_core.facts import kind_of
from herald_core.text import is_storable
from tests.factories import NOW, make_device, make_devices, make_rule_group

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]


def report(device: Device, **said: Any) -> None:
    flush([PendingCheckIn(device.secret_hash or "", CheckIn(facts=said))], now=NOW)


def listed(client: APIClient) -> dict[str, dict[str, Any]]:
    return {f["key"]: f for f in client.get("/api/v1/facts").json()}


def test_a_fact_nobody_defined_is_usable_soon_after_it_is_first_reported(client: APIClient) -> None:
    first, second = make_devices(2)
    report(first, odd_fact="5.10", depth=3, open_=True)
    report(second, odd_fact="5.9")
    assert client.get("/api/v1/devices", {"rule": "odd_fact > 5.9"}).status_code == 422
    assert find_facts(now=NOW) and not find_facts(now=NOW)
    found = listed(client)
    assert {k: f["type"] for k, f in found.items()} == {"odd_fact": "version", "depth": "number", "open_": "yes/no"}
    assert (found["odd_fact"]["devices"], found["odd_fact"]["label"]) == (2, "Odd fact")
    matched = client.get("/api/v1/devices", {"rule": "odd_fact > 5.9", "columns": "odd_fact"}).json()
    assert [d["name"] for d in matched["devices"]] == [first.name]
    grid = client.get("/api/v1/devices/grid", {"row": "odd_fact", "column": "model"}).json()
    assert sorted(grid["rows"]) == ["5.10", "5.9", "none"][: len(grid["rows"])]
    group = make_rule_group("G", "odd_fact >= 5.10")
    report(second, odd_fact="6.0")
    process_changed_devices(now=NOW)
    assert group.memberships.count() == 2


def test_values_that_do_not_fit_are_missing_and_listed(client: APIClient) -> None:
    for n, device in enumerate(make_devices(100)):
        Device.objects.filter(pk=device.pk).update(facts={"depth": "deep" if n == 0 else n})
    ReportedFact.objects.create(key="depth", first_at=NOW)
    find_facts(now=NOW)
    found = listed(client)["depth"]
    assert (found["type"], found["mixed"], found["incompatible_count"]) == ("number", False, 1)
    assert found["incompatible_values"] == [{"value": "deep", "devices": 1}]
    assert client.get("/api/v1/devices", {"rule": "depth is missing"}).json()["count"] == 1


def test_keys_of_attributes_and_of_built_in_fields_conflict_and_are_shown(client: APIClient) -> None:
    PropertyDefinition.objects.create(key="crop", source="attribute", label="Crop", type="text")
    report(make_device(), crop="vine", site="Mars", depth=1)
    find_facts(now=NOW)
    found = listed(client)
    assert {k: (f["conflict"], f["type"], f["devices"]) for k, f in found.items()} == {
        "crop": ("attribute", None, 1),
        "site": ("built-in", None, 1),
        "depth": ("", "number", 1),
    }
    assert client.get("/api/v1/devices", {"rule": "site = Mars"}).json()["count"] == 0
    body = {"key": "depth", "label": "Depth", "type": "number"}
    assert client.post("/api/v1/attributes", body, format="json").status_code == 422
    PropertyDefinition.objects.get(key="crop").delete()
    ReportedFact.objects.filter(key="crop").update(counted_at=None)
    find_facts(now=NOW)
    assert listed(client)["crop"]["type"] == "text"


def test_a_found_type_follows_the_values_until_a_rule_reads_it_or_a_person_says_otherwise(client: APIClient) -> None:
    device = make_device()
    report(device, depth="shallow")
    find_facts(now=NOW)
    report(device, depth=3)
    later = NOW + timedelta(hours=2)
    find_facts(now=later)
    assert listed(client)["depth"]["type"] == "number"
    make_rule_group("G", "depth > 2")
    report(device, depth="shallow")
    find_facts(now=later + timedelta(hours=2))
    assert (listed(client)["depth"]["type"], listed(client)["depth"]["incompatible_count"]) == ("number", 1)
    refused = client.patch("/api/v1/facts/depth", {"type": "yes/no"}, format="json")
    assert refused.status_code == 409 and "G" in refused.json()["detail"]
    Device.objects.all()
    changed = client.patch("/api/v1/facts/depth", {"label": "Depth", "unit": "m", "type": "number"}, format="json")
    assert (changed.json()["label"], changed.json()["unit"], changed.json()["found"]) == ("Depth", "m", False)
    assert client.patch("/api/v1/facts/depth", {"type": "choice"}, format="json").status_code == 422
    assert client.patch("/api/v1/facts/no_such", {"label": "x"}, format="json").status_code == 404


def test_a_fact_that_becomes_a_version_again_is_compared_by_the_values_of_now(client: APIClient) -> None:
    device = make_device()
    for hours, value, kind in ((0, "5.1", "version"), (2, 7, "number"), (4, "4.0", "version")):
        report(device, depth=value)
        find_facts(now=NOW + timedelta(hours=hours))
        assert listed(client)["depth"]["type"] == kind
    assert client.get("/api/v1/devices", {"rule": "depth < 5.0"}).json()["count"] == 1


def test_a_version_that_was_reported_while_its_fact_was_defined_is_mended() -> None:
    device = make_device(facts={"boot": "2.0"})
    PropertyDefinition.objects.create(key="boot", source="fact", label="Boot", type="version")
    group = make_rule_group("G", "boot >= 2.0")
    assert group.memberships.count() == 0
    find_facts(now=NOW)
    process_changed_devices(now=NOW)
    assert [m.device for m in group.memberships.all()] == [device]


def test_a_device_cannot_fill_the_table_with_keys() -> None:
    ReportedFact.objects.bulk_create(ReportedFact(key=f"k{n}", first_at=NOW, counted_at=NOW) for n in range(MOST_KEYS))
    report(make_device(), one_more=1)
    assert ReportedFact.objects.count() == MOST_KEYS


def test_one_key_that_cannot_be_counted_does_not_keep_the_others(monkeypatch: pytest.MonkeyPatch) -> None:
    report(make_device(), bad=1, good=2)
    real = facts._count

    def failing(key: str, now: Any) -> None:
        if key == "bad":
            raise ValueError(key)
        real(key, now)

    monkeypatch.setattr(facts, "_count", failing)
    find_facts(now=NOW)
    assert PropertyDefinition.objects.filter(key="good").exists() and not find_facts(now=NOW)


VALUES = st.one_of(
    st.booleans(),
    st.integers(-(10**12), 10**12),
    st.floats(-1e6, 1e6),
    st.text(max_size=12).filter(is_storable),
    st.from_regex(r"\A[vV]?[0-9]{1,3}([.][0-9]{1,3}){0,4}([-+.][0-9A-Za-z.]{0,4})?\Z"),
    st.from_regex(r"\A20[0-9]{2}-[01][0-9]-[0-3][0-9]\n?\Z"),
    st.text(alphabet="0123456789.", min_size=60, max_size=70),
)


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(values=st.lists(VALUES, min_size=1, max_size=60))
def test_the_database_sees_in_a_value_what_the_core_sees(values: list[Any]) -> None:
    Device.objects.all().delete()
    devices = [make_device(facts={"x": value}) for value in values]
    seen = dict(Device.objects.values_list("pk").annotate(kind=kind_expression("x")))
    assert [seen[d.pk] for d in devices] == [kind_of(v).value for v in values], values
