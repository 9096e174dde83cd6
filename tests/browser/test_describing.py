"""Describing what there is: values changed where they stand, folders, what a group is kept to, sites."""

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.test_walk import write_rule
from tests.running import Running


def test_a_value_is_changed_where_it_stands_and_undone(signed_in: Page, running: Running) -> None:
    page = signed_in
    device = running.ask("devices?rule=family%20%3D%20Lumen&limit=1")["devices"][0]["name"]
    running.api("POST", "groups", {"name": "Z9 in place", "rule": "block = Z9-place"})
    page.goto(f"{running.url}/devices/{device}")
    page.get_by_role("button", name="Change Block").click()
    box = page.get_by_label("Block", exact=True)
    box.fill("Z9-place")
    expect(page.get_by_text("Z9 in place gains 1")).to_be_visible()
    box.press("Enter")
    expect(page.get_by_text("Set block to Z9-place on 1 device", exact=True)).to_be_visible()  # the notice
    expect(page.get_by_role("button", name="Change Block")).to_contain_text("Z9-place")
    running.until(f"devices/{device}", lambda d: "Z9 in place" in [g["name"] for g in d["groups"]])
    why = page.get_by_role("listitem").filter(has_text="Z9 in place").first
    why.get_by_role("button", name="why").click()
    expect(why).to_contain_text("block = Z9-place")
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("button", name="Change Block")).not_to_contain_text("Z9-place")


def test_a_device_is_asked_to_report_and_does(signed_in: Page, running: Running) -> None:
    page = signed_in
    device = running.ask('devices?rule=presence%20%3D%20"on%20time"&limit=1')["devices"][0]["name"]
    page.goto(f"{running.url}/devices/{device}")
    page.get_by_role("button", name="Ask it to report at its next call").click()
    running.until(f"devices/{device}", lambda d: d["report_asked_at"] is None)
    expect(page.get_by_role("button", name="Ask it to report at its next call")).to_be_visible()


