"""The life of a device in the interface: admitted, refused and let in, added, replaced, retired, removed."""

import json
import re
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, expect

from herald.demo.load import ENROLMENT_CODE
from tests.running import Running


def device_says(running: Running, call: str, body: Any, secret: str = "") -> Any:
    """What the gateway answers a device; a refusal as its problem details."""
    port = json.loads((running.folder / "choices.json").read_text())["gateway_port"]
    headers = {"Content-Type": "application/json", **({"Authorization": f"Bearer {secret}"} if secret else {})}
    request = urllib.request.Request(
        f"http://127.0.0.1:{port}/device/v1/{call}", data=json.dumps(body).encode(), headers=headers
    )
    try:
        with urllib.request.urlopen(request, timeout=30) as response:
            return json.load(response)
    except urllib.error.HTTPError as error:
        return json.load(error)


def enrols(running: Running, uid: str, code: str = ENROLMENT_CODE) -> Any:
    return device_says(running, "enrol", {"uid": uid, "model": "Sill 400", "code": code})


def choose(page: Page, act: str) -> None:
    page.get_by_role("button", name="Actions").click()
    page.get_by_role("menuitem", name=act).click()


def test_a_device_that_waits_is_admitted_and_one_that_lost_its_secret_enrols_again(
    signed_in: Page, running: Running
) -> None:
    page = signed_in
    secret = enrols(running, "LIFE-1")["secret"]
    assert enrols(running, "LIFE-1")["type"].endswith(":enrolled")
    assert enrols(running, "LIFE-2", "no such code")["type"].endswith(":bad-code")
    page.goto(f"{running.url}/admissions")
    page.get_by_label("Choose LIFE-1").check()
    page.get_by_role("button", name="Admit 1").click()
    expect(page.get_by_text("Admit on 1 device")).to_be_visible()
    expect(page.get_by_label("Choose LIFE-1")).to_have_count(0)
    refused = page.get_by_role("listitem").filter(has_text="LIFE-1")
    expect(refused).to_contain_text("It has a secret already")
    refused.get_by_role("button", name="Let it enrol again…").click()
    page.get_by_role("button", name="Revoke its secret").click()
    expect(refused).to_have_count(0)
    assert device_says(running, "check-in", {}, secret)["type"].endswith(":unknown-device")
    assert enrols(running, "LIFE-1")["admission"] == "admitted"
    other = page.get_by_role("listitem").filter(has_text="LIFE-2")
    expect(other).to_contain_text("Its enrolment code is not known here.")
    other.get_by_role("button", name="Dismiss").click()
    expect(other).to_have_count(0)


def test_a_device_is_added_by_a_form_that_says_what_does_not_fit_beside_the_field(
    signed_in: Page, running: Running
) -> None:
    page = signed_in
    taken = running.ask("devices?limit=1")["devices"][0]
    page.goto(f"{running.url}/fleet")
    page.get_by_role("button", name="Add device…").click()
    form = page.get_by_role("dialog", name="Add a device")
    expect(form.get_by_role("button", name="Add device")).to_be_disabled()
    form.get_by_label("UID", exact=True).fill("LIFE-3")
    form.get_by_label("Name", exact=False).first.fill(taken["name"])
    form.get_by_label("Model").select_option("Sill 400")
    form.get_by_label("Site").select_option("Amber Fold")
    form.get_by_role("button", name="Add device").click()
    expect(form.get_by_text("There is a device of this name already.")).to_be_visible()
    form.get_by_label("Name", exact=False).first.fill("life-three")
    form.get_by_role("button", name="Add device").click()
    expect(page.get_by_text("Added life-three")).to_be_visible()
    page.get_by_role("button", name="Open", exact=True).click()
    expect(page.get_by_role("heading", name="life-three")).to_be_visible()
    expect(page.get_by_text("none: it has not enrolled")).to_be_visible()


def test_a_device_is_replaced_and_the_old_one_retired(signed_in: Page, running: Running) -> None:
    page = signed_in
    for uid, name in (("LIFE-4", "life-four"), ("LIFE-5", "life-five")):
        running.api("POST", "devices/add", {"uid": uid, "name": name, "model": "Sill 400"})
    running.api("POST", "groups", {"name": "Of life-four", "kind": "static", "devices": ["life-four"]})
    page.goto(f"{running.url}/devices/life-four")
    choose(page, "Replace by another device…")
    page.get_by_label("New device, by name or uid").fill("life-five")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("takes its place in “Of life-four”")
    dialog.get_by_role("button", name="Replace life-four").click()
    expect(page.get_by_text("life-four is now LIFE-5")).to_be_visible()
    expect(page.get_by_text("LIFE-5", exact=True)).to_be_visible()
    members = running.ask(f"groups/{running.group('Of life-four')}/members")["devices"]
    assert [d["uid"] for d in members] == ["LIFE-5"]
    assert running.ask("devices/uid:LIFE-4")["admission"] == "retired"


