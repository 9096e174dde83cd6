"""The job from start to end, as an engineer does it."""

import re

from playwright.sync_api import Page, TimeoutError, expect

from tests.browser.conftest import at_any_hour
from tests.running import Running


def write_rule(page: Page, rule: str) -> None:
    editor = page.get_by_role("textbox", name="Rule", exact=True)
    editor.click()
    page.keyboard.press("Control+a")
    page.keyboard.type(rule)
    page.keyboard.press("Escape")


def launch_as_counted(page: Page) -> None:
    """Type the number that is asked for, and launch; a fleet that moves may change the number meanwhile."""
    number, launch = page.get_by_label("Number of devices"), page.get_by_role("button", name="Launch", exact=True)
    launched, refused = page.get_by_role("button", name="Pause…"), page.get_by_role("alert")
    for _ in range(20):
        number.fill(number.get_attribute("placeholder") or "")
        try:
            launch.click(timeout=2_000)
        except TimeoutError:
            continue
        expect(launched.or_(refused).first).to_be_visible()
        if launched.count():
            return
    raise AssertionError("the number of devices never stood still long enough to be typed")


def test_a_wrong_password_is_said_and_nothing_is_shown(page: Page, running: Running) -> None:
    page.goto(f"{running.url}/rollouts")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("No account has this e-mail address and password")
    expect(page.get_by_role("heading", name="Rollouts")).not_to_be_visible()


