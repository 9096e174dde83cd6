"""Finding devices: words, order, values within a rule, grids, files, kept views."""

import csv
import io
from typing import Any

import pytest
from openpyxl import load_workbook
from rest_framework.test import APIClient

from herald.find.queries import GRID_SIDE
from herald.fleet.models import PropertyDefinition
from tests.factories import make_device, make_model, make_site, make_static, make_user

pytestmark = pytest.mark.django_db


@pytest.fixture(autouse=True)
def _fleet() -> None:
    PropertyDefinition.objects.create(key="crop", source="attribute", label="Crop", type="text")
    north, south = make_site("North Hill"), make_site("South Bay")
    make_device(name="a", site=north, firmware="5.10.0", tags=["lab", "x"], attributes={"crop": "olive"})
    make_device(name="b", site=south, firmware="5.9.0", tags=["lab"], attributes={"crop": "=vine, red"})
    make_device(name="c", site=north, firmware=None, model=make_model("Drum P7", "Drum"))


def names(client: APIClient, **asked: Any) -> list[str]:
    return [d["name"] for d in client.get("/api/v1/devices", asked).json()["devices"]]


def test_quick_words_are_all_found_somewhere(client: APIClient) -> None:
    assert names(client, q="north") == ["a", "c"]
    assert names(client, q="north drum") == ["c"]
    assert names(client, q="400 bay", rule="tag = lab") == ["b"]


def test_devices_come_in_the_order_asked_for_page_by_page(client: APIClient) -> None:
    assert names(client, order="firmware") == ["b", "a", "c"]
    assert names(client, order="-firmware") == ["a", "b", "c"]
    assert names(client, order="crop") == ["b", "a", "c"]
    first = client.get("/api/v1/devices", {"order": "-firmware", "limit": 2}).json()
    assert names(client, order="-firmware", limit=2, cursor=first["next"]) == ["c"]
    assert client.get("/api/v1/devices", {"order": "tag"}).status_code == 422


def test_further_columns_are_told_with_the_devices(client: APIClient) -> None:
    rows = client.get("/api/v1/devices", {"columns": "crop,tag", "rule": "name = a"}).json()["devices"]
    assert rows[0]["extra"] == {"crop": "olive", "tag": "lab;x"}
    assert client.get("/api/v1/devices", {"columns": "colour"}).status_code == 422


def test_values_within_a_rule_show_what_they_would_leave(client: APIClient) -> None:
    def counts(key: str, **asked: Any) -> dict[str, int]:
        return {v["value"]: v["count"] for v in client.get(f"/api/v1/fields/{key}/values", asked).json()}

    make_static("G", [])
    assert counts("tag", rule='site = "North Hill"') == {"lab": 1, "x": 1}
    assert counts("model", rule="tag = lab") == {"Sill 400": 2}
    assert counts("group") == {"G": 0}
    assert counts("group", rule="tag = lab") == {}


@pytest.mark.parametrize(("row", "column", "pointer"), [("", "model", "/row"), ("site", "colour", "/column")])
def test_a_grid_of_a_field_that_is_not_there_is_refused_at_its_side(
    client: APIClient, row: str, column: str, pointer: str
) -> None:
    answer = client.get("/api/v1/devices/grid", {"row": row, "column": column})
    assert answer.status_code == 422
    assert [e["pointer"] for e in answer.json()["errors"]] == [pointer]


def test_a_grid_lays_two_fields_against_each_other(client: APIClient) -> None:
    found = client.get("/api/v1/devices/grid", {"row": "site", "column": "firmware"}).json()
    assert (found["rows"], found["columns"]) == (["North Hill", "South Bay"], ["5.9.0", "5.10.0"])
    assert (found["cells"], found["totals"]) == ([[0, 1], [1, 0]], [2, 1])
    assert (found["without"], found["no_row"]) == ([1, 0], 0), "a device that reports no firmware counts in its row"
    tags = client.get("/api/v1/devices/grid", {"row": "site", "column": "tag", "rule": "tag = lab"}).json()
    assert tags["cells"] == [[1, 1], [1, 0]]
    for row, column in (("site", "site"), ("tag", "group"), ("last_check_in", "site")):
        assert client.get("/api/v1/devices/grid", {"row": row, "column": column}).status_code == 422


def test_rare_values_are_one_row_and_one_column_and_totals_count_everything(client: APIClient) -> None:
    for number in range(30):
        rare = number >= 20
        make_device(
            name=f"crowd-{number}",
            hardware_revision=f"rev-{number if rare else number % 10}",
            firmware=f"1.{number}" if rare else f"2.{number % 11}",
            tags=[f"t{number}", "all"],
        )
    rule = {"rule": "name starts with crowd"}
    found = client.get("/api/v1/devices/grid", {"row": "hardware", "column": "firmware", **rule}).json()
    assert (len(found["rows"]), len(found["columns"])) == (GRID_SIDE, GRID_SIDE)
    assert (len(found["cells"]), {len(row) for row in found["cells"]}) == (GRID_SIDE + 1, {GRID_SIDE + 1})
    assert [sum(row) for row in found["cells"]] == found["totals"]
    assert sum(found["totals"]) == 30
    tags = client.get("/api/v1/devices/grid", {"row": "tag", "column": "firmware", **rule}).json()
    assert (tags["totals"][tags["rows"].index("all")], tags["totals"][-1], tags["no_row"]) == (30, None, None)


def test_an_export_holds_exactly_what_is_shown(client: APIClient) -> None:
    asked = {"columns": "name,crop,tag,firmware", "rule": "tag = lab", "order": "-name"}
    response = client.get("/api/v1/devices/export", asked)
    text = b"".join(response.streaming_content).decode("utf-8-sig")
    assert list(csv.reader(io.StringIO(text))) == [
        ["name", "crop", "tag", "firmware"],
        ["b", "'=vine, red", "lab", "5.9.0"],
        ["a", "olive", "lab;x", "5.10.0"],
    ]
    book = client.get("/api/v1/devices/export", {**asked, "format": "xlsx"})
    sheet = load_workbook(io.BytesIO(book.content)).active
    assert [c.value for c in sheet[2]] == ["b", "=vine, red", "lab", "5.9.0"]
    assert sheet["B2"].data_type == "s"


def test_a_view_is_kept_for_its_owner_alone(client: APIClient) -> None:
    body = {"name": "Olives", "address": {"rule": "crop = olive", "columns": "crop"}}
    kept = client.post("/api/v1/saved-views", body, format="json").json()
    client.post("/api/v1/saved-views", {**body, "address": {"rule": "crop is set"}}, format="json")
    assert [v["address"] for v in client.get("/api/v1/saved-views").json()] == [{"rule": "crop is set"}]

    other = APIClient()
    other.force_authenticate(make_user())
    assert other.get("/api/v1/saved-views").json() == []
    assert other.delete(f"/api/v1/saved-views/{kept['id']}").status_code == 404
    assert client.delete(f"/api/v1/saved-views/{kept['id']}").status_code == 204
