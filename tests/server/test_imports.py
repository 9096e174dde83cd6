"""Files of devices: read as people make them, checked, and written only when accepted."""

import io
import json
from datetime import UTC, date, datetime
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from openpyxl import Workbook
from rest_framework.test import APIClient

from herald.fleet.models import Device, PropertyDefinition
from herald.groups.membership import process_changed_devices
from herald.http.errors import Conflict, Invalid, NobodyThere
from herald.imports import planning, services
from herald.imports.models import Import, ImportState
from herald.imports.reading import Unreadable, read_rows
from tests.factories import NOW, make_device, make_model, make_rule_group, make_site, make_user

pytestmark = pytest.mark.django_db


@pytest.fixture(autouse=True)
def _reference_data() -> None:
    make_model()
    make_site("Hill", "Asia/Kolkata")
    for key, kind in (("asset_no", "text"), ("cost", "number"), ("bought_on", "date"), ("leased", "yes/no")):
        PropertyDefinition.objects.create(key=key, source="attribute", label=key.replace("_", " ").title(), type=kind)


def bring(content: bytes | str, name: str = "devices.csv", **mapping: str) -> Import:
    data = content.encode() if isinstance(content, str) else content
    made = services.create_import(data, name, actor=None, now=NOW)
    services.check(made.pk, now=NOW)
    if mapping:
        services.change_mapping(made.pk, {**made.mapping, **mapping})
        services.check(made.pk, now=NOW)
    made.refresh_from_db()
    return made


def write(made: Import, *, all_or_nothing: bool = True) -> Import:
    services.accept(made.pk, all_or_nothing=all_or_nothing, actor=None, now=NOW)
    services.write(made.pk, now=NOW)
    made.refresh_from_db()
    return made


def counts(made: Import) -> tuple[int, int, int, int]:
    return made.new_count, made.changed_count, made.unchanged_count, made.wrong_count


def cells(content: bytes | str, name: str = "x.csv") -> list[dict[str, Any]]:
    data = content.encode() if isinstance(content, str) else content
    return [r.cells for r in read_rows(data, name)]


@pytest.mark.parametrize(
    "content",
    [
        "uid;name\r\n007;Ä\r\n",
        "\ufeffuid;name\n007;Ä\n",
        "uid,name\n007,Ä\n\n,\n",
        "uid\tname\n007\tÄ\n",
        '"uid";"name"\n"007";"Ä"\n',
    ],
)
def test_csv_is_read_in_the_dialects_of_spreadsheets(content: str) -> None:
    assert cells(content) == [{"uid": "007", "name": "Ä"}]
    assert cells(content.encode("utf-16")) == [{"uid": "007", "name": "Ä"}]
    if not content.startswith("\ufeff"):
        assert cells(content.encode("cp1252")) == [{"uid": "007", "name": "Ä"}]


def test_quoted_line_breaks_keep_the_numbers_of_lines() -> None:
    rows = list(read_rows(b'uid,note\na,"one\ntwo"\nb,x\n', "x.csv"))
    assert [(r.number, r.cells["note"]) for r in rows] == [(2, "one\ntwo"), (4, "x")]


@pytest.mark.parametrize(
    ("content", "name", "says"),
    [
        (b"", "x.csv", "empty"),
        (b"uid,uid\n1,2\n", "x.csv", "Two columns"),
        (b"\x00\x01\x02", "x.csv", "no text file"),
        (b"PK\x03\x04rubbish", "x.xlsx", "no workbook"),
        (b"uid\n" + b"x" * 1_000_001, "x.csv", "at most 1,000,000"),
        (b";" * 1_000_001, "x.csv", "at most 1,000,000"),
        (b"a;" * 201, "x.csv", "more than 200 columns"),
    ],
)
def test_what_cannot_be_read_is_said(content: bytes, name: str, says: str) -> None:
    with pytest.raises(Unreadable, match=says):
        list(read_rows(content, name))
    with pytest.raises(Invalid):
        services.create_import(content, name, actor=None, now=NOW)


