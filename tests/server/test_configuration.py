"""Configuration as files: exported, compared with its consequences, applied as one act or not at all."""

from collections.abc import Callable
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import pytest
from django.db import connection
from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator
from rest_framework.test import APIClient

from herald.calendar.models import Freeze
from herald.calendar.services import FreezeDraft, save_freeze
from herald.catalog.attributes import Definition, make_attribute
from herald.catalog.tags import describe_tag
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import CommandTemplate, Schedule, When
from herald.commands.templates import Offer, TemplateDraft, save_template
from herald.configuration import services
from herald.configuration.kinds import KINDS
from herald.configuration.models import KeptByFile
from herald.configuration.services import Moved, Origin, apply, compare_with, export
from herald.fleet.models import DeviceModel, PropertyDefinition, Site, Tag
from herald.groups.consequences.acceptance import NotAgreed
from herald.groups.folders import make_folder
from herald.groups.models import Folder, Group
from herald.groups.services import change_group, create_group
from herald.http.errors import InvalidFields
from herald.record.models import RecordEntry
from herald.rollouts.compose.ring_plans import save_ring_plan
from herald.rollouts.models import RingPlan
from herald_core.actions import Action, Harm
from herald_core.configuration import Verb
from herald_core.rules import FieldType
from tests.factories import NOW, make_device, make_devices, make_model, make_rule_group, make_site, make_static, restart

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1/configuration"
DEEP = 'model = "Sill 400"\nand depth > 5'
Documents = dict[str, list[dict[str, Any]]]


def bring_in(documents: Documents, *, deletes: bool = False, **origin: Any) -> services.Plan:
    """Compare, agree to what is shown, and apply."""
    plan = compare_with(documents, deletes=deletes, now=NOW)
    agreement = services.Agreement(digest=plan.consequences.get("digest", ""))
    return apply(
        documents,
        deletes=deletes,
        digest=plan.digest,
        agreement=agreement,
        origin=Origin(**origin),
        actor=None,
        now=NOW,
    )


def done(plan: services.Plan) -> list[tuple[str, str, str]]:
    return [(d.kind, d.name, d.verb.value) for d in plan.differences]


def make_world() -> None:
    """One of each kind at least, and what they name of each other."""
    model, site = make_model("Sill 400"), make_site("Crow Hill", region="North", transfers_at_once=4)
    by = {"actor": None, "now": NOW}
    make_attribute(Definition(key="depth", label="Depth", type=FieldType.NUMBER, unit="m", default=2), **by)
    make_attribute(Definition(key="use", label="Use", type=FieldType.CHOICE, choices=["field", "yard"]), **by)
    PropertyDefinition.objects.create(key="salinity", source="fact", label="Salinity", type="number", found=True)
    estates = make_folder("Estates", None, **by)
    make_folder("South", estates, **by)
    zeta = make_static("Zeta", make_devices(2, model=model, site=site))
    change_group(zeta, family="Letters", **by)
    # that names one which comes after it by name, and a fact
    create_group(name="Alpha", kind="rule", rule='group = "Zeta"\nand salinity > 3', folder=estates, **by)
    create_group(name="Deep", kind="rule", rule=DEEP, note="all of “it”", only_model=model, **by)
    save_freeze(
        FreezeDraft(
            name="Harvest",
            starts_at=datetime(2027, 8, 1, tzinfo=UTC),
            ends_at=datetime(2027, 9, 1, tzinfo=UTC),
            repeats_yearly=True,
            groups=[Group.objects.get(name="Zeta")],
            sites=[site],
        ),
        **by,
    )
    rings = [
        {"name": "First", "kind": "group", "group_id": Group.objects.get(name="Zeta").pk, "confirmed_pct": 95.0},
        {"name": "Rest", "kind": "rest", "group_id": None, "soak_minutes": 30, "needs_approval": True},
    ]
    save_ring_plan("Careful", rings, note="a trial first", **by)
    defaults = {"reason": "x"} if "reason" in restart().schema["properties"] else {}
    save_template(
        TemplateDraft(name="Fresh start", action=Action.RESTART, defaults=defaults, offers=[Offer(model=model)]), **by
    )
    named = TemplateDraft(
        name="Purge valve",
        action=Action.NAMED,
        action_name="purge",
        schema={"type": "object", "properties": {"times": {"type": "integer", "title": "Times"}}},
        harm=Harm.DESTRUCTIVE,
        offers=[Offer(model=model, from_version="2.0")],
    )
    save_template(named, **by)
    describe_tag("frost-zone", note="nights below zero", colour=3, **by)
    create_schedule(nightly(), **by)


