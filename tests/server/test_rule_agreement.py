"""The two engines of the rule language agree on every device and every rule."""

from datetime import timedelta
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from herald.db.expressions import Fold
from herald.fleet.models import Custodian, Device, DeviceModel, PropertyDefinition, Site
from herald.fleet.vocabulary import load_records, load_vocabulary, record_with_groups
from herald.groups.models import Group, GroupMembership
from herald.groups.rule_queries import matching
from herald.groups.sieve import compute_sieve
from herald_core.rules import And, compile_predicate, parse, to_text
from herald_core.rules.sieve import lines_of
from herald_core.text import FOLD_TABLE, fold, nfc
from herald_core.versions import version_key, version_key_or_none
from tests.core.strategies import DAYS, EXTRA, GROUPS, NOW, NUMBERS, TAGS, TIMES, VERSIONS, WORDS, maybe, rule_nodes

pytestmark = pytest.mark.django_db

# values of other kinds than the property's count as missing, in both engines
ODD = [True, 3, "text", 2.5, [1], {"a": 1}]
attributes = st.fixed_dictionaries(
    {},
    optional={
        "note": st.sampled_from([*WORDS, *ODD]),
        "crop": st.sampled_from(["olive", "Grape", 7]),
        "class_no": st.sampled_from([*NUMBERS, *ODD]),
        "leased": st.sampled_from([True, False, "yes", 1]),
        "made_on": st.sampled_from([d.isoformat() for d in DAYS]),
        "loader": st.sampled_from(VERSIONS),
    },
)
facts = st.fixed_dictionaries(
    {},
    optional={
        "battery": st.sampled_from([*NUMBERS, 20.0, 0.30000000000000004, *ODD]),
        "uplink": st.sampled_from([*WORDS, False]),
        "door_open": st.booleans(),
    },
)
names = st.sampled_from([w for w in WORDS if w])
devices = st.fixed_dictionaries(
    {
        "serial": st.sampled_from(WORDS),
        "hardware_revision": st.sampled_from(["", "A", "b"]),
        "firmware": maybe(VERSIONS),
        "time_zone": st.sampled_from(["UTC", "Asia/Kolkata", ""]),
        "tags": st.lists(st.sampled_from(TAGS), unique=True, max_size=3),
        "attributes": attributes,
        "facts": facts,
        "admission": st.sampled_from(["waiting", "admitted", "retired"]),
        "check_in_interval_seconds": st.sampled_from([60, 900, 20_000]),
        "last_check_in": maybe(TIMES),
        "first_seen": maybe(TIMES),
    }
)


def _world(data: st.DataObject, count: int) -> None:
    """Models, places, people and devices drawn at random."""
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
    for number in range(count):
        fields: dict[str, Any] = data.draw(devices)
        loader = fields["attributes"].get("loader")
        device = Device.objects.create(
            uid=f"{number}{data.draw(names)}",
            name=f"{data.draw(names)}{number}",
            model=data.draw(st.sampled_from(models)),
            site=data.draw(st.one_of(st.none(), st.sampled_from(sites))),
            custodian=data.draw(st.one_of(st.none(), st.sampled_from(people))),
            firmware_key=version_key_or_none(fields["firmware"]),
            version_keys={"loader": version_key(loader)} if loader else {},
            **fields,
        )
        for group in data.draw(st.lists(st.sampled_from(groups), unique=True, max_size=2)):
            GroupMembership.objects.create(group=group, device=device, since=NOW, cause="drawn")


@settings(max_examples=40, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_database_and_memory_agree(data: st.DataObject) -> None:
    from django.db import transaction

    with transaction.atomic():
        _world(data, 8)
        vocabulary = load_vocabulary()
        ids = list(Device.objects.values_list("id", flat=True))
        records = load_records(ids, vocabulary, NOW)
        inside: dict[int, set[str]] = {i: set() for i in ids}
        for device_id, name in GroupMembership.objects.values_list("device_id", "group__name"):
            inside[device_id].add(name)
        for _ in range(12):
            node = data.draw(rule_nodes())
            text = to_text(node)
            assert parse(text, vocabulary) == node
            predicate = compile_predicate(node, vocabulary, NOW)
            in_memory = {i for i in ids if predicate(record_with_groups(records[i], inside[i]))}
            in_database = set(matching(node, vocabulary, NOW).values_list("id", flat=True))
            assert in_database == in_memory, text
        transaction.set_rollback(True)


def test_the_database_folds_every_character_as_the_core_does() -> None:
    from django.db.models import Value

    characters = "".join(map(chr, [*FOLD_TABLE, *range(0x20, 0x250), 0x130, 0x1F600]))
    device = Device.objects.create(
        uid="x", name="x", model=DeviceModel.objects.create(name="m", family="f"), time_zone="UTC"
    )
    row = Device.objects.filter(pk=device.pk).annotate(f=Fold(Value(characters))).values_list("f", flat=True)
    assert row[0] == fold(characters)
    assert nfc("e\u0301") == "é"


def test_presence_has_its_bounds_in_both_engines() -> None:
    model = DeviceModel.objects.create(name="m", family="f")
    ages = [timedelta(seconds=1800), timedelta(seconds=1801), timedelta(hours=24), timedelta(hours=24, seconds=1)]
    for n, age in enumerate(ages):
        Device.objects.create(uid=str(n), name=str(n), model=model, time_zone="UTC", last_check_in=NOW - age)
    vocabulary = load_vocabulary()
    for word, expected in (("on time", {"0"}), ("late", {"1", "2"}), ("silent", {"3"})):
        node = parse(f'presence = "{word}"', vocabulary)
        assert set(matching(node, vocabulary, NOW).values_list("uid", flat=True)) == expected


@settings(max_examples=15, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_the_sieve_agrees_with_each_line_in_memory(data: st.DataObject) -> None:
    from django.db import transaction

    with transaction.atomic():
        _world(data, 8)
        vocabulary = load_vocabulary()
        records = load_records(list(Device.objects.values_list("id", flat=True)), vocabulary, NOW)
        inside: dict[int, set[str]] = {i: set() for i in records}
        for device_id, name in GroupMembership.objects.values_list("device_id", "group__name"):
            inside[device_id].add(name)
        for _ in range(6):
            node = parse(to_text(And((data.draw(rule_nodes()), data.draw(rule_nodes())))), vocabulary)
            lines = [compile_predicate(line, vocabulary, NOW) for line in lines_of(node)]
            passed = [[p(record_with_groups(r, inside[i])) for p in lines] for i, r in records.items()]
            found = compute_sieve(to_text(node), limit=50, now=NOW)
            assert [x.counts.alone for x in found.lines] == [sum(column) for column in zip(*passed, strict=True)]
            assert [x.counts.left for x in found.lines] == [
                sum(all(row[: n + 1]) for row in passed) for n in range(len(lines))
            ]
            assert found.count == sum(map(all, passed))
            assert found.missed_count == len(found.missed) == sum(row.count(False) == 1 for row in passed)
        transaction.set_rollback(True)
