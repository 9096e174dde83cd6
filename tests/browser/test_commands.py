"""Commands in the browser: composed, changed, watched; answers that become the next audience; a second person."""

import os
import re
import subprocess
import sys
from datetime import UTC, datetime

from playwright.sync_api import Page, expect

from herald_devices.actions import act, is_mute
from herald_devices.manifest import Persona
from herald_launch.steps import ROOT
from tests.browser.conftest import sign_in
from tests.running import ENGINEER, Running


def slot(page: Page, name: str) -> None:
    page.locator(f'[data-slot="{name}"]').first.click()


def choose(page: Page, *groups: str) -> None:
    for name in groups:
        page.get_by_label("Groups: find a group").fill(name)
        page.get_by_role("checkbox", name=re.compile(f"^{name}")).check()


def schedule_of(page: Page) -> int:
    expect(page).to_have_url(re.compile(r"/commands/\d+(\?|$)"))
    return int(re.findall(r"/commands/(\d+)", page.url)[0])


def test_a_restart_for_three_groups_in_their_zones_is_planned_changed_and_skipped(
    signed_in: Page, running: Running
) -> None:
    page = signed_in
    page.goto(f"{running.url}/commands/new")
    choose(page, "Amber Fold", "Oxbow Flats", "Thistle Bank")
    aside = page.get_by_role("complementary", name="What it will do")
    zones = {z["zone"].rsplit("/")[-1] for z in _zones(running, "Amber Fold", "Oxbow Flats", "Thistle Bank")}
    assert len(zones) >= 3
    for city in zones:
        expect(aside.get_by_role("heading", name=re.compile(city))).to_be_visible()
    slot(page, "when")
    page.get_by_label("Repeats").select_option(label="on days of the week")
    for day in ("Monday", "Thursday"):
        page.get_by_label(day).check()
    for day in ("Tuesday", "Wednesday", "Friday", "Saturday", "Sunday"):
        page.get_by_label(day).uncheck()
    page.get_by_label("At", exact=True).fill("04:10")
    expect(page.locator("h1")).to_contain_text("every Monday and Thursday at 04:10 device time")
    page.get_by_role("button", name=re.compile("^Edit as text")).click()
    rule = page.get_by_label("Rule, as RFC 5545 has it")
    rule.fill("FREQ=WEEKLY;BYDAY=MO,XX")
    expect(aside.get_by_role("alert")).to_contain_text("BYDAY takes MO, TU")
    expect(page.get_by_role("button", name="Save the schedule")).to_be_disabled()
    rule.fill("FREQ=WEEKLY;BYDAY=MO,TH")
    out = aside.get_by_role("button", name=re.compile("^leave out")).first
    left_out = (out.get_attribute("aria-label") or "").removeprefix("leave out ")
    out.click()
    expect(page.locator("h1")).to_contain_text("without 1 firing")
    page.get_by_label("Name, if any").fill("Fresh start")
    page.get_by_label("Ticket, number or link").fill("OPS-112")
    page.get_by_role("button", name="Save the schedule").click()
    number = schedule_of(page)
    saved = running.ask(f"schedules/{number}")
    assert saved["rule"] == "FREQ=WEEKLY;BYDAY=MO,TH" and saved["excluded"] == [left_out.replace(" ", "T")]
    expect(page.get_by_text("OPS-112")).to_be_visible()

    page.get_by_role("link", name="Change").click()
    page.get_by_label("At", exact=True).fill("04:40")
    expect(aside.get_by_role("heading", name="What the change does")).to_be_visible()
    expect(aside).to_contain_text("No firing is under way.")
    running.api(
        "POST", f"schedules/{number}/skip", {"local_time": running.ask(f"schedules/{number}")["next_local_time"]}
    )
    page.get_by_role("button", name="Save the change").click()
    expect(page.get_by_role("alert").filter(has_text="Somebody changed it meanwhile")).to_be_visible()
    page.reload()  # what was typed on top of the change of another is typed anew, on what is there now
    page.get_by_label("At", exact=True).fill("04:40")
    page.get_by_role("button", name="Save the change").click()
    expect(page.get_by_text("Command saved")).to_be_visible()
    assert running.ask(f"schedules/{number}")["time_of_day"] == "04:40:00"

    page.get_by_role("button", name="Skip the next…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Skip it").click()
    running.until(f"schedules/{number}", lambda s: len(s["excluded"]) == 3)
    page.get_by_role("button", name="Pause").click()
    expect(page.get_by_role("button", name="Resume")).to_be_visible()
    page.goto(f"{running.url}/commands?q=OPS-112")
    expect(page.get_by_role("link", name=re.compile("Fresh start: Restart"))).to_contain_text("paused")


def _zones(running: Running, *groups: str) -> list[dict[str, str]]:
    body = {"include": list(groups), "when": "repeat", "rule": "FREQ=DAILY", "time_of_day": "05:30"}
    zones: list[dict[str, str]] = running.api("POST", "schedules/preview", body)["zones"]
    return zones


