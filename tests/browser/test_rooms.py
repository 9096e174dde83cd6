"""What each room does beside the walk: picking by hand, drafts, pausing, throwing away, old figures."""

import re

from playwright.sync_api import Page, Route, expect

from tests.running import ENGINEER, Running


def test_a_group_is_picked_by_hand_and_unknown_names_are_said(signed_in: Page, running: Running) -> None:
    page = signed_in
    devices = [d["name"] for d in running.ask("devices?limit=3")["devices"]]
    page.goto(f"{running.url}/groups/new")
    by_hand = page.get_by_role("button", name="pick its devices by hand")
    expect(by_hand).to_be_disabled()
    page.get_by_label("Name of the group").fill("By hand")
    by_hand.click()
    expect(page.get_by_role("heading", name="0 members")).to_be_visible()
    box = page.get_by_label("Names or UIDs of devices")
    box.fill(devices[0])
    page.get_by_role("button", name="Add 1").click()
    expect(page.get_by_role("heading", name="1 member")).to_be_visible()
    box.fill("sill-9999")
    page.get_by_role("button", name="Add 1").click()
    expect(page.get_by_role("alert")).to_contain_text("No device is called sill-9999")
    expect(box).to_have_value("sill-9999")  # nothing typed is lost
    box.fill("\n".join(devices[1:]))
    page.get_by_role("button", name="Add 2").click()
    expect(page.get_by_role("heading", name="3 members")).to_be_visible()
    box.fill(devices[0])
    page.get_by_role("button", name="Remove 1").click()
    expect(page.get_by_role("heading", name="2 members")).to_be_visible()
    page.get_by_role("button", name="Delete…").click()
    dialog = page.get_by_role("alertdialog")
    expect(dialog).to_contain_text("2 devices lose this group")
    dialog.get_by_role("button", name="Delete the group").click()
    expect(page).to_have_url(re.compile("/groups$"))