def test_groups_and_folders_are_moved_by_keys_and_back(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/groups")
    page.get_by_role("button", name="New folder").click()
    page.get_by_label("Name of the folder").fill("Kept apart")
    page.get_by_role("button", name="Make the folder").click()
    tree = page.get_by_role("navigation", name="Groups by folder")  # what changed today names groups too
    leaf = tree.get_by_role("link", name=re.compile("^Weather masts"))
    leaf.focus()
    page.keyboard.press("m")
    page.get_by_role("radio", name="Kept apart").check()
    page.get_by_role("button", name="Move it here").click()
    expect(page.get_by_text("“Weather masts” moved")).to_be_visible()
    assert running.ask(f"groups/{running.group('Weather masts')}")["folder"] == "Kept apart"
    page.get_by_role("button", name="Undo").click()
    running.until(f"groups/{running.group('Weather masts')}", lambda g: g["folder"] == "Field hardware")

    folder = tree.get_by_role("listitem").filter(has_text="Kept apart").first
    folder.hover()
    folder.get_by_role("button", name="Actions for Kept apart").click()
    page.get_by_role("menuitem", name="Delete, if empty").click()
    expect(tree.get_by_role("button", name=re.compile("Kept apart"))).to_have_count(0)


def test_a_rule_that_a_schedule_follows_is_saved_only_by_its_numbers(signed_in: Page, running: Running) -> None:
    page = signed_in
    group = running.api("POST", "groups", {"name": "Followed", "rule": "site = nowhere"})
    running.api(
        "POST",
        "schedules",
        {
            "template": "restart",
            "include": [group["id"]],
            "when": "repeat",
            "rule": "FREQ=DAILY",
            "time_of_day": "03:00",
        },
    )
    page.goto(f"{running.url}/groups/{group['id']}")
    write_rule(page, "family = Burrow")
    count = running.ask("devices?rule=family%20%3D%20Burrow")["count"]
    page.get_by_role("button", name=f"Save: {count} join, 0 leave").click()
    dialog = page.get_by_role("alertdialog")
    expect(dialog).to_contain_text(re.compile(r"Schedule \d+, restart"))
    dialog.get_by_role("button", name=f"Agree: {count} join").click()
    running.until(f"groups/{group['id']}", lambda g: g["member_count"] == count)


def test_devices_are_found_put_in_and_a_rule_is_proposed_for_them(signed_in: Page, running: Running) -> None:
    page = signed_in
    masts = [d["name"] for d in running.ask("devices?rule=family%20%3D%20Vane&limit=200")["devices"]]
    group = running.api("POST", "groups", {"name": "Masts by hand", "kind": "static", "devices": masts[1:]})
    page.goto(f"{running.url}/groups/{group['id']}")
    page.get_by_label("Find devices to add").fill(masts[0])
    page.get_by_role("button", name=re.compile(masts[0])).click()
    page.get_by_role("button", name="Add 1").click()
    expect(page.get_by_role("heading", name=f"{len(masts)} members")).to_be_visible()
    page.get_by_role("button", name=f"Find a rule that gives these {len(masts)}").click()
    expect(page.get_by_text(f"Gives exactly these {len(masts)} devices.")).to_be_visible()
    page.get_by_role("button", name="Convert to this rule…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Convert to rule").click()
    expect(page.get_by_text("By rule", exact=False).first).to_be_visible()
    running.until(f"groups/{group['id']}", lambda g: g["kind"] == "rule")


def test_a_site_is_renamed_with_the_rules_that_name_it(signed_in: Page, running: Running) -> None:
    page = signed_in
    running.api("POST", "sites", {"name": "Fallow Reach", "time_zone": "Europe/Lisbon"})
    group = running.api("POST", "groups", {"name": "Of the reach", "rule": 'site = "Fallow Reach"'})
    page.goto(f"{running.url}/library?shelf=sites")
    page.get_by_role("row", name=re.compile("Fallow Reach")).get_by_role("button", name="Change…").click()
    page.get_by_label("Name").fill("Fallow Run")
    expect(page.get_by_text("the rules of Of the reach are rewritten")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("row", name=re.compile("Fallow Run"))).to_be_visible()
    assert running.ask(f"groups/{group['id']}")["rule"] == 'site = "Fallow Run"'


def test_an_image_comes_in_is_approved_by_another_and_withdrawn(
    signed_in: Page, running: Running, tmp_path: Path
) -> None:
    page = signed_in
    file = tmp_path / "burrow-9.1.0.bin"
    file.write_bytes(bytes(range(256)) * 40_000)  # two pieces
    page.goto(f"{running.url}/library")
    page.get_by_role("button", name="Add an image").click()
    page.get_by_label("Image file").set_input_files(file)
    expect(page.get_by_text("10.2 MB are there.")).to_be_visible()
    expect(page.get_by_label("Version", exact=True)).to_have_value("9.1.0")
    page.get_by_label("Family").select_option("Burrow")
    page.get_by_role("button", name="Add the image").click()
    row = page.get_by_role("row", name=re.compile(r"^9\.1\.0"))
    expect(row.get_by_role("button", name="Approve")).to_be_disabled()  # who added it may not

    image = next(i for i in running.ask("images") if i["name"] == "Burrow 9.1.0")
    assert (image["size_bytes"], image["status"], image["added_by"]) == (10_240_000, "new", "M. Okafor")
    page.get_by_role("button", name=re.compile("account of")).click()
    page.get_by_role("menuitem", name="Sign out").click()
    page.get_by_label("E-mail address").fill("approver@larkfield.example")
    page.get_by_label("Password").fill("larkfield-demo")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("link", name="Library").click()
    row.get_by_role("button", name="Approve").click()
    expect(row).to_contain_text("approved")
    row.get_by_role("button", name="Withdraw…").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Nothing sends it now.")
    dialog.get_by_label("Why").fill("only a trial")
    dialog.get_by_role("button", name="Withdraw Burrow 9.1.0").click()
    expect(row).to_contain_text("only a trial")


def test_chosen_devices_are_put_into_a_group_and_taken_out(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/fleet?rule=family%20%3D%20Rill")
    expect(page.get_by_role("grid", name="Devices")).to_be_visible()
    for n in range(2):
        page.get_by_label(re.compile("^Select ")).nth(n).check()
    page.get_by_role("button", name="Actions for 2").click()
    page.get_by_role("menuitem", name="Add to group…").click()
    page.get_by_label("Static group").select_option("new")
    page.get_by_label("Name", exact=True).fill("Two of the valves")
    page.get_by_role("button", name="Add", exact=True).click()
    page.get_by_role("button", name="Open", exact=True).click()
    expect(page.get_by_role("heading", name="2 members")).to_be_visible()
    page.get_by_label(re.compile("^Select ")).first.check()
    page.get_by_role("button", name="Remove the 1 selected").click()
    expect(page.get_by_role("heading", name="1 member")).to_be_visible()


def test_ids_from_a_file_go_in_and_unknown_ones_are_named_and_left_out(
    signed_in: Page, running: Running, tmp_path: Path
) -> None:
    page = signed_in
    uids = [d["uid"] for d in running.ask("devices?limit=2")["devices"]]
    group = running.api("POST", "groups", {"name": "From a file", "kind": "static"})
    file = tmp_path / "list.csv"
    file.write_text("uid,note\n" + "".join(f"{u},x\n" for u in [*uids, "NOBODY-1"]))
    page.goto(f"{running.url}/groups/{group['id']}")
    page.get_by_label("A file of names or UIDs").set_input_files(file)
    page.get_by_role("button", name="Add 3").click()
    expect(page.get_by_role("alert")).to_contain_text("No device is called NOBODY-1")
    page.get_by_role("button", name="Leave out 1 unknown one").click()
    page.get_by_role("button", name="Add 2").click()
    expect(page.get_by_role("heading", name="2 members")).to_be_visible()