def test_a_file_is_checked_without_writing_and_then_written() -> None:
    known = make_device(uid="K1", name="known", tags=["lab"], attributes={"cost": 1, "asset_no": "007"})
    make_device(uid="K2", name="same", attributes={"asset_no": "9"})
    group = make_rule_group("Costly", "cost > 100 and tag = pilot")

    made = bring(
        "Device ID;Name;Model;Site;Tags;Asset No;Cost;Bought On\n"
        "K1;known;Sill 400;Hill;pilot;007;250;2026-01-02\n"
        "K2;same;;;;9;;\n"
        "N1;new;Sill 400;Hill;pilot, Frost Zone;;300,5;\n"
        "N2;;Sill 400;;pilot;0012;300.5;\n"
    )

    assert made.mapping["Device ID"] == "uid"
    assert counts(made) == (1, 2, 0, 1) or counts(made) == (1, 1, 1, 1)
    assert made.wrong.get().reason.startswith("“300,5” is no number")
    assert Device.objects.count() == 2

    with pytest.raises(Conflict, match="1 rows are wrong"):
        services.accept(made.pk, all_or_nothing=True, actor=None, now=NOW)
    done = write(made, all_or_nothing=False)
    process_changed_devices(now=NOW)

    assert done.state == ImportState.DONE
    known.refresh_from_db()
    assert (known.tags, known.time_zone) == (["pilot"], "Asia/Kolkata")
    assert known.attributes == {"cost": 250, "asset_no": "007", "bought_on": "2026-01-02"}
    new = Device.objects.get(uid="N2")
    assert (new.name, new.attributes, new.admission) == ("N2", {"asset_no": "0012", "cost": 300.5}, "admitted")
    assert set(group.memberships.values_list("device__uid", flat=True)) == {"K1", "N2"}


def test_wrong_rows_say_row_column_value_and_reason() -> None:
    make_device(uid="K1", name="taken")

    made = bring(
        "uid,name,model,site,leased\n"
        ",a,Sill 400,,\n"
        "A,taken,Sill 400,,\n"
        "B,b,Sil 400,,\n"
        "C,c,,,\n"
        "D,d,Sill 400,Hil,maybe\n"
        "E,e,Sill 400,,\n"
        "E,f,Sill 400,,\n"
    )

    found = {(w.row, w.column): w.reason for w in made.wrong.all()}
    assert set(found) == {(2, "uid"), (3, "name"), (4, "model"), (5, "model"), (6, "site"), (6, "leased"), (8, "uid")}
    assert "did you mean Sill 400" in found[4, "model"]
    assert "row 7" in found[8, "uid"]
    assert counts(made) == (1, 0, 0, 6)


def test_the_import_of_an_export_changes_nothing() -> None:
    make_device(uid="A", name="=danger", tags=["x", "lab"], attributes={"asset_no": "007", "leased": True, "cost": 2.5})
    make_device(uid="B", name="b", site=make_site("Hill"), attributes={"bought_on": "2026-01-02"})
    client = APIClient()
    client.force_authenticate(make_user())
    columns = "uid,name,serial,model,hardware,site,custodian,tag,admission,asset_no,cost,bought_on,leased"
    for kind in ("csv", "xlsx", "jsonl"):
        response = client.get("/api/v1/devices/export", {"columns": columns, "format": kind})
        content = b"".join(response.streaming_content) if response.streaming else response.content
        made = bring(content, f"devices.{kind}")
        assert set(made.mapping.values()) == set(columns.split(","))
        assert counts(made) == (0, 0, 2, 0), kind
        with pytest.raises(NobodyThere):
            services.accept(made.pk, all_or_nothing=True, actor=None, now=NOW)


def test_workbooks_hold_numbers_and_dates_of_their_own() -> None:
    book = Workbook()
    sheet = book.active
    sheet.append(["uid", "model", "Asset No", "Cost", "Bought On", "Leased"])
    sheet.append([4711, "Sill 400", 12.0, 7, datetime(2026, 1, 2, tzinfo=UTC).replace(tzinfo=None), True])
    sheet.append(["B", "Sill 400", None, None, date(2026, 1, 3), "no"])
    out = io.BytesIO()
    book.save(out)

    write(bring(out.getvalue(), "d.xlsx"))

    first, second = Device.objects.get(uid="4711"), Device.objects.get(uid="B")
    assert first.attributes == {"asset_no": "12", "cost": 7, "bought_on": "2026-01-02", "leased": True}
    assert second.attributes == {"bought_on": "2026-01-03", "leased": False}


def test_columns_are_matched_by_hand_too() -> None:
    made = bring("nr,kind,what\nA,Sill 400,7\n", nr="uid", kind="model", what="cost")

    write(made)

    assert Device.objects.get().attributes == {"cost": 7}
    other = bring("nr,kind\nB,Sill 400\n", nr="uid", kind="model")
    with pytest.raises(Invalid, match="no field"):
        services.change_mapping(other.pk, {"nr": "firmware"})
    with pytest.raises(Invalid, match="Two columns"):
        services.change_mapping(other.pk, {"nr": "uid", "kind": "uid"})