def nightly(**fields: Any) -> ScheduleDraft:
    """A command each night for a group."""
    usual = {"template": restart(), "include": [Group.objects.get(name="Zeta")], "name": "Nightly", "when": When.REPEAT}
    usual |= {"rule": "FREQ=DAILY", "time_of_day": time(4, 30), "starts_on": date(2026, 11, 1)}
    return ScheduleDraft(**{**usual, **fields})


def empty_world() -> None:
    """As a new installation is."""
    Schedule.objects.all().delete()
    Tag.objects.all().delete()
    Freeze.objects.all().delete()
    RingPlan.objects.all().delete()
    CommandTemplate.objects.filter(is_built_in=False).delete()
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM groups_groupreference")
        cursor.execute("DELETE FROM groups_groupmembership")
        cursor.execute("DELETE FROM fleet_device CASCADE")
    Group.objects.all().delete()
    Folder.objects.filter(parent__isnull=False).delete()
    for table in (Folder, PropertyDefinition, Site, DeviceModel):
        table.objects.all().delete()  # type: ignore[attr-defined]


# -- out and in ------------------------------------------------------------------------------------


def test_what_is_exported_is_the_same_after_it_was_applied_to_an_empty_installation() -> None:
    make_world()
    out = export()
    assert set(out) == set(KINDS) and all(out.values()), "one of each kind at least"
    assert not compare_with(out, deletes=True, now=NOW).differences
    empty_world()
    plan = bring_in(out)
    assert {d.verb for d in plan.differences} == {Verb.ADD}
    assert export() == out
    assert not compare_with(out, deletes=True, now=NOW).differences
    # members picked by hand are no configuration; rules find theirs
    assert Group.objects.get(name="Zeta").memberships.count() == 0


names = st.sampled_from(["A", "B", "C", "D"])
some_rules = st.sampled_from(["tag = x", "tag = y", 'group = "A"', "family = Sill"])
group_documents = st.lists(
    st.builds(
        lambda name, rule, note, folder: {"name": name, "rule": rule, "note": note, "folder": folder},
        names,
        some_rules,
        st.sampled_from(["", "a note"]),
        st.sampled_from([[], ["F"], ["F", "G"]]),
    ).filter(lambda d: not (d["name"] == "A" and "group" in d["rule"])),
    unique_by=lambda d: d["name"],
    max_size=4,
)
folder_documents = st.just([{"path": ["F"]}, {"path": ["F", "G"]}])


@settings(max_examples=15)
@given(first=group_documents, second=group_documents)
def test_whatever_was_there_what_is_wanted_is_there_afterwards(first: Any, second: Any) -> None:
    """Any two sets of groups, one after the other, with what is not wanted deleted: the export is what was wanted, and
    nothing is left to do. A rule that names a group that is to go is refused as a whole."""
    for groups in (first, second):
        before = export()
        documents = {"folders": [{"path": ["F"]}, {"path": ["F", "G"]}], "groups": groups}
        named = any("group" in d["rule"] for d in groups)
        there = any(d["name"] == "A" for d in groups)
        if named and not there:
            with pytest.raises(InvalidFields):
                bring_in(documents, deletes=True)
            assert export() == before
            continue
        bring_in(documents, deletes=True)
        found = {d["name"]: {"rule": "", "note": "", "folder": [], **d} for d in export()["groups"]}
        assert found == {d["name"]: d for d in groups}
        assert not compare_with(documents, deletes=True, now=NOW).differences


