"""Which firmware runs where: what counts as approved, that the figures add up, and that each rule finds its devices."""

import csv
import io
from datetime import timedelta
from typing import Any

import pytest
from openpyxl import load_workbook

from herald.fleet.models import Device, Site
from herald.groups.folders import make_folder
from herald.images.models import Image
from herald_core.versions import version_key as key_of
from tests.factories import NOW, client_as, make_devices, make_image, make_model, make_site, make_user
from tests.server.test_limits import client_of, limited

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
REPORT = "/api/v1/reports/firmware"


def on(version: str | None, count: int, **fields: Any) -> list[Device]:
    devices = make_devices(count, **fields)
    key = None if version is None else key_of(version)
    Device.objects.filter(pk__in=[d.pk for d in devices]).update(firmware=version, firmware_key=key)
    return devices


@pytest.fixture
def fleet() -> tuple[Site, Site]:
    """Two models at two sites; the Rill has no approved version."""
    make_image("5.2.1")
    make_image("5.1.0", b"older")
    withdrawn = make_image("5.0.0", b"oldest")
    Image.objects.filter(pk=withdrawn.pk).update(status="withdrawn", reason="x")
    north, south = make_site("North"), make_site("South")
    rill = make_model("Rill 2", "Rill")
    on("5.2.1", 3, site=north)
    on("5.1.0", 2, site=north)
    on("5.0.0", 4, site=north)
    on(None, 1, site=north)
    on("5.2.1", 1, site=south)
    on("5.2.1", 2, site=south, model=rill)
    on("5.0.0", 5, site=south, admission="retired")
    Device.objects.filter(pk__in=[d.pk for d in on("5.2.1", 1)]).update(site=None)
    return north, south


def rows(part: str, client: Any = None) -> dict[str, dict[str, Any]]:
    return {r["name"]: r for r in (client or client_as("viewer")).get(REPORT).json()[part]}


@pytest.mark.usefixtures("fleet")
def test_a_version_is_approved_for_a_model_and_not_for_another() -> None:
    sill, rill = rows("models")["Sill 400"], rows("models")["Rill 2"]
    assert (sill["devices"], sill["approved"], sill["newest"], sill["unknown"]) == (12, 7, 5, 1)
    assert sill["target"] == "5.2.1"
    assert (rill["devices"], rill["approved"], rill["newest"], rill["target"]) == (2, 0, 0, "")


@pytest.mark.usefixtures("fleet")
def test_models_and_sites_count_the_same_devices_and_the_worst_comes_first() -> None:
    models, sites = rows("models"), rows("sites")
    for what in ("devices", "approved", "newest", "unknown", "on_time"):
        assert sum(r[what] for r in models.values()) == sum(r[what] for r in sites.values())
    assert list(sites) == ["North", "South", "No site"]
    assert sum(r["devices"] for r in sites.values()) == Device.objects.filter(admission="admitted").count()


@pytest.mark.usefixtures("fleet")
def test_each_rule_finds_the_devices_that_its_row_counts() -> None:
    operator = client_as("operator")
    for part in ("models", "sites"):
        for name, row in rows(part).items():
            others = row["devices"] - row["approved"]
            assert bool(row["rule"]) == bool(others), name
            if row["rule"]:
                found = operator.get("/api/v1/devices", {"rule": row["rule"]}).json()
                assert len(found["devices"]) == others, (name, row["rule"])


def test_nothing_is_claimed_of_an_empty_fleet() -> None:
    assert client_as("viewer").get(REPORT).json() == {
        "at": NOW.strftime("%Y-%m-%dT%H:%M:%SZ"),
        "models": [],
        "sites": [],
    }


def test_devices_that_fell_silent_are_counted_as_they_were_and_not_as_on_time(fleet: tuple[Site, Site]) -> None:
    north, _ = fleet
    Device.objects.filter(site=north).update(last_check_in=NOW - timedelta(days=9))
    assert (rows("sites")["North"]["devices"], rows("sites")["North"]["on_time"]) == (10, 0)


def test_whoever_sees_one_site_gets_the_figures_of_that_site(fleet: tuple[Site, Site]) -> None:
    _, south = fleet
    client = client_of(limited(make_user("viewer"), sites=[south]))
    assert {n: r["devices"] for n, r in rows("sites", client).items()} == {"South": 3}
    assert {n: r["devices"] for n, r in rows("models", client).items()} == {"Rill 2": 2, "Sill 400": 1}
    nothing = client_of(limited(make_user("viewer"), folders=[make_folder("Empty", None, actor=None, now=NOW)]))
    assert rows("sites", nothing) == {}


@pytest.mark.usefixtures("fleet")
def test_as_a_file_it_has_a_line_for_each_version_of_each_model_at_each_site() -> None:
    client = client_as("viewer")
    text = b"".join(client.get(f"{REPORT}/table").streaming_content).decode("utf-8-sig")
    lines = list(csv.DictReader(io.StringIO(text)))
    assert sum(int(line["devices"]) for line in lines) == 14
    [old] = [line for line in lines if line["version"] == "5.0.0"]
    assert (old["site"], old["model"], old["approved"], old["devices"]) == ("North", "Sill 400", "no", "4")
    book = load_workbook(io.BytesIO(client.get(f"{REPORT}/table?format=xlsx").content), read_only=True)
    assert book.sheetnames == ["Models", "Sites", "Versions"]
    assert [c.value for c in next(book["Sites"].iter_rows(min_row=2))][:3] == ["North", 10, 5]