def test_answers_become_a_group_and_the_audience_of_the_next_command(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/commands/new?template=health-check")
    choose(page, "Weather masts")
    slot(page, "when")
    page.get_by_label("Runs").select_option("now")
    slot(page, "spread")
    page.get_by_label("Minutes").fill("1")
    page.get_by_role("button", name=re.compile(r"^Run a health check on \d+ devices now")).click()
    number = schedule_of(page)
    done = running.until(f"schedules/{number}", lambda s: s["phases"].get("confirmed", 0) >= s["reached_now"] * 0.7)
    assert done["template"]["harm"] == "gentle"
    expect(page.get_by_role("button", name="ok", exact=True)).to_be_visible()
    page.get_by_role("button", name="ok", exact=True).click()
    expect(page.get_by_text("one answer only")).to_be_visible()
    row = page.get_by_role("grid", name="Deliveries").get_by_role("row").nth(1)
    expect(row).to_contain_text("ok")
    row.get_by_role("button", name=re.compile("^Output of")).click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_text(re.compile("storage: "))).to_be_visible()
    dialog.get_by_label("Find in the output").fill("sensors")
    expect(dialog.get_by_text("1 line found")).to_be_visible()
    dialog.get_by_role("button", name="Close").click()
    page.get_by_label("Choose: ok").check()
    page.get_by_role("button", name="Next command…").click()
    page.get_by_role("dialog").get_by_label("Name").fill("Masts that are well")
    page.get_by_role("button", name="Make it, and compose the command").click()
    expect(page.locator("h1")).to_contain_text("Masts that are well")
    well = running.ask(f"groups/{running.group('Masts that are well')}")
    answers = running.ask(f"schedules/{number}/answers")["groups"]
    assert 0 < well["member_count"] <= next(g["count"] for g in answers if g["key"] == "equal:ok")


def answering(running: Running, action: str) -> str:
    """A device that is on time and answers this action: some are busy each time, or never say how it ended."""
    rule = "family%20%3D%20Vane%20and%20presence%20%3D%20%22on%20time%22"
    for row in running.ask(f"devices?rule={rule}&limit=50")["devices"]:
        who = Persona(
            uid=row["uid"], secret="", model="", hardware="", firmware=None, site="", interval_seconds=1, facts={},
            silent=False,
        )  # fmt: skip
        if not is_mute(who, action) and not act(who, {"action": action}, datetime.now(UTC)).error:
            return str(row["name"])
    raise AssertionError("no device answers")


def test_logs_come_as_files_and_are_compared(signed_in: Page, running: Running) -> None:
    page = signed_in
    device = answering(running, "logs")
    numbers = []
    for hours in (2, 4):
        body = {
            "template": "logs", "parameters": {"hours": hours}, "include": [], "include_devices": [device],
            "when": "now", "spread_minutes": 0,
        }  # fmt: skip
        numbers.append(running.api("POST", "schedules", body)["id"])
        running.until(f"schedules/{numbers[-1]}", lambda s: s["state"] == "ended")
    [last] = running.ask(f"schedules/{numbers[-1]}/deliveries")["deliveries"]
    assert last["phase"] == "confirmed"
    page.goto(f"{running.url}/commands/{numbers[-1]}")
    page.get_by_role("button", name=f"Output of {device}").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_text(re.compile(r"\d+ lines, [\d,]+ bytes"))).to_be_visible()
    with page.expect_download() as download:
        dialog.get_by_role("link", name="Download").click()
    text = download.value.path().read_text()
    assert len(text.splitlines()) == last["results"]["lines"]
    dialog.get_by_label("compare with its last").check()
    expect(dialog.get_by_text(re.compile("^Compared with the one of"))).to_be_visible()
    page.goto(f"{running.url}/record?q=Downloaded")
    expect(page.get_by_text(f"Downloaded the log of {device}").first).to_be_visible()


def test_the_connection_to_a_device_is_tested_step_by_step(signed_in: Page, running: Running) -> None:
    page = signed_in
    device = answering(running, "report")
    page.goto(f"{running.url}/devices/{device}")
    page.get_by_role("button", name="Actions").click()
    page.get_by_role("menuitem", name="Test the connection…").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_text("It is reached by polling: it calls every")).to_be_visible()
    dialog.get_by_role("button", name="Send the test").click()
    steps = dialog.get_by_role("list", name="Round trip")
    expect(steps.get_by_role("listitem").first).to_contain_text("The order was written")
    link = dialog.get_by_role("link", name=re.compile("^command "))
    number = int(link.inner_text().split()[1])
    running.until(f"schedules/{number}", lambda s: s["phases"].get("confirmed", 0) == 1)
    expect(steps).to_contain_text("It answered: the connection works both ways")
    assert len(steps.get_by_role("listitem").all()) >= 3
    link.click()
    assert schedule_of(page) == number
    expect(page.get_by_text(f"Test of the connection to {device}").first).to_be_visible()