#: what devices are or say is deleted by no file
STAY = {"models", "sites", "tags", "facts"}


def test_every_kind_is_changed_and_deleted_as_it_is_written() -> None:
    """The generated table: each kind, changed in one field and put away again."""
    make_world()
    changes: dict[str, Callable[[dict[str, Any]], dict[str, Any]]] = {
        "models": lambda d: {**d, "family": "Sills"},
        "sites": lambda d: {**d, "region": "South"},
        "tags": lambda d: {**d, "note": "another"},
        "attributes": lambda d: {**d, "label": "Another"},
        "facts": lambda d: {**d, "unit": "g/l"},
        "groups": lambda d: {**d, "note": "another"},
        "freezes": lambda d: {**d, "why": "another"},
        "ring-plans": lambda d: {**d, "note": "another"},
        "command-templates": lambda d: {**d, "minutes": 9},
        "schedules": lambda d: {**d, "time_of_day": "05:15"},
    }
    assert set(changes) == set(KINDS) - {"folders"}, "a folder is nothing but its path"
    out = export()
    wanted = {key: [changes[key](d) for d in out[key]] for key in changes}
    plan = bring_in(wanted)
    assert {d.kind for d in plan.differences} == set(changes) and {d.verb for d in plan.differences} == {Verb.CHANGE}
    assert {key: export()[key] for key in changes} == wanted
    # from the last kind to the first, as nothing in use can go
    # a group that a command was for is part of the record
    Schedule.objects.all().delete()
    plan = bring_in({key: [] for key in out if key not in STAY}, deletes=True)
    left = export()
    assert {key for key, documents in left.items() if documents} == STAY
    assert {d.verb for d in plan.differences} == {Verb.DELETE}


def test_what_stands_in_no_file_stays_and_is_named() -> None:
    make_rule_group("Old", "tag = x")
    plan = bring_in({"groups": [{"name": "New", "rule": "tag = y"}]})
    assert done(plan) == [("groups", "New", "add")] and plan.stays == {"groups": ["Old"]}
    assert Group.objects.filter(name="Old").exists()
    # kinds that are not named are left alone, also where all else is deleted
    plan = bring_in({"folders": []}, deletes=True)
    assert not plan.differences and Group.objects.count() == 2


def test_what_files_cannot_delete_stays_also_where_all_else_is_deleted() -> None:
    describe_tag("frost-zone", note="nights below zero", colour=3, actor=None, now=NOW)
    PropertyDefinition.objects.create(key="salinity", source="fact", label="Salinity", type="number", found=True)
    plan = bring_in({"tags": [], "facts": []}, deletes=True)
    assert not plan.differences and plan.stays == {"tags": ["frost-zone"], "facts": ["salinity"]}
    assert Tag.objects.exists() and PropertyDefinition.objects.exists()


def test_a_moment_or_a_rule_in_another_form_is_no_difference() -> None:
    make_world()
    out = export()
    harvest = {**out["freezes"][0], "starts_at": "2027-08-01T02:00:00+02:00"}
    alpha = {**out["groups"][0], "rule": out["groups"][0]["rule"] + "\n", "kind": "rule", "only_model": None}
    plan = compare_with({"freezes": [harvest], "groups": [alpha]}, deletes=False, now=NOW)
    assert not plan.differences


# -- scheduled commands ----------------------------------------------------------------------------


def schedule_document(**fields: Any) -> dict[str, Any]:
    document = {"name": "Nightly", "template": "Restart", "include": ["Zeta"], "starts_on": "2026-11-01"}
    return {**document, "time_of_day": "04:30", "rule": "freq=daily", **fields}


