"""Bringing devices in, describing them, and groups that are right."""

import re
from pathlib import Path

from playwright.sync_api import Locator, Page, expect

from tests.browser.test_walk import write_rule
from tests.running import Running


def test_a_file_with_wrong_rows_is_mended_and_brought_in(signed_in: Page, running: Running, tmp_path: Path) -> None:
    page = signed_in
    file = tmp_path / "new.csv"
    head = "Device ID;Name;Model;Site;Tags;Crop\n"
    file.write_text(head + "B-1;brought-1;Sill 400;Amber Fold;brought;olive\nB-2;brought-2;Sil 400;;brought;\n")
    page.get_by_role("link", name="Fleet", exact=True).click()
    page.get_by_role("link", name="Import", exact=True).click()
    page.get_by_label("File of devices").set_input_files(file)
    expect(page.get_by_text("1 row to correct")).to_be_visible()
    expect(page.get_by_text("there is no model of this name; did you mean Sill 400?")).to_be_visible()
    expect(page.get_by_text("nothing is written yet")).to_be_visible()
    assert running.ask("devices?rule=tag%20%3D%20brought")["count"] == 0

    file.write_text(head + "B-1;brought-1;Sill 400;Amber Fold;brought;olive\nB-2;brought-2;Sill 400;;brought;\n")
    page.get_by_role("link", name="Another file").click()
    page.get_by_label("File of devices").set_input_files(file)
    page.get_by_role("button", name="Write 2 devices").click()
    expect(page.get_by_text("2 devices written.")).to_be_visible()
    assert running.ask("devices?rule=tag%20%3D%20brought%20and%20crop%20%3D%20olive")["count"] == 1


def test_the_near_miss_explains_an_empty_group_and_a_press_mends_it(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/groups/new")
    write_rule(page, "family = Sill and tag = frostzone")
    expect(page.get_by_role("tab", name="In 0")).to_be_visible()
    expect(page.get_by_text(re.compile("devices? ha(s|ve) tag frost-zone, not frostzone"))).to_be_visible()
    expect(page.get_by_text("No device has tag frostzone.")).to_be_visible()
    page.get_by_role("tab", name=re.compile("Just missed")).click()
    expect(page.get_by_role("gridcell", name=re.compile("close: frost.zone is nearly frostzone")).first).to_be_visible()

    page.get_by_role("button", name="tag = frostzone", exact=True).click()
    page.get_by_label("Value", exact=True).fill("frost-zone")
    page.get_by_role("button", name="Use", exact=True).click()
    expect(page.get_by_role("textbox", name="Rule", exact=True)).to_contain_text("tag = frost-zone")
    expect(page.get_by_role("tab", name=re.compile("In [1-9]"))).to_be_visible()


def test_merging_a_tag_warns_what_it_moves_and_the_members_follow(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/fleet?rule=family%20%3D%20Rill")
    expect(page.get_by_role("grid", name="Devices")).to_be_visible()
    boxes = page.get_by_label(re.compile("^Select "))
    for n in range(2):
        boxes.nth(n).check()
    page.get_by_role("button", name="Edit 2 selected…").click()
    page.get_by_role("combobox", name=re.compile("^Tags")).fill("river_side")
    page.get_by_role("button", name="Change 2 devices").click()
    expect(page.get_by_text("Add the tag river_side on 2 devices")).to_be_visible()
    group = running.api("POST", "groups", {"name": "River side", "rule": "tag = river-side"})
    running.api(
        "POST",
        "rollouts",
        {
            "changes": [{"choice": "image", "image_id": running.image("Drum 3.0.4")}],
            "include": [group["id"]],
            "rings": [{"name": "All", "kind": "rest"}],
        },
    )

    page.goto(f"{running.url}/library?shelf=tags")
    page.get_by_role("row", name=re.compile("river_side")).get_by_role("button", name="Rename or merge…").click()
    page.get_by_label(re.compile("Its new name")).fill("river-side")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("River side gains 2")
    expect(dialog).to_contain_text(re.compile(r"Rollout \d+ of Drum 3\.0\.4 \(draft\) uses it"))
    dialog.get_by_role("button", name=re.compile("on 2 devices")).click()
    expect(dialog).not_to_be_visible()
    running.until(f"groups/{group['id']}", lambda g: g["member_count"] == 2)


def test_an_edit_of_all_that_match_is_undone_in_one_press(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/fleet?rule=family%20%3D%20Lumen")
    total = running.ask("devices?rule=family%20%3D%20Lumen")["count"]
    page.get_by_role("button", name=re.compile(rf"Edit all {total}…")).click()
    page.get_by_label("What to change").select_option("set")
    page.get_by_role("combobox", name=re.compile("^Attribute")).select_option("block")
    page.get_by_role("combobox", name="Value").fill("Z99")
    page.get_by_role("button", name=re.compile(rf"Change {total} devices?")).click()
    expect(page.get_by_text(f"Set block to Z99 on {total} devices")).to_be_visible()
    assert running.ask("devices?rule=block%20%3D%20Z99")["count"] == total
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("Undone:")).to_be_visible()
    assert running.ask("devices?rule=block%20%3D%20Z99")["count"] == 0


def test_a_device_moves_within_its_family_only_when_confirmed(signed_in: Page, running: Running) -> None:
    page = signed_in
    paces = {g["name"]: g for g in running.ask("groups") if g["family"]}
    names = sorted(n for n in paces if paces[n]["member_count"])
    here, there = paces[names[0]], paces[names[1]]
    device = running.ask(f"groups/{there['id']}/members?limit=1")["devices"][0]["name"]
    page.goto(f"{running.url}/groups/{here['id']}")
    page.get_by_label("Names or UIDs of devices").fill(device)
    page.get_by_role("button", name="Add 1").click()
    expect(page.get_by_role("alert")).to_contain_text(f"This moves 1 from “{there['name']}”")
    page.get_by_role("button", name="Move it here").click()
    expect(page.get_by_text("1 device added")).to_be_visible()
    assert running.ask(f"groups/{there['id']}")["member_count"] == there["member_count"] - 1


def test_a_group_is_made_with_the_keyboard_alone(page: Page, running: Running) -> None:
    page.goto(running.url)
    password = page.get_by_label("Password")
    expect(password).to_be_visible()
    _tab_to(page, password)
    page.keyboard.type("larkfield-demo")
    page.keyboard.press("Enter")
    expect(page.get_by_role("navigation", name="Rooms")).to_be_visible()
    page.keyboard.press("g")
    page.keyboard.press("g")
    link = page.get_by_role("link", name="New group")
    expect(link).to_be_visible()
    _tab_to(page, link)
    page.keyboard.press("Enter")
    editor = page.get_by_role("textbox", name="Rule", exact=True)
    expect(editor).to_be_focused()
    page.keyboard.type("family = Burrow")
    page.keyboard.press("Escape")
    name = page.get_by_label("Name of the group")
    _tab_to(page, name, "Shift+Tab")
    page.keyboard.type("By keys alone")
    save = page.get_by_role("button", name=re.compile(r"Save with \d+ devices?"))
    expect(save).to_be_enabled()
    _tab_to(page, save)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="By keys alone")).to_be_attached()


def _tab_to(page: Page, wanted: Locator, key: str = "Tab") -> None:
    """Press a key until the wanted control has the focus."""
    for _ in range(60):
        if wanted.evaluate("e => e === document.activeElement"):
            return
        page.keyboard.press(key)
    raise AssertionError(f"the keyboard does not reach {wanted}")