def test_a_destructive_command_waits_for_a_second_person(page: Page, running: Running) -> None:
    page = sign_in(page, running, "engineer@larkfield.example")
    group = running.api("POST", "groups", {"name": "To enrol again", "rule": "family = Burrow"})
    count = group["member_count"]
    page.goto(f"{running.url}/commands/new?group={group['id']}")
    page.get_by_role("radio", name=re.compile("^Forget and enrol again")).check()
    slot(page, "parameters")
    expect(page.get_by_text("Enrolment code is needed.").first).to_be_visible()
    page.get_by_label("Enrolment code").fill("no-such-code")
    expect(page.locator("h1")).to_contain_text("code ••••••")
    slot(page, "when")
    page.get_by_label("Runs").select_option("once")
    page.get_by_label("On", exact=True).fill("2031-01-01")
    propose = page.get_by_role("button", name="Propose it")
    page.get_by_label("Number of devices").fill(str(count))
    expect(propose).to_be_disabled()
    page.get_by_label("Reason").fill("Their secrets were on a stolen laptop.")
    expect(propose).to_be_enabled()
    propose.click()
    number = schedule_of(page)
    expect(page.get_by_text("somebody else must approve it")).to_be_visible()
    assert running.ask(f"schedules/{number}")["parameters"] == {"code": "••••••"}
    page.context.clear_cookies()
    page = sign_in(page, running, "approver@larkfield.example")
    page.goto(f"{running.url}/commands/{number}")
    page.get_by_role("button", name="Approve…").click()
    expect(page.get_by_role("alertdialog")).to_contain_text("stolen laptop")
    page.get_by_role("alertdialog").get_by_role("button", name="Approve it").click()
    running.until(f"schedules/{number}", lambda s: s["state"] == "active" and s["approved_by"])


def test_a_command_of_ones_own_is_made_from_what_a_model_offers(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/library?shelf=commands")
    page.get_by_role("button", name="New command…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name", exact=True).fill("Rescan the radio")
    dialog.get_by_label("The manufacturer’s word").fill("rescan_radio")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_role("alert")).to_contain_text("Say which models offer it")
    dialog.get_by_role("button", name="Add a model").click()
    dialog.get_by_label("Model 1", exact=True).select_option(label="Sill 400")
    dialog.get_by_role("button", name="Add a parameter").click()
    dialog.get_by_label("Parameter 1, key").fill("band")
    dialog.get_by_label("Parameter 1, type").select_option("choice")
    dialog.get_by_label("Parameter 1, choices, with commas").fill("low, high")
    dialog.get_by_label("Parameter 1, default").fill("low")
    dialog.get_by_role("button", name="Save").click()
    row = page.get_by_role("row", name=re.compile("^Rescan the radio"))
    expect(row).to_contain_text("Sill 400")
    row.get_by_role("link", name="Run…").click()
    choose(page, "Field gateways")
    expect(page.locator("h1")).to_contain_text("Rescan the radio on Field gateways with no exclusions (band low)")
    aside = page.get_by_role("complementary", name="What it will do")
    expect(aside.get_by_text("their firmware cannot do it")).to_be_visible()
    expect(aside.get_by_text("devices now; the audience is looked up anew")).to_be_visible()


def test_the_example_makes_one_schedule_for_three_groups(running: Running) -> None:
    script = ROOT / "examples" / "restart_three_groups.py"
    environment = {**os.environ, "HERALD_URL": running.url, "HERALD_TOKEN": running.token_of(ENGINEER)}
    done = subprocess.run([sys.executable, str(script)], env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    made = running.ask(f"schedules/{int(done.stdout)}")
    assert sorted(g["name"] for g in made["include"]) == ["Amber Fold", "Oxbow Flats", "Thistle Bank"]
    assert made["state"] == "active" and made["next_firing"]
    code = [line for line in script.read_text().splitlines() if line and not line.startswith(("import", "from", '"'))]
    assert len(code) < 10


def test_a_command_is_composed_by_keyboard_alone(signed_in: Page, running: Running) -> None:
    page = signed_in
    group = running.group("Greenhouse controllers")
    page.goto(f"{running.url}/commands/new?group={group}&template=report")
    expect(page.get_by_role("button", name="Save the schedule")).to_be_enabled()
    when = page.locator('[data-slot="when"]').first
    when.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_label("Runs")).to_be_visible()
    page.get_by_label("At", exact=True).focus()
    page.keyboard.press("ControlOrMeta+a")
    page.keyboard.type("06:20")
    page.keyboard.press("Tab")
    expect(page.locator("h1")).to_contain_text("every day at 06:20 device time")
    save = page.get_by_role("button", name="Save the schedule")
    expect(save).to_be_enabled()
    for _ in range(120):  # everything on the way can be passed
        if save.evaluate("button => button === document.activeElement"):
            break
        page.keyboard.press("Tab")
    expect(save).to_be_focused()
    page.keyboard.press("Enter")
    number = schedule_of(page)
    assert running.ask(f"schedules/{number}")["time_of_day"] == "06:20:00"
