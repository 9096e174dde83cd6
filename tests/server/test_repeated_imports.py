"""Imports that repeat from an address: what is imported unasked, what waits for somebody, and what is never touched."""

from datetime import time, timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.attention.models import Item
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.fleet.models import Device
from herald.groups.membership import process_changed_devices
from herald.http.outbound import Fetched, FetchError
from herald.imports import repeating, services, tasks
from herald.imports.models import Import, ImportState, RepeatedImport, SavedMapping
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, client_as, make_model, make_rule_group, make_site, restart

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
URL = "https://assets.larkfield.example/north.csv"
HEAD = "Serial no;Label;Kind;Place;Marks\n"
DAY = timedelta(days=1)


class Elsewhere:
    """What stands at the address: a text, or an error; and what was asked for it."""

    def __init__(self) -> None:
        self.body: str | Exception = HEAD + "N-1;north-1;Sill 400;Here;north\n"
        self.authorizations: list[str] = []

    def fetch(self, url: str, *, authorization: str = "", **_: object) -> Fetched:
        self.authorizations.append(authorization)
        if isinstance(self.body, Exception):
            raise self.body
        return Fetched(self.body.encode(), url)

    def lists(self, *rows: str) -> None:
        self.body = HEAD + "\n".join(rows) + "\n"


@pytest.fixture
def elsewhere(monkeypatch: pytest.MonkeyPatch) -> Elsewhere:
    there = Elsewhere()
    monkeypatch.setattr(repeating, "fetch", there.fetch)
    return there


@pytest.fixture
def mapping() -> SavedMapping:
    make_model()
    make_site()
    columns = {"Serial no": "uid", "Label": "name", "Kind": "model", "Place": "site", "Marks": "tag", "Price": ""}
    return SavedMapping.objects.create(name="Assets", mapping=columns, created_at=NOW)


def add(client: APIClient, mapping: SavedMapping, **fields: Any) -> Any:
    body = {"name": "North", "url": URL, "mapping": mapping.pk, **fields}
    return client.post("/api/v1/repeated-imports", body, format="json")


def added(client: APIClient, mapping: SavedMapping, **fields: Any) -> RepeatedImport:
    """An import that repeats, whose first file was brought in by whoever added it."""
    answer = add(client, mapping, **fields)
    assert answer.status_code == 201, answer.json()
    first = answer.json()["last_import"]["id"]
    works(first)
    accepted = client.post(f"/api/v1/imports/{first}/accept", {"all_or_nothing": False}, format="json")
    assert accepted.status_code == 200 or "Nothing in this file is new" in accepted.json()["detail"]
    works(first)
    return RepeatedImport.objects.get(pk=answer.json()["id"])


def works(import_id: int) -> None:
    """What the workers do about an import."""
    services.check(import_id, now=NOW)
    services.write(import_id, now=NOW)
    process_changed_devices(now=NOW)


def repeats(repeated: RepeatedImport, *, at: Any = NOW + DAY) -> RepeatedImport:
    """The file is read by itself, checked, decided of, and what was decided is done."""
    repeating.read_due(now=at)
    repeated.refresh_from_db()
    if repeated.last_import_id:
        works(repeated.last_import_id)
    repeating.judge_checked(now=at)
    repeated.refresh_from_db()
    if repeated.last_import_id:
        works(repeated.last_import_id)
    return RepeatedImport.objects.get(pk=repeated.pk)


def state(repeated: RepeatedImport) -> str:
    assert repeated.last_import is not None
    return repeated.last_import.state


def open_items() -> list[str]:
    return list(Item.objects.open().filter(kind="followed-list").values_list("cause", flat=True))


def names() -> list[str]:
    return sorted(Device.objects.values_list("name", flat=True))