def test_a_group_that_is_kept_as_a_file_says_so_and_when_it_was_changed_by_hand(
    signed_in: Page, running: Running
) -> None:
    page = signed_in
    files = {"kinds": {"groups": [{"name": "Drums of the files", "rule": "family = Drum"}]}}
    plan = running.api("POST", "configuration/compare", files)
    also = {"digest": plan["digest"], "files": {"groups": "groups.yaml"}, "revision": "4f2a1c9"}
    running.api("POST", "configuration/apply", files | also)
    group = next(g for g in running.ask("groups") if g["name"] == "Drums of the files")["id"]
    page.goto(f"{running.url}/groups/{group}")
    expect(page.get_by_text("Kept as a file: groups.yaml at 4f2a1c9, applied")).to_contain_text("by M. Okafor")
    expect(page.get_by_text("changed by hand since")).to_have_count(0)
    page.get_by_role("button", name="Describe…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("What it is for").fill("by hand")
    dialog.get_by_role("button", name="Save").click()
    expect(page.get_by_text("changed by hand since")).to_be_visible()
    running.api("DELETE", f"groups/{group}")


def test_what_is_pressed_again_as_its_answer_was_lost_is_done_once(signed_in: Page, running: Running) -> None:
    """The server carried it out, and the link broke before the page heard of it."""
    page, lost = signed_in, []
    schedule = running.ask("schedules")["schedules"][0]["id"]

    def lose_the_first(route: Route) -> None:
        if route.request.method == "POST" and not lost:
            lost.append(route.fetch().status)
            route.abort()
        else:
            route.continue_()

    page.goto(f"{running.url}/commands/{schedule}")
    page.route("**/comments", lose_the_first)
    page.get_by_label("Comment", exact=True).fill("said over a bad link")
    press = page.get_by_role("button", name="Comment", exact=True)
    press.click()
    expect(page.get_by_role("alert")).to_contain_text("The server does not answer")
    assert lost == [201]
    press.click()
    expect(page.get_by_label("Comment", exact=True)).to_have_value("")
    said = [c["text"] for c in running.ask(f"schedules/{schedule}/comments")]
    assert said.count("said over a bad link") == 1


def test_a_group_in_use_says_what_uses_it(signed_in: Page, running: Running) -> None:
    page = signed_in
    group = running.api("POST", "groups", {"name": "Used by a draft", "rule": "family = Drum"})["id"]
    draft = {
        "changes": [{"choice": "newest"}],
        "include": [group],
        "rings": [{"name": "All", "kind": "rest"}],
    }
    running.api("POST", "rollouts", draft)
    page.goto(f"{running.url}/groups/{group}")
    page.get_by_role("button", name="Delete…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Delete the group").click()
    expect(page.get_by_role("alert")).to_contain_text("is in use: Rollout")


def test_saving_a_rule_first_says_who_joins_and_leaves(signed_in: Page, running: Running) -> None:
    page = signed_in
    group = running.api("POST", "groups", {"name": "To change", "rule": "family = Drum"})
    page.goto(f"{running.url}/groups/{group['id']}")
    editor = page.get_by_role("textbox", name="Rule", exact=True)
    expect(editor).to_contain_text("family = Drum")
    editor.click()
    page.keyboard.press("Control+a")
    page.keyboard.type("family = Vane")
    page.keyboard.press("Escape")
    save = page.get_by_role("button", name=re.compile(rf"Save: \d+ join, {group['member_count']} leave"))
    expect(save).to_be_visible()
    page.get_by_role("tab", name=re.compile("Leaving")).click()
    expect(page.get_by_text("leaves", exact=True).first).to_be_visible()
    assert running.ask(f"groups/{group['id']}")["rule"] == "family = Drum"
    save.click()
    expect(page.get_by_text("No device joins and none leaves.")).to_be_visible()
    assert running.ask(f"groups/{group['id']}")["rule"] == "family = Vane"


def test_a_draft_survives_a_reload_and_can_be_thrown_away(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/rollouts/new")
    page.get_by_role("radio", name=re.compile(r"Lumen 7\.3\.0")).check()
    expect(page.get_by_text("Still missing: an audience; no group and no device is nobody.")).to_be_visible()
    page.wait_for_timeout(600)
    page.reload()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Put Lumen 7.3.0 on which devices?")
    page.get_by_role("button", name="which devices?").click()
    page.get_by_label("Groups in the audience: find a group").fill("Greenhouse")
    page.get_by_role("checkbox", name=re.compile("Greenhouse controllers")).check()
    expect(page.get_by_text("draft saved")).to_be_visible()
    expect(page.get_by_label("Groups in the audience: find a group")).to_have_value("Greenhouse")
    page.get_by_role("textbox", name="Rule").or_(page.locator(".cm-content")).first.fill("hardware is set")
    expect(page.get_by_role("heading", level=1)).to_contain_text("only those with hardware is set")
    expect(page.get_by_text("draft saved")).to_be_visible()
    page.wait_for_timeout(600)
    page.reload()
    expect(page.get_by_role("heading", level=1)).to_contain_text("on Greenhouse controllers, only those with hardware")
    page.get_by_role("button", name=re.compile("go straight to it")).click()
    expect(page.get_by_role("dialog").get_by_role("cell", name="Lumen G5").first).to_be_visible()
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Discard…").click()
    expect(page.get_by_role("alertdialog")).to_contain_text("no device is changed by this")
    page.get_by_role("button", name="Discard the draft").click()
    expect(page).to_have_url(re.compile("/rollouts$"))


def test_pausing_says_its_consequence_and_resuming_goes_on(signed_in: Page, running: Running) -> None:
    page = signed_in
    rollout = running.launch(
        {
            "changes": [{"choice": "image", "image_id": running.image("Burrow 0.10.0")}],
            "include": [running.group("Soil probe hubs")],
            "rings": [{"name": "Everyone", "kind": "rest"}],
            "max_concurrent": 1,
            "expires_after_hours": 2000,
        }
    )
    running.until(f"rollouts/{rollout}", lambda r: r["state"] == "running")
    page.goto(f"{running.url}/rollouts/{rollout}")
    page.get_by_role("button", name="Pause…").click()
    expect(page.get_by_role("alertdialog")).to_contain_text("keep waiting")
    page.get_by_role("alertdialog").get_by_role("button", name="Pause").click()
    expect(page.get_by_text("Paused: paused by hand")).to_be_visible()
    expect(page.get_by_role("gridcell", name="somebody to resume it: it is paused").first).to_be_visible()
    page.get_by_role("button", name="Resume…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Resume").click()
    expect(page.get_by_role("button", name="Pause…")).to_be_visible()
    page.get_by_role("button", name="Stop…").click()
    page.get_by_role("alertdialog").get_by_role("button", name=re.compile(r"Stop it for \d+ devices?")).click()
    expect(page.get_by_text("Stopped: stopped by hand")).to_be_visible()


def test_a_keyboard_alone_reads_and_opens_a_list(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/fleet")
    grid = page.get_by_role("grid", name="Devices")
    expect(grid.get_by_role("row").nth(3)).to_be_visible()
    grid.focus()
    page.keyboard.press("j")
    page.keyboard.press("ArrowDown")
    second = grid.get_by_role("row").nth(3).get_by_role("gridcell").nth(1).inner_text().strip()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1, name=second)).to_be_visible()


def test_a_wall_shows_now_large_with_nothing_to_press(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.keyboard.press("Control+k")
    page.keyboard.type("wall screen")
    page.get_by_role("option", name="Show Now on a wall screen").click()
    expect(page).to_have_url(re.compile(r"\?wall"))
    heading = page.get_by_role("heading", level=1)
    expect(heading).to_contain_text("for a decision; ")
    for name in ("Waits for a decision", "Running", "Wants attention"):
        part = page.locator("section").filter(has=page.get_by_role("heading", name=name))
        expect(part.locator("li, p").first).to_be_visible()
    for role in ("button", "link", "navigation", "textbox"):
        expect(page.get_by_role(role)).to_have_count(0)  # type: ignore[arg-type]
    size = page.viewport_size
    assert size is not None
    assert page.evaluate("document.documentElement.scrollHeight") <= size["height"]
    # it does not pass old figures off as new ones
    page.context.set_offline(True)
    expect(page.get_by_role("status").filter(has_text="The server does not answer")).to_be_visible()
    page.context.set_offline(False)
    page.keyboard.press("Escape")
    expect(page.get_by_role("navigation", name="Rooms")).to_be_visible()


def test_the_report_of_firmware_leads_to_what_runs_no_approved_version(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/record")
    page.get_by_role("link", name="Firmware by model and site").click()
    expect(page.get_by_text(re.compile(r"[\d,]+ of [\d,]+ admitted devices"))).to_be_visible()
    told = running.ask("reports/firmware")
    for title, part in (("By model", "models"), ("By site", "sites")):
        names = page.get_by_role("table", name=title).get_by_role("rowheader")
        expect(names).to_have_count(len(told[part]))
    model = next(r["name"] for r in told["models"] if r["unknown"])
    page.get_by_role("table", name="By model").get_by_role("row", name=re.compile(rf"^{model} ")).get_by_role(
        "link"
    ).click()
    expect(page).to_have_url(re.compile(r"/fleet\?rule="))
    expect(page.get_by_role("row").nth(1)).to_be_visible()


def test_the_report_of_firmware_is_sent_by_mail(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/record/firmware")
    page.get_by_role("button", name="Have it sent…").click()
    dialog = page.get_by_role("dialog", name="Have “Firmware by model and site” sent")
    to = dialog.get_by_role("textbox", name=re.compile("^To"))
    expect(to).to_have_value(ENGINEER)
    to.fill("manager@farm.example, nobody")
    dialog.get_by_role("button", name="Have it sent").click()
    expect(dialog.get_by_role("alert")).to_contain_text("email")
    to.fill(ENGINEER)
    dialog.get_by_role("button", name="Have it sent").click()
    expect(dialog).to_have_count(0)
    row = page.get_by_role("region", name="By mail").get_by_role("listitem")
    expect(row).to_contain_text(f"{ENGINEER}, each Monday at 08:00")
    row.get_by_role("button", name="Send it now").click()
    expect(row).to_contain_text("last sent ")
    row.get_by_role("button", name="Delete…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Delete it").click()
    expect(row).to_have_count(0)
    running.until("demo/mail", lambda mails: any("devices on an approved version" in m["subject"] for m in mails))


def test_an_address_that_leads_nowhere_is_said(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/rollouts/999999")
    expect(page.get_by_role("alert")).to_contain_text("There is no such thing")
    page.goto(f"{running.url}/devices/nobody")
    expect(page.get_by_role("alert")).to_contain_text("No device has the name nobody")


def test_signing_out_shows_nothing_more(signed_in: Page) -> None:
    page = signed_in
    page.get_by_role("button", name=re.compile("account of")).click()
    page.get_by_role("menuitem", name="Sign out").click()
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    expect(page.get_by_role("navigation", name="Rooms")).not_to_be_visible()