def test_a_command_is_scheduled_by_files_and_says_when_and_for_how_many_first() -> None:
    make_static("Zeta", make_devices(3))
    documents = {"schedules": [schedule_document()]}
    plan = compare_with(documents, deletes=False, now=NOW)
    (fires,) = plan.fires
    assert (fires.name, fires.devices) == ("Nightly", 3)
    assert fires.at is not None and fires.at > NOW and (fires.at.hour, fires.at.minute) == (4, 30)
    assert not Schedule.objects.exists()
    bring_in(documents)
    schedule = Schedule.objects.get()
    assert (schedule.state, schedule.rule, schedule.fired_through) == ("active", "FREQ=DAILY", NOW)
    # another form of the same is no difference, and a change keeps what it is
    same = schedule_document(rule="FREQ=DAILY", time_of_day="04:30:00", include=["Zeta", "Zeta"])
    assert not compare_with({"schedules": [same]}, deletes=False, now=NOW).differences
    bring_in({"schedules": [schedule_document(time_of_day="05:00")]})
    schedule.refresh_from_db()
    assert (schedule.time_of_day, schedule.revision) == (time(5), 2) and Schedule.objects.count() == 1
    bring_in({"schedules": []}, deletes=True)
    schedule.refresh_from_db()
    assert schedule.state == "ended"


def test_what_is_no_configuration_is_neither_exported_nor_touched() -> None:
    """Destructive ones, those that run once, those for named devices, those without a name, and two of one name."""
    zeta = make_static("Zeta", make_devices(2))
    harmful = CommandTemplate.objects.filter(harm="destructive", is_built_in=True).first()
    assert harmful is not None
    device = zeta.memberships.first()
    assert device is not None
    for draft in (
        nightly(name="Twice"),
        nightly(name="Twice"),
        nightly(name=""),
        nightly(name="Once", when=When.ONCE, rule="", starts_on=date(2027, 1, 1)),
        nightly(name="Named", include=[], devices=[device.device_id]),
    ):
        create_schedule(draft, actor=None, now=NOW)
    assert export()["schedules"] == []
    plan = bring_in({"schedules": []}, deletes=True)
    assert not plan.differences and not Schedule.objects.filter(state="ended").exists()
    for document, words in (
        (schedule_document(template=harmful.name), "destructive"),
        (schedule_document(name="Once"), "has this name"),
        (schedule_document(template="Nothing"), "no command"),
        (schedule_document(include=["Elsewhere"]), "no group"),
        (schedule_document(rule="FREQ=NEVER"), ""),
        (schedule_document(starts_on="2026-13-01"), "A day"),
        (schedule_document(time_of_day="25:00"), "A time of day"),
        (schedule_document(include=[]), ""),
        (schedule_document(spread_minutes=200, expires_after_minutes=100), "give up later"),
    ):
        with pytest.raises(InvalidFields, match=words or None):
            compare_with({"schedules": [document]}, deletes=False, now=NOW)


# -- agreeing --------------------------------------------------------------------------------------


def test_a_comparison_counts_what_it_sets_off_and_changes_nothing() -> None:
    make_devices(3, tags=["lab"])
    group = make_rule_group("Lab", "tag = nowhere")
    make_rule_group("Of the lab", 'group = "Lab"')
    draft = ScheduleDraft(template=restart(), include=[group], when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5))
    schedule = create_schedule(draft, actor=None, now=NOW)
    before, entries = export(), RecordEntry.objects.count()
    documents = {"groups": [{"name": "Lab", "rule": "tag = lab"}]}
    plan = compare_with(documents, deletes=False, now=NOW)
    assert export() == before and RecordEntry.objects.count() == entries
    assert {(g["name"], g["joins"]) for g in plan.consequences["groups"]} == {("Lab", 3), ("Of the lab", 3)}
    assert [(u["kind"], u["id"], u["joins"]) for u in plan.consequences["uses"]] == [("schedule", schedule.pk, 3)]
    with pytest.raises(NotAgreed):
        apply_with(documents, plan.digest, "")
    assert export() == before
    apply_with(documents, plan.digest, plan.consequences["digest"])
    assert group.memberships.count() == 3