def test_the_first_file_waits_for_whoever_adds_it(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    row = add(client, mapping).json()
    assert (row["last_import"]["state"], row["waits_for"], row["mapping"]["name"]) == ("checking", "", "Assets")
    services.check(row["last_import"]["id"], now=NOW)
    repeating.judge_checked(now=NOW)
    found = Import.objects.get(pk=row["last_import"]["id"])
    assert (found.state, found.new_count, found.file_name) == (ImportState.CHECKED, 1, "North, north.csv")
    assert names() == [] and not open_items()
    said = RecordEntry.objects.filter(kind="import").latest("pk").sentence
    assert said == f"Added the import “North”, which repeats from {URL}"


def test_a_file_is_imported_by_itself_when_it_is_due_and_has_changed(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping)
    assert names() == ["north-1"]
    elsewhere.lists("N-1;north-1;Sill 400;Here;north, pump", "N-2;north-2;Sill 400;Here;north")
    repeats(repeated, at=NOW + DAY / 2)
    assert names() == ["north-1"], "it is read each day"
    repeated = repeats(repeated)
    assert names() == ["north-1", "north-2"] and state(repeated) == ImportState.DONE and not repeated.waits_for
    assert Device.objects.get(uid="N-1").tags == ["north", "pump"]
    said = RecordEntry.objects.filter(kind="import").latest("pk")
    assert (said.actor, said.sentence) == (None, "Imported North, north.csv: 1 new devices, 1 changed")


def test_the_same_file_again_leaves_what_was_changed_by_hand(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping)
    Device.objects.filter(uid="N-1").update(name="renamed")
    last = repeated.last_import_id
    repeated = repeats(repeated)
    assert names() == ["renamed"] and repeated.last_import_id == last and repeated.read_at == NOW + DAY


def test_a_file_that_says_nothing_new_ends_by_itself(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping)
    elsewhere.body = f"{elsewhere.body}\n"
    repeated = repeats(repeated)
    assert state(repeated) == ImportState.DONE and not open_items()


@pytest.mark.parametrize(
    ("rows", "fields", "why"),
    [
        (["N-1;north-1;Sil 400;Here;", "N-2;north-2;Sill 400;Here;"], {}, "1 of 2 rows are wrong"),
        (
            [f"N-{n};north-{n};Sill 400;Here;north" for n in range(1, 5)],
            {"unasked": 2},
            "it makes 3 devices and changes 0, more than the 2 that go unasked",
        ),
    ],
)
def test_what_is_wrong_or_large_waits_for_somebody(
    client: APIClient,
    elsewhere: Elsewhere,
    mapping: SavedMapping,
    rows: list[str],
    fields: dict[str, int],
    why: str,
) -> None:
    repeated = added(client, mapping, **fields)
    elsewhere.lists(*rows)
    repeated = repeats(repeated)
    assert (state(repeated), repeated.waits_for, names()) == (ImportState.CHECKED, why, ["north-1"])
    assert open_items() == [f"The import “North” waits for somebody: {why}"]
    repeated = repeats(repeated, at=NOW + 2 * DAY)
    assert repeated.waits_for == why and len(open_items()) == 1, "the same file waits on"
    answer = client.post(f"/api/v1/imports/{repeated.last_import_id}/accept", {"all_or_nothing": False}, format="json")
    assert answer.status_code == 200
    works(repeated.last_import_id or 0)
    repeating.judge_checked(now=NOW + 2 * DAY)
    repeated.refresh_from_db()
    assert len(names()) > 1 and not repeated.waits_for and not open_items()


def test_good_rows_are_imported_where_that_was_chosen(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping, all_or_nothing=False)
    elsewhere.lists("N-3;;Sil 400;Here;", "N-2;north-2;Sill 400;Here;")
    assert state(repeats(repeated)) == ImportState.DONE
    assert names() == ["north-1", "north-2"]


def test_what_reaches_something_running_waits_for_somebody(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping)
    group = make_rule_group("Pumps", "tag = pump")
    draft = ScheduleDraft(template=restart(), include=[group], when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5))
    create_schedule(draft, actor=None, now=NOW)
    elsewhere.lists("N-1;north-1;Sill 400;Here;north, pump")
    repeated = repeats(repeated)
    assert "1 would join" in repeated.waits_for and state(repeated) == ImportState.CHECKED
    assert Device.objects.get(uid="N-1").tags == ["north"]


def test_the_next_file_takes_the_place_of_one_that_waits(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping)
    elsewhere.lists("N-1;north-1;Sil 400;Here;")
    waiting = repeats(repeated).last_import
    elsewhere.lists("N-1;north-one;Sill 400;Here;north")
    repeated = repeats(repeated, at=NOW + 2 * DAY)
    assert waiting is not None
    waiting.refresh_from_db()
    assert (waiting.state, state(repeated), names()) == (ImportState.CANCELLED, ImportState.DONE, ["north-one"])
    assert not open_items()


@pytest.mark.parametrize(
    ("body", "says"),
    [
        (FetchError("assets.larkfield.example answered 503."), "assets.larkfield.example answered 503."),
        ("Serial no;Name;Kind;Place;Marks\nN-1;x;Sill 400;Here;\n", "It has no column “Label”, which “Assets” takes"),
        ("<html><body>Sign in</body></html>\n<p>\n", "It has no column “Kind”, “Label”"),
        ("", "The file"),
    ],
)
def test_a_file_that_cannot_be_read_or_lacks_columns_changes_nothing(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping, body: str | Exception, says: str
) -> None:
    repeated = added(client, mapping)
    elsewhere.body = body
    for days in (1, 2):
        repeated = repeats(repeated, at=NOW + days * DAY)
    assert (repeated.failures, repeated.read_at) == (2, NOW) and repeated.last_error.startswith(says[:20])
    assert says in repeated.last_error and not open_items()
    row = client.post(f"/api/v1/repeated-imports/{repeated.pk}/read").json()
    assert row["failures"] == 3 and says in row["last_error"] and names() == ["north-1"]
    assert len(open_items()) == 1
    answer = add(client, mapping, name="South")
    assert answer.status_code == 422 and answer.json()["errors"][0]["pointer"] == "/url"
    elsewhere.lists("N-1;north-1;Sill 400;Here;south")
    repeated = repeats(repeated, at=NOW + 4 * DAY)
    assert (repeated.failures, repeated.last_error, open_items()) == (0, "", [])


