"""Upkeep of images and reports of rollouts, in the real interface."""

import json
import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.running import Running

pytestmark = pytest.mark.filterwarnings("ignore")


def test_a_folder_of_images_comes_in_and_what_does_not_fit_is_said(
    signed_in: Page, running: Running, tmp_path: Path
) -> None:
    page = signed_in
    images = [
        {"file": "a.bin", "version": "0.11.0", "models": ["Burrow S1"], "min_version": "0.9.0", "soak_minutes": 3},
        {"file": "b.bin", "version": "0.11.1", "models": ["No such model"]},
        {"file": "gone.bin", "version": "0.11.2", "models": ["Burrow S1"]},
    ]
    (tmp_path / "a.bin").write_bytes(b"first" * 1000)
    (tmp_path / "b.bin").write_bytes(b"second")
    page.goto(f"{running.url}/library")
    page.get_by_role("button", name="Add a folder…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Folder of images").set_input_files(tmp_path)
    expect(dialog.get_by_role("alert")).to_contain_text("no manifest.json")
    (tmp_path / "manifest.json").write_text(json.dumps({"images": images}))
    dialog.get_by_label("Folder of images").set_input_files(tmp_path)
    expect(dialog.get_by_text("not there")).to_be_visible()
    dialog.get_by_role("button", name="Add 2 images").click()
    expect(dialog.get_by_text("refused")).to_be_visible()
    expect(dialog.get_by_text("1 image added, 1 to go")).to_be_visible()
    dialog.get_by_role("button", name="Cancel").click()
    row = page.get_by_role("row", name=re.compile(r"0\.11\.0 new"))
    expect(row).to_contain_text("added by M. Okafor")
    added = next(i for i in running.ask("images") if i["version"] == "0.11.0")
    assert (added["size_bytes"], added["soak_minutes"], added["min_version"]) == (5000, 3, "0.9.0")
    assert not any(i["version"] == "0.11.1" for i in running.ask("images"))


def test_images_are_cleaned_away_and_brought_back(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/library")
    page.get_by_role("button", name="Clean up…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_text(re.compile(r"\d+ images stay, and why")).click()
    expect(dialog.get_by_text(re.compile(r"Burrow 0\.9\.4: \d+ devices run it"))).to_be_visible()
    free = dialog.get_by_role("checkbox")
    names = [label.strip() for label in dialog.locator("label strong").all_inner_texts()]
    assert "Sill 4.2.0" in names
    for index, name in enumerate(names):
        if name != "Sill 4.2.0":
            free.nth(index).uncheck()
    dialog.get_by_role("button", name="Remove 1 image").click()
    expect(page.get_by_role("heading", name="Removed")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile(r"^4\.2\.0"))).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("row", name=re.compile(r"^4\.2\.0"))).to_be_visible()


def test_the_key_is_changed_and_the_old_one_taken_back(administrator: Page, running: Running) -> None:
    page = administrator
    page.goto(f"{running.url}/library?shelf=approval")
    # both tables are there, so that nothing moves under the pointer any more
    for row in (re.compile("^Drum P7"), re.compile("signs now")):
        expect(page.get_by_role("row", name=row)).to_be_visible()
    page.get_by_role("button", name="Change the key…").click()
    dialog = page.get_by_role("alertdialog")
    expect(dialog).to_contain_text(re.compile(r"\d+ approved images are signed anew"))
    dialog.get_by_role("button", name="Change the key").click()
    expect(page.get_by_text("signs nothing more, still published")).to_be_visible()
    page.get_by_role("button", name="Revoke…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Revoke the key").click()
    expect(page.get_by_text(re.compile("^revoked"))).to_be_visible()
    drum = page.get_by_role("row", name=re.compile("^Drum P7"))
    drum.get_by_role("button", name="On arrival…").click()
    expect(page.get_by_role("alertdialog")).to_contain_text("Nobody looks at an image for Drum P7 a second time")
    page.get_by_role("alertdialog").get_by_role("button", name="Approve on arrival").click()
    expect(drum).to_contain_text("R. Nasser")
    drum.get_by_role("button", name="By hand again").click()
    expect(drum).to_contain_text("by hand")


def test_where_a_rollout_stands_its_report_and_another_beside_it(signed_in: Page, running: Running) -> None:
    page = signed_in
    first = running.ask("rollouts/1")
    drums = [r for r in running.ask("rollouts")["rollouts"] if r["target"].startswith("Drum 3.0.4")]
    halted = min(drums, key=lambda r: r["id"])  # the demo's own, not those of other tests
    page.goto(f"{running.url}/rollouts/{halted['id']}")
    page.get_by_label("Status by").select_option("last_error")
    page.get_by_role("row", name=re.compile("^flash-verify")).get_by_role("link", name=re.compile("failed$")).click()
    expect(page.get_by_label("Error")).to_have_value("flash-verify")
    # exactly: the line of a ring may begin with the same number
    expect(page.get_by_text(f"{halted['phases']['failed']} devices", exact=True)).to_be_visible()
    page.goto(f"{running.url}/rollouts/1")
    page.get_by_label("Status by").select_option("site")
    page.get_by_role("link", name="Report").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Put Vane 1.13.0 on Weather masts")
    expect(page.get_by_role("heading", name=f"{first['total']} devices, by how it ended")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Devices as CSV").click()
    lines = download.value.path().read_text("utf-8-sig").splitlines()
    assert len(lines) == first["total"] + 1 and lines[0].startswith("device,uid,model")
    page.get_by_label("Compare with").select_option("3")
    expect(page.get_by_role("heading", name="Two rollouts compared")).to_be_visible()
    expect(page.get_by_role("img", name=re.compile(r"rollout 1: .*; rollout 3: 100% confirmed"))).to_be_visible()
    expect(page.get_by_role("row", name=re.compile(r"^Devices"))).to_contain_text(str(first["total"]))


def test_what_a_model_can_do_is_changed_by_its_numbers(signed_in: Page, running: Running) -> None:
    page = signed_in
    lumens = next(m for m in running.ask("models") if m["name"] == "Lumen G5")["devices"]
    page.goto(f"{running.url}/library?shelf=models")
    page.get_by_role("button", name="Change what Lumen G5 can do").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Show a notice: which firmware").select_option(label="from … to …")
    dialog.get_by_label("Show a notice: from").fill("7.9.0")
    dialog.get_by_label("Show a notice: up to").fill("7.8.0")
    expect(dialog.get_by_role("alert")).to_contain_text("ends before it begins")
    dialog.get_by_label("Show a notice: up to").fill("")
    expect(dialog.get_by_text(f"{lumens} devices would be without")).to_be_visible()
    dialog.get_by_role("button", name="Save").click()
    row = page.get_by_role("row", name=re.compile("Lumen G5 Show a notice"))
    expect(row).to_contain_text("from 7.9.0")
    row.get_by_role("link", name=f"{lumens} devices without").click()
    expect(page).to_have_url(re.compile("/fleet"))
    assert (
        running.ask('devices?rule=model%20%3D%20"Lumen%20G5"%20and%20not%20firmware%20>%3D%207.9.0')["count"] == lumens
    )