def apply_with(documents: Documents, digest: str, agreed: str) -> services.Plan:
    agreement = services.Agreement(digest=agreed)
    return apply(documents, deletes=False, digest=digest, agreement=agreement, origin=Origin(), actor=None, now=NOW)


def test_where_the_world_has_moved_it_is_refused() -> None:
    group = make_rule_group("Lab", "tag = a")
    documents = {"groups": [{"name": "Lab", "rule": "tag = c"}]}
    plan = compare_with(documents, deletes=False, now=NOW)
    change_group(group, rule="tag = b", actor=None, now=NOW)
    with pytest.raises(Moved, match="compare again"):
        apply_with(documents, plan.digest, "")
    group.refresh_from_db()
    assert group.rule == "tag = b"


def test_it_is_all_or_nothing_and_every_place_is_told() -> None:
    make_rule_group("Lab", "tag = a")
    before = export()
    documents: Documents = {
        "folders": [{"path": ["New"]}, {"path": ["Nowhere", "Below"]}],
        "groups": [
            {"name": "Good", "rule": "tag = x", "folder": ["New"]},
            {"name": "Bad", "rule": "tag ="},
            {"name": "Lost", "rule": "tag = x", "folder": ["Elsewhere"]},
            {"name": "Lab", "kind": "static"},
        ],
        "freezes": [
            {"name": "F", "starts_at": "2027-01-02T00:00:00Z", "ends_at": "2027-01-01T00:00:00Z", "everywhere": True}
        ],
    }
    with pytest.raises(InvalidFields) as refused:
        compare_with(documents, deletes=False, now=NOW)
    places = dict(refused.value.problems)
    assert set(places) == {
        "/kinds/folders/1/path",
        "/kinds/groups/1/rule",
        "/kinds/groups/2/folder",
        "/kinds/groups/3",
        "/kinds/freezes/0/ends_at",
    }
    assert "The group “Bad”" in places["/kinds/groups/1/rule"]
    assert export() == before


@pytest.mark.parametrize(
    ("documents", "pointer", "words"),
    [
        ({"grups": []}, "/kinds/grups", "There is no kind grups"),
        ({"groups": [{"rule": "tag = x"}]}, "/kinds/groups/0", "lacks name"),
        ({"groups": [{"name": "G", "rul": "x"}]}, "/kinds/groups/0", "rul is not known here"),
        ({"groups": [{"name": "G", "kind": "other"}]}, "/kinds/groups/0/kind", "One of rule, static"),
        ({"groups": [{"name": "G", "rule": 5}]}, "/kinds/groups/0/rule", "string"),
        ({"groups": [{"name": "G", "rule": "tag = x"}] * 2}, "/kinds/groups", "more than once"),
        ({"freezes": [{"name": "F", "starts_at": "x", "ends_at": "y"}]}, "/kinds/freezes/0/starts_at", "An instant"),
        ({"freezes": [{"name": "F", "starts_at": "2027-01-01T00:00:00", "ends_at": "y"}]}, "/starts_at", "offset"),
    ],
)
def test_what_does_not_fit_is_told_with_its_place(documents: Any, pointer: str, words: str) -> None:
    with pytest.raises(InvalidFields) as refused:
        compare_with(documents, deletes=False, now=NOW)
    told = [message for place, message in refused.value.problems if place.endswith(pointer)]
    assert told and words in told[0], refused.value.problems