def test_a_file_that_fails_as_it_is_checked_is_a_failure_and_tried_again(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping)
    elsewhere.body = f"{HEAD}N-1;north-1;Sill 400;Here;north\n{'x' * 1_000_001}\n"
    repeated = repeats(repeated)
    assert state(repeated) == ImportState.FAILED and "at most 1,000,000" in repeated.last_error
    assert (repeated.failures, repeated.digest) == (1, "")


def test_what_a_person_has_read_waits_for_that_person(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping)
    row = client.post(f"/api/v1/repeated-imports/{repeated.pk}/read").json()
    assert row["last_import"]["id"] != repeated.last_import_id
    works(row["last_import"]["id"])
    repeating.judge_checked(now=NOW)
    assert Import.objects.get(pk=row["last_import"]["id"]).state == ImportState.CHECKED
    assert not open_items()


def test_the_task_reads_and_decides(client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping) -> None:
    repeated = added(client, mapping)
    RepeatedImport.objects.update(tried_at=clock.now() - DAY)
    elsewhere.lists("N-1;north-1;Sill 400;Here;south")
    tasks.repeat_imports(timestamp=0)
    repeated.refresh_from_db()
    works(repeated.last_import_id or 0)
    tasks.repeat_imports(timestamp=0)
    works(repeated.last_import_id or 0)
    assert Device.objects.get(uid="N-1").tags == ["south"]


def test_one_that_breaks_the_server_keeps_no_other_waiting(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping, monkeypatch: pytest.MonkeyPatch
) -> None:
    broken, good = added(client, mapping, name="A broken one"), added(client, mapping, name="Good")
    elsewhere.lists("N-1;north-1;Sill 400;Here;south")
    create = services.create_import

    def breaks(content: bytes, file_name: str, **also: Any) -> Import:
        if file_name.startswith("A broken"):
            raise RuntimeError("planted")
        return create(content, file_name, **also)

    monkeypatch.setattr(services, "create_import", breaks)
    assert state(repeats(good)) == ImportState.DONE
    broken.refresh_from_db()
    assert "its log says how" in broken.last_error


def test_what_is_wrong_with_it_is_said(client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping) -> None:
    added(client, mapping)
    for fields, pointer in (
        ({}, "/name"),
        ({"name": " "}, "/name"),
        ({"name": "B", "url": ""}, "/url"),
        ({"name": "B", "read_every_minutes": 59}, "/read_every_minutes"),
        ({"name": "B", "unasked": -1}, "/unasked"),
    ):
        answer = add(client, mapping, **fields)
        assert (answer.status_code, answer.json()["errors"][0]["pointer"]) == (422, pointer), fields
    assert RepeatedImport.objects.count() == 1
    refused = client.delete(f"/api/v1/import-mappings/{mapping.pk}")
    assert refused.status_code == 409 and "“North” repeats by this mapping" in refused.json()["detail"]


def test_removing_it_keeps_what_it_imported_and_closes_its_item(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping)
    elsewhere.lists("N-1;north-1;Sil 400;Here;")
    repeats(repeated)
    assert open_items()
    assert client.delete(f"/api/v1/repeated-imports/{repeated.pk}").status_code == 204
    assert not open_items() and names() == ["north-1"] and Import.objects.count() == 2


def test_an_authorization_is_kept_for_its_host_and_never_shown(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping, authorization="Bearer s3cret", url=f"{URL}?key=k3y")
    told = client.get("/api/v1/repeated-imports").json()
    assert told[0]["has_authorization"] is True and "s3cret" not in str(told)

    def change(**fields: Any) -> Any:
        body = {"name": "North", "mapping": mapping.pk, **fields}
        return client.put(f"/api/v1/repeated-imports/{repeated.pk}", body, format="json").json()

    assert change(url="https://assets.larkfield.example/all.csv")["has_authorization"] is True
    assert change(url="https://thief.example/all.csv")["has_authorization"] is False
    assert elsewhere.authorizations[-2:] == ["Bearer s3cret", ""]
    said = " ".join(RecordEntry.objects.values_list("sentence", flat=True))
    assert "s3cret" not in said and "k3y" not in said


@pytest.mark.parametrize("role", ["viewer", "approver"])
def test_only_operators_let_imports_repeat(role: str, elsewhere: Elsewhere, mapping: SavedMapping) -> None:
    assert add(client_as(role), mapping).status_code == 403
    assert not RepeatedImport.objects.exists()


def test_a_file_is_not_read_while_the_last_one_is_written(
    client: APIClient, elsewhere: Elsewhere, mapping: SavedMapping
) -> None:
    repeated = added(client, mapping)
    Import.objects.filter(pk=repeated.last_import_id).update(state=ImportState.APPLYING)
    answer = client.post(f"/api/v1/repeated-imports/{repeated.pk}/read")
    assert answer.status_code == 409 and "still writes the last file of “North”" in answer.json()["detail"]
    elsewhere.lists("N-1;north-1;Sill 400;Here;south")
    repeating.read_due(now=NOW + DAY)
    assert Import.objects.count() == 1