def test_a_rule_becomes_a_group_and_a_rollout_runs_ring_by_ring(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.get_by_role("link", name="Groups", exact=True).click()
    page.get_by_role("link", name="New group").click()
    page.get_by_label("Name of the group").fill("Masts of the walk")
    write_rule(page, "family = Vane and firmwear < 1.14")
    expect(page.get_by_text("No device has a field called firmwear.")).to_be_visible()
    expect(page.get_by_text("Did you mean firmware?")).to_be_visible()
    write_rule(page, "family = Vane")
    tab = page.get_by_role("tab", name=re.compile(r"In \d+"))
    expect(tab).to_be_visible()
    before = tab.inner_text()
    write_rule(
        page, "family = Vane and presence != silent and firmware < 1.14.0 and admission = admitted and battery > 30"
    )
    expect(tab).not_to_have_text(before)
    save = page.get_by_role("button", name=re.compile(r"Save with \d+ devices"))
    expect(save).to_be_enabled()
    save.click()
    expect(page.get_by_role("heading", name="Masts of the walk")).to_be_attached()

    page.get_by_role("link", name="Rollouts", exact=True).click()
    page.get_by_role("link", name="New rollout").click()
    page.get_by_role("radio", name=re.compile(r"Vane 1\.14\.0")).check()
    page.get_by_role("button", name="which devices?").click()
    page.get_by_label("Groups in the audience: find a group").fill("Masts of")
    page.get_by_role("checkbox", name=re.compile("Masts of the walk")).check()
    expect(page.get_by_text("draft saved")).to_be_visible()
    page.get_by_role("button", name="Edit rings").click()
    sizes = page.get_by_label("devices", exact=True)
    sizes.first.fill("2")
    page.get_by_label("soak, min").nth(0).fill("20")
    page.get_by_label("soak, min").nth(1).fill("10")
    page.get_by_role("button", name="Done").last.click()
    expect(page.get_by_text("draft saved")).to_be_visible()
    at_any_hour(page)
    expect(page.get_by_text("draft saved")).to_be_visible()
    number = page.get_by_label("Number of devices")
    launch = page.get_by_role("button", name="Launch", exact=True)
    expect(launch).to_be_disabled()
    number.fill("1")
    expect(launch).to_be_disabled()
    launch_as_counted(page)

    expect(page.get_by_role("button", name="Pause…")).to_be_visible()
    expect(page.get_by_text(re.compile("Soaking|Open since")).first).to_be_visible()
    expect(page.get_by_text("Open since").first).to_be_visible()
    expect(page.get_by_role("img", name=re.compile(r"Ring 1: .*confirmed"))).to_be_visible()
    expect(page.get_by_text(re.compile(r"Ring 2, Early, opened"))).to_be_visible()
    rollout = int(page.url.rsplit("/", 1)[1].split("?")[0])
    done = running.until(f"rollouts/{rollout}", lambda r: r["state"] == "finished")
    assert sum(done["phases"].values()) == done["total"]
    assert done["phases"]["confirmed"] >= done["total"] * 0.9
    expect(page.get_by_text("Finished", exact=True)).to_be_visible()


def test_a_failing_image_halts_itself_and_waits_for_a_decision(signed_in: Page, running: Running) -> None:
    page = signed_in
    rollout = running.launch(
        {
            "changes": [{"choice": "image", "image_id": running.image("Drum 3.0.4")}],
            "include": [running.group("Pump drives")],
            "rings": [{"name": "Everyone", "kind": "rest"}],
            "max_attempts": 1,
            "max_concurrent": 12,
        },
        reason="to see it caught",
    )
    running.rank_first(rollout)  # the demo's own rollout of this image, halted, holds some of the same devices
    page.goto(f"{running.url}/rollouts/{rollout}")
    expect(page.get_by_text(re.compile("Halted itself: .* tried failed")).first).to_be_visible()
    expect(page.get_by_role("button", name="Resume anyway…")).to_be_visible()
    page.get_by_label("Phase").select_option("failed")
    expect(page.get_by_role("gridcell", name="flash-verify").first).to_be_visible()
    assert "phase=failed" in page.url
    page.get_by_role("button", name="Stop…").click()
    dialog = page.get_by_role("alertdialog")
    expect(dialog).to_contain_text(re.compile(r"\d+ waiting devices? are withdrawn"))
    dialog.get_by_role("button", name="Cancel").click()
    page.get_by_role("link", name="Now", exact=True).click()
    expect(page.get_by_text("“Drum 3.0.4 on Pump drives” stopped itself").first).to_be_visible()
    expect(page.get_by_role("heading", level=1)).to_contain_text("for you")


def test_a_group_is_restarted_and_each_device_comes_back(signed_in: Page, running: Running) -> None:
    page = signed_in
    group = running.api(
        "POST",
        "groups",
        {"name": "To restart", "rule": 'family = Lumen and presence = "on time" and admission = admitted'},
    )
    page.goto(f"{running.url}/commands/new")
    page.get_by_label("Groups: find a group").fill("To restart")
    page.get_by_role("checkbox", name=re.compile("To restart")).check()
    expect(page.get_by_text("there").first).to_be_visible()  # the next firings, by device clocks
    page.get_by_role("button", name=re.compile("every day at")).click()
    page.get_by_label("Runs").select_option("now")
    page.get_by_role("button", name=re.compile("spread over")).click()
    page.get_by_label("Minutes").fill("2")
    run = page.get_by_role("button", name=re.compile(r"Restart \d+ devices? now"))
    expect(run).to_be_disabled()  # until somebody has read how many
    page.get_by_label("Number of devices").fill(re.findall(r"\d+", run.inner_text())[0])
    expect(run).to_be_enabled()
    run.click()
    expect(page.get_by_role("grid", name="Deliveries")).to_be_visible()
    schedule = int(page.url.rsplit("/", 1)[1].split("?")[0])
    running.until(f"schedules/{schedule}", lambda s: s["phases"].get("confirmed", 0) >= group["member_count"] * 0.8)
    expect(page.get_by_role("gridcell", name="confirmed").first).to_be_visible()
    rows = running.api("GET", f"schedules/{schedule}/deliveries?phase=confirmed")["deliveries"]
    assert all(r["results"]["answer"] == "ok" and 30 <= r["results"]["seconds"] <= 90 for r in rows)
    page.get_by_role("gridcell", name="confirmed").first.click()
    expect(page.get_by_role("heading", name="History")).to_be_visible()
    expect(page.get_by_text("restart: confirmed").first).to_be_visible()


def test_asking_about_one_device_says_what_fails(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/groups/new")
    write_rule(page, "family = Sill and tag = no-such-tag")
    device = running.api("GET", "devices?rule=family%20%3D%20Sill&limit=1")["devices"][0]["name"]
    page.get_by_label("Names or UIDs of devices").fill(device)
    expect(page.get_by_text("Not matched: 1 of 2 lines fail.")).to_be_visible()


def test_keys_and_the_palette_lead_everywhere(signed_in: Page) -> None:
    page = signed_in
    page.locator("body").press("g")
    page.locator("body").press("f")
    expect(page).to_have_url(re.compile("/fleet"))
    page.locator("body").press("?")
    expect(page.get_by_role("dialog", name="Keys that work here")).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("Control+k")
    page.keyboard.type("sill-000")
    expect(page.get_by_role("option", name=re.compile("sill-000")).first).to_be_visible()
    page.keyboard.press("Escape")
    page.get_by_role("button", name=re.compile(r"^Sill 400 \d+")).click()
    expect(page).to_have_url(re.compile("rule="))