def test_what_is_in_use_is_not_deleted_by_files_either() -> None:
    make_world()
    out = export()
    with pytest.raises(InvalidFields) as refused:
        compare_with({"groups": [d for d in out["groups"] if d["name"] != "Zeta"]}, deletes=True, now=NOW)
    assert "in use" in str(refused.value)


# -- where it comes from ---------------------------------------------------------------------------


def test_what_is_kept_by_files_says_so_and_whether_it_was_changed_by_hand() -> None:
    make_rule_group("By hand", "tag = x")
    documents = {"groups": [{"name": "Lab", "rule": "tag = lab"}]}
    bring_in(documents, files={"groups": "groups.yaml"}, revision="4f2a1c9")
    assert services.origin_of("groups", "By hand") is None and services.origin_of("grups", "Lab") is None
    kept, changed = services.origin_of("groups", "Lab") or (None, None)
    assert kept is not None and (kept.file, kept.revision, changed) == ("groups.yaml", "4f2a1c9", False)
    entry = RecordEntry.objects.filter(kind="configuration").get()
    assert entry.sentence == "Configuration from files at 4f2a1c9: 1 added"
    change_group(Group.objects.get(name="Lab"), rule="tag = other", actor=None, now=NOW + timedelta(hours=1))
    assert (services.origin_of("groups", "Lab") or (None, None))[1] is True
    # applied again, it is as the files say
    bring_in(documents, revision="5a")
    assert (services.origin_of("groups", "Lab") or (None, None))[1] is False
    # what the files name no more is no longer kept by them
    bring_in({"groups": [{"name": "By hand", "rule": "tag = x"}]})
    assert [k.name for k in KeptByFile.objects.all()] == ["By hand"] and services.origin_of("groups", "Lab") is None


# -- the calls -------------------------------------------------------------------------------------


def test_the_calls_from_export_to_origin(client: APIClient) -> None:
    make_device(tags=["lab"])
    make_rule_group("Lab", "tag = lab")
    out = client.get(V1).json()
    assert out["herald"] == 1 and out["kinds"]["groups"] == [{"name": "Lab", "rule": "tag = lab"}]
    body = {"kinds": {"groups": [{"name": "Lab", "rule": "tag = lib"}]}}
    plan = client.post(f"{V1}/compare", body, format="json").json()
    assert plan["differences"] == [
        {
            "kind": "groups",
            "name": "Lab",
            "verb": "change",
            "before": {"rule": "tag = lab"},
            "after": {"rule": "tag = lib"},
        }
    ]
    assert [(g["name"], g["leaves"]) for g in plan["groups"]] == [("Lab", 1)] and plan["uses"] == []
    more = {"digest": plan["digest"], "files": {"groups": "g.yaml"}, "revision": "1"}
    applied = client.post(f"{V1}/apply", body | more, format="json")
    assert applied.status_code == 200 and client.get(V1).json()["kinds"]["groups"][0]["rule"] == "tag = lib"
    moved = client.post(f"{V1}/apply", body | more, format="json")
    assert moved.status_code == 409 and moved.json()["type"].endswith("configuration-moved")
    origin = client.get(f"{V1}/origin", {"kind": "groups", "name": "Lab"}).json()["origin"]
    assert (origin["file"], origin["changed_since"]) == ("g.yaml", False)
    assert client.get(f"{V1}/origin", {"kind": "groups", "name": "No"}).json() == {"origin": None}


def test_the_json_schema_takes_what_is_exported(client: APIClient) -> None:
    make_world()
    validator = Draft202012Validator(client.get(f"{V1}/schema").json())
    Draft202012Validator.check_schema(validator.schema)
    for kind, things in client.get(V1).json()["kinds"].items():
        assert things and not list(validator.iter_errors({"herald": 1, "kind": kind, "things": things}))
    assert list(validator.iter_errors({"herald": 1, "kind": "groups", "things": [{"nme": "x"}]}))
    assert list(validator.iter_errors({"herald": 2, "kind": "groups", "things": []}))