def test_an_administrator_issues_a_secret_and_removes_a_retired_device(administrator: Page, running: Running) -> None:
    page = administrator
    running.api("POST", "devices/add", {"uid": "LIFE-6", "name": "42", "model": "Sill 400"})
    page.goto(f"{running.url}/devices/42")
    expect(page.get_by_text("LIFE-6")).to_be_visible()  # and not the device with the id 42
    choose(page, "Issue a new secret…")
    page.get_by_role("button", name="Issue a new secret").click()
    secret = page.get_by_role("dialog").locator("code").inner_text()
    assert device_says(running, "check-in", {"firmware": "5.1.0"}, secret)["admission"] == "admitted"
    page.get_by_role("button", name="Done").click()
    running.api("POST", "edits", {"target": {"devices": ["uid:LIFE-6"]}, "admission": "retired"})
    page.reload()
    choose(page, "Remove for good…")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("0 orders")
    remove = dialog.get_by_role("button", name="Remove for good")
    expect(remove).to_be_disabled()
    dialog.get_by_label("Type 42 to remove it").fill("42")
    remove.click()
    expect(page.get_by_text("42 is removed for good")).to_be_visible()
    assert enrols(running, "LIFE-6")["type"].endswith(":removed")


def test_a_fact_that_nobody_defined_is_found_and_used_in_a_rule(signed_in: Page, running: Running) -> None:
    page = signed_in
    running.api("POST", "devices/add", {"uid": "LIFE-7", "name": "life-seven", "model": "Sill 400"})
    secret = enrols(running, "LIFE-7")["secret"]
    device_says(running, "check-in", {"facts": {"odd_hours": 812, "site": "Mars"}}, secret)
    page.goto(f"{running.url}/library?shelf=facts")
    found = page.get_by_role("row").filter(has_text="odd_hours")
    expect(found).to_contain_text("number")
    expect(page.get_by_role("row").filter(has_text="cannot be used: a built-in field has this key")).to_be_visible()
    found.get_by_role("button", name="Edit").click()
    page.get_by_label("Unit").fill("h")
    page.get_by_role("button", name="Save").click()
    expect(found).to_contain_text("number in h")
    page.goto(f"{running.url}/fleet?rule=odd_hours%20%3E%20800&columns=odd_hours")
    expect(page.get_by_role("row", name=re.compile("life-seven"))).to_contain_text("812")


def test_an_import_is_undone_from_the_list_of_imports(signed_in: Page, running: Running, tmp_path: Path) -> None:
    page = signed_in
    file = tmp_path / "to-undo.csv"
    file.write_text("uid,name,model\nLIFE-8,life-eight,Sill 400\nLIFE-9,life-nine,Sill 400\n")
    page.goto(f"{running.url}/import/new")
    page.get_by_label("File of devices").set_input_files(file)
    page.get_by_role("button", name="Write 2 devices").click()
    expect(page.get_by_text("2 devices written.")).to_be_visible()
    page.get_by_role("link", name="Another file").click()
    row = page.get_by_role("listitem").filter(has_text="to-undo.csv")
    row.get_by_role("button", name="Undo…").click()
    expect(page.get_by_role("dialog")).to_contain_text("2 new devices are removed: none has called.")
    page.get_by_role("button", name="Undo the import").click()
    expect(row).to_contain_text("undone")
    assert running.ask("devices?q=life-eight")["count"] == 0


def test_a_command_is_composed_for_one_device_from_its_page(signed_in: Page, running: Running) -> None:
    page = signed_in
    name = running.ask("devices?rule=family%20%3D%20Vane&limit=1")["devices"][0]["name"]
    page.goto(f"{running.url}/devices/{name}")
    choose(page, "Run a command…")
    expect(page.get_by_role("button", name=name, exact=True)).to_be_visible()
    page.get_by_role("button", name=re.compile("every day at")).click()
    page.get_by_label("Runs").select_option("now")
    page.get_by_label("Number of devices").fill("1")
    page.get_by_role("button", name="Restart 1 device now").click()
    expect(page.get_by_text("Command saved")).to_be_visible()
    page.goto(f"{running.url}/devices/{name}")
    # among what is upcoming, or among its orders once it is done
    expect(page.get_by_role("link", name=re.compile(rf"^Restart( {name} now.*)?$")).first).to_be_visible()
