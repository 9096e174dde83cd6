"""500 random rules on 2,000 random devices: database, memory and the reference agree on each."""

import random
from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings

from herald.fleet.editing import fact_sort_keys
from herald.fleet.models import Custodian, Device, DeviceModel, PropertyDefinition, Site
from herald.fleet.vocabulary import load_records, load_vocabulary, record_with_groups
from herald.groups.models import Group, GroupMembership
from herald.groups.rule_queries import matching
from herald_core.rules import Node, Record, compile_predicate, parse, to_text
from herald_core.versions import version_key, version_key_or_none
from tests.core.reference import holds
from tests.core.strategies import DAYS, EXTRA, GROUPS, NOW, NUMBERS, TAGS, TIMES, VERSIONS, WORDS, rule_nodes

pytestmark = pytest.mark.django_db
DEVICES = 2000


class Fleet:
    """The records of devices by id; said briefly, as hypothesis prints what a test was given."""

    def __init__(self, records: dict[int, Record]) -> None:
        self.records = records

    def __repr__(self) -> str:
        return f"{len(self.records)} devices"

    def matched_by(self, predicate: Callable[[Record], bool]) -> set[int]:
        return {pk for pk, record in self.records.items() if predicate(record)}


@pytest.fixture
def fleet() -> Fleet:
    """Devices with every kind of value, missing ones among them."""
    rng = random.Random(20261123)
    PropertyDefinition.objects.bulk_create(
        PropertyDefinition(key=s.key, source=s.source, label=s.label, type=s.type.value, choices=list(s.choices))
        for s in EXTRA
    )
    models = [DeviceModel.objects.create(name=n, family=f) for n, f in (("A", "a"), ("é", ""), ("100%", "A"))]
    sites = [Site.objects.create(name=n, region=r, time_zone="UTC") for n, r in (("Ab c", "é"), ("a_b", ""))]
    people = [
        Custodian.objects.create(name=n, email="a@example.com", tags=t) for n, t in (("ß", ["lab", "é"]), ("A", []))
    ]
    groups = [Group.objects.create(name=g, kind="static", created_at=NOW, updated_at=NOW) for g in GROUPS]
    Device.objects.bulk_create(_device(rng, n, models, [None, *sites], [None, *people]) for n in range(DEVICES))
    GroupMembership.objects.bulk_create(
        GroupMembership(group=group, device=device, since=NOW, cause="drawn")
        for device in Device.objects.all()
        for group in rng.sample(groups, rng.randrange(3))
    )
    inside: dict[int, list[str]] = {}
    for pk, name in GroupMembership.objects.values_list("device_id", "group__name"):
        inside.setdefault(pk, []).append(name)
    ids = list(Device.objects.values_list("id", flat=True))
    records = load_records(ids, load_vocabulary(), NOW)
    return Fleet({pk: record_with_groups(record, inside.get(pk, [])) for pk, record in records.items()})


def _device(rng: random.Random, number: int, models: Any, sites: Any, people: Any) -> Device:
    def some(**values: list[Any]) -> dict[str, Any]:
        return {key: rng.choice(choices) for key, choices in values.items() if rng.random() < 0.7}

    firmware, loader = rng.choice([None, *VERSIONS]), rng.choice([None, *VERSIONS])
    # facts are as devices report them: also of other types than most
    facts = some(
        battery=[*NUMBERS, "full"],
        uplink=[*WORDS, 3],
        door_open=[True, False, "open"],
        boot=[*VERSIONS, "unknown", "n/a", "5 2", 5],
        checked_on=[*(d.isoformat() for d in DAYS), "soon", "2026-13-45", "20261122", 20261122],
    )
    attributes = some(
        note=WORDS,
        crop=["olive", "Grape"],
        class_no=NUMBERS,
        leased=[True, False],
        made_on=[d.isoformat() for d in DAYS],
    )
    return Device(
        uid=f"{number}{rng.choice(WORDS)}",
        name=f"{rng.choice(WORDS)}{number}",
        serial=rng.choice(WORDS),
        model=rng.choice(models),
        site=rng.choice(sites),
        custodian=rng.choice(people),
        hardware_revision=rng.choice(["", "A", "b"]),
        firmware=firmware,
        firmware_key=version_key_or_none(firmware),
        time_zone=rng.choice(["UTC", "Asia/Kolkata", ""]),
        tags=rng.sample(TAGS, rng.randrange(3)),
        attributes={**attributes, "loader": loader} if loader else attributes,
        version_keys={**({"loader": version_key(loader)} if loader else {}), **fact_sort_keys(facts, ["boot"])},
        facts=facts,
        admission=rng.choice(["waiting", "admitted", "retired"]),
        check_in_interval_seconds=rng.choice([60, 900, 20_000]),
        last_check_in=rng.choice([None, *TIMES]),
        first_seen=rng.choice([None, *TIMES]),
    )


@settings(max_examples=500, deadline=None, suppress_health_check=list(HealthCheck))
@given(node=rule_nodes())
def test_three_evaluations_agree(fleet: Fleet, node: Node) -> None:
    vocabulary = load_vocabulary()
    node = parse(to_text(node), vocabulary)
    in_memory = fleet.matched_by(compile_predicate(node, vocabulary, NOW))
    assert in_memory == fleet.matched_by(lambda record: holds(node, record, NOW)), to_text(node)
    assert in_memory == set(matching(node, vocabulary, NOW).values_list("pk", flat=True)), to_text(node)