def test_all_or_nothing_leaves_nothing_where_a_row_became_wrong(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(planning, "CHUNK", 2)
    lines = "\n".join(json.dumps({"uid": f"U{n}", "model": "Sill 400", "tag": ["x"]}) for n in range(5))
    made = bring(lines, "d.jsonl")
    services.accept(made.pk, all_or_nothing=True, actor=None, now=NOW)
    make_device(uid="other", name="U4")

    with pytest.raises(Conflict, match="became wrong"):
        services.write(made.pk, now=NOW)
    assert not Device.objects.filter(uid__startswith="U").exists()


def test_a_cancelled_import_keeps_what_was_written_and_no_more(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(planning, "CHUNK", 2)
    lines = "uid,model\n" + "".join(f"U{n},Sill 400\n" for n in range(6))
    made = bring(lines)
    services.accept(made.pk, all_or_nothing=False, actor=None, now=NOW)
    real, calls = services.make_devices, []

    def cancelling(*args: Any, **kwargs: Any) -> None:
        real(*args, **kwargs)
        calls.append(1)
        if len(calls) == 2:
            services.cancel(made.pk, actor=None, now=NOW)

    monkeypatch.setattr(services, "make_devices", cancelling)
    services.write(made.pk, now=NOW)

    made.refresh_from_db()
    assert (made.state, Device.objects.count()) == (ImportState.CANCELLED, 4)
    with pytest.raises(Conflict):
        services.cancel(made.pk, actor=None, now=NOW)


def test_the_calls_take_a_file_from_check_to_done() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    file = SimpleUploadedFile("d.csv", b"uid,model\nA,Sill 400\nB,Sill\n")
    made = client.post("/api/v1/imports", {"file": file}, format="multipart").json()
    services.check(made["id"], now=NOW)

    told = client.get(f"/api/v1/imports/{made['id']}").json()
    assert (told["state"], told["new_count"], told["wrong"][0]["column"]) == ("checked", 1, "model")
    assert b"did you mean Sill 400" in client.get(f"/api/v1/imports/{made['id']}/errors").content
    refused = client.post(f"/api/v1/imports/{made['id']}/accept", {}, format="json")
    assert refused.status_code == 409
    accepted = client.post(f"/api/v1/imports/{made['id']}/accept", {"all_or_nothing": False}, format="json")
    assert accepted.json()["state"] == "applying"
    client.force_authenticate(make_user("viewer"))
    assert client.post("/api/v1/imports", {"file": file}, format="multipart").status_code == 403


def test_new_devices_get_defaults_and_may_not_lack_what_is_required() -> None:
    PropertyDefinition.objects.filter(key="asset_no").update(required=True)
    PropertyDefinition.objects.filter(key="cost").update(default=7)
    make_device(uid="K1", name="k1", attributes={"asset_no": "1", "cost": 2})
    make_device(uid="K2", name="k2")

    made = bring(
        "uid,model,asset_no,cost\nN1,Sill 400,5,\nN2,Sill 400,,\nK1,Sill 400,,3\nK2,Sill 400,,3\n",
    )
    assert counts(made) == (1, 1, 0, 2)
    assert sorted((w.row, w.column, w.reason) for w in made.wrong.all()) == [
        (3, "asset_no", "Asset No is required"),
        (4, "asset_no", "Asset No is required"),
    ]
    write(made, all_or_nothing=False)
    assert Device.objects.get(uid="N1").attributes == {"asset_no": "5", "cost": 7}
    assert Device.objects.get(uid="K2").attributes == {"cost": 3}


def test_a_mapping_is_kept_for_files_with_the_same_columns() -> None:
    content = "Kennung,Art,Kosten\nN1,Sill 400,5\n"
    first = bring(content)
    assert first.mapping == {}
    services.change_mapping(first.pk, {"Kennung": "uid", "Art": "model"})
    client = APIClient()
    client.force_authenticate(make_user())

    kept = client.post(f"/api/v1/imports/{first.pk}/save-mapping", {"name": "Maker's list"}, format="json")

    assert kept.data["mapping"] == {"Kennung": "uid", "Art": "model", "Kosten": ""}
    assert bring(content).mapping == {"Kennung": "uid", "Art": "model"}
    assert bring("Kennung,Art\nN1,Sill 400\n").mapping == {}
    assert [m["name"] for m in client.get("/api/v1/import-mappings").data] == ["Maker's list"]
    assert client.delete(f"/api/v1/import-mappings/{kept.data['id']}").status_code == 204
    refused = client.post(f"/api/v1/imports/{bring('a,b' + chr(10) + '1,2').pk}/save-mapping", {"name": "x"}, "json")
    assert (refused.status_code, "nothing to keep" in refused.data["detail"]) == (422, True)


def test_devices_are_announced_and_known_by_their_serials() -> None:
    make_device(uid="K1", name="k1", serial="S-1")
    for uid in ("T1", "T2"):
        make_device(uid=uid, name=uid, serial="S-2")

    made = bring("serial,model,site\nS-1,Sill 400,Hill\nS-2,Sill 400,\nS-9,Sill 400,\nS-9,Sill 400,\n")

    assert counts(made) == (1, 1, 0, 2)
    assert [w.reason for w in made.wrong.order_by("row")] == [
        "several devices have it; give the device's UID",
        "row 4 is about this device already",
    ]
    write(made, all_or_nothing=False)
    assert Device.objects.get(serial="S-9").uid == "serial:S-9"
    assert Device.objects.get(uid="K1").site.name == "Hill"
