"""Stepping in, in the real interface: a bad image on satellite uplinks is caught, its cause found and held back; a
rollout extended without repeats; signing in, composing, launching, pausing and finishing by the keyboard alone."""

import math
import re
from urllib.parse import quote

import pytest
from playwright.sync_api import Page, expect

from herald_core.deliveries import ACTIVE
from tests.browser.conftest import PASSWORD
from tests.running import ENGINEER, Running

pytestmark = pytest.mark.filterwarnings("ignore")
# not "on time": that changes from moment to moment in a fleet whose hour is nine seconds
HEARD = 'presence any of ("on time", late) and admission = admitted'


def heard_of(running: Running, family: str, most: int, *, not_on: str, at_least: str = "0.0.1") -> list[str]:
    """The names of some devices of a family that call and run another version, whatever other tests did to them."""
    rule = quote(f"family = {family} and firmware >= {at_least} and firmware != {not_on} and {HEARD}")
    return [d["name"] for d in running.ask(f"devices?limit={most}&rule={rule}")["devices"]]


def test_a_bad_image_on_satellite_uplinks_is_caught_and_the_rest_goes_on(signed_in: Page, running: Running) -> None:
    page = signed_in
    running.add_fault(version="5.1.0", uplink="satellite", chance=1.0, error="bad-hash")
    sills = heard_of(running, "Sill", 200, not_on="5.1.0", at_least="5.0.0")
    group = running.api("POST", "groups", {"name": "Not on 5.1.0", "kind": "static", "devices": sills})
    rollout = running.launch(
        {
            "changes": [{"choice": "image", "image_id": running.image("Sill 5.1.0")}],
            "downgrades": True,
            "include": [group["id"]],
            "exclude": [running.group("Bench and spares")],
            "rings": [
                # the gate stays closed until the cause is found: on a slow machine the rest would get the image first
                {
                    "name": "First",
                    "kind": "share",
                    "share_pct": 70,
                    "soak_minutes": 0,
                    "confirmed_pct": 40,
                    "needs_approval": True,
                },
                {"name": "Rest", "kind": "rest", "soak_minutes": 0},
            ],
            "max_attempts": 1,
            "failure_limit_pct": 60,
            "failure_count_limit": 5,
        }
    )
    running.rank_first(rollout)
    page.goto(f"{running.url}/rollouts/{rollout}")
    expect(page.get_by_text("Halted itself").first).to_be_visible()
    path = f"rollouts/{rollout}"
    running.until(path, lambda r: not any(r["phases"].get(p.value) for p in ACTIVE))  # who accepted it finishes
    page.reload()
    shared = page.locator("section", has=page.get_by_role("heading", name="Common causes"))
    cause = shared.get_by_role("listitem").filter(has_text="satellite").first
    expect(cause).to_contain_text(re.compile(r"(\d+) of \1.*tried failed"))
    cause.get_by_role("button", name=re.compile(r"Hold the \d+ that wait")).click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("are not offered it until released")
    dialog.get_by_role("button", name=re.compile(r"Hold \d+")).click()
    expect(page.get_by_role("heading", name="Held back")).to_be_visible()
    failed, held = (running.ask(path)["phases"]["failed"], sum(h["count"] for h in running.ask(path)["held"]))
    assert failed >= 5 and held >= 1
    page.get_by_role("button", name="Resume anyway…").click()
    resume = page.get_by_role("alertdialog")
    expect(resume).to_contain_text("It halts again if more devices fail")
    resume.get_by_role("button", name="Resume").click()
    expect(page.get_by_role("button", name="Pause…")).to_be_visible()
    running.api("POST", f"{path}/changes", {"rings": [{"position": 1, "needs_approval": False}]})
    done = running.until(path, lambda r: r["phases"].get("waiting", 0) == held and _still(r))
    assert done["phases"]["failed"] == failed and done["state"] == "running"
    waiting = running.ask(f"{path}/deliveries?phase=waiting")["deliveries"]
    assert len(waiting) == held and all("Failed ones share" in d["waits_for"]["reason"] for d in waiting)
    expect(page.get_by_role("button", name="Release them…")).to_be_visible()


def _still(rollout: dict[str, dict[str, int]]) -> bool:
    return not any(rollout["phases"].get(p.value) for p in ACTIVE)


def test_extending_sends_nothing_twice(signed_in: Page, running: Running) -> None:
    page = signed_in
    lumens = heard_of(running, "Lumen", 12, not_on="7.1.0")
    some = running.api("POST", "groups", {"name": "Some controllers", "kind": "static", "devices": lumens[:4]})
    more = running.api("POST", "groups", {"name": "More controllers", "kind": "static", "devices": lumens[2:10]})
    rollout = running.launch(
        {
            "changes": [{"choice": "image", "image_id": running.image("Lumen 7.1.0")}],
            "downgrades": True,
            "include": [some["id"]],
            "rings": [{"name": "Everyone", "kind": "rest", "soak_minutes": 0}],
            "failure_limit_pct": 90,
            "max_attempts": 3,
            "max_starts_per_hour": 2,
        }
    )
    running.rank_first(rollout)
    before = running.ask(f"rollouts/{rollout}")["total"]
    page.goto(f"{running.url}/rollouts/{rollout}")
    page.get_by_role("button", name="Extend…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Groups to add: find a group").fill("More controllers")
    dialog.get_by_role("checkbox", name=re.compile("More controllers")).check()
    expect(dialog).to_contain_text("get nothing again")
    extend = dialog.get_by_role("button", name=re.compile(r"Extend to \d+ devices?"))
    joins = int(re.findall(r"\d+", extend.inner_text())[0])
    extend.click()
    expect(dialog).not_to_be_visible()
    told = running.ask(f"rollouts/{rollout}")
    assert told["total"] == before + joins and joins <= 6
    assert {g["name"] for g in told["include"]} == {"Some controllers", "More controllers"}
    devices = [d["device"] for d in running.ask(f"rollouts/{rollout}/deliveries")["deliveries"]]
    assert len(devices) == len(set(devices)) == told["total"]
    assert more["member_count"] == 8


def test_the_rings_ahead_are_split_and_what_that_does_is_said_first(signed_in: Page, running: Running) -> None:
    page = signed_in
    group = running.api("POST", "groups", {"name": "Valves to be split", "rule": "family = Rill"})["id"]
    rollout = running.launch(
        {
            "changes": [{"choice": "newest"}],
            "include": [group],
            "rings": [{"name": "First few", "kind": "number", "number": 3}, {"name": "Everyone left", "kind": "rest"}],
            "starts_at": "2031-01-01T00:00:00Z",
            "expires_after_hours": 24 * 365,
        },
        reason="to see it split",
    )
    path = f"rollouts/{rollout}"
    begun = running.until(path, lambda r: r["rings"] and r["rings"][0]["opened_at"])
    left = begun["rings"][1]["phases"]["waiting"]
    page.goto(f"{running.url}/{path}")
    page.get_by_role("button", name="Rings ahead…").click()
    dialog = page.get_by_role("dialog", name="Change the rings ahead")
    expect(dialog.get_by_text("Ring 1 is open and stays as it is.")).to_be_visible()
    expect(dialog.get_by_text("Nothing is changed yet.")).to_be_visible()
    keep = dialog.get_by_role("button", name="Change the rings")
    expect(keep).to_be_disabled()
    dialog.get_by_role("button", name="Split in two").click()
    first = dialog.get_by_role("listitem", name="Ring 2")
    expect(first).to_contain_text(re.compile(r"new → \d+ devices"))
    # half of them, or fewer: whom another rollout holds, or who is silent, is not drawn
    half = int(re.findall(r"new → (\d+) devices", first.inner_text())[0])
    assert 1 < half <= math.ceil(left / 2)
    expect(dialog.get_by_role("listitem", name="Ring 3")).to_contain_text(f"{left} → {left - half} devices")
    expect(dialog.get_by_text(f"{half} waiting devices would be in another ring than now.")).to_be_visible()
    dialog.get_by_label("Devices of the ring").last.select_option("number")
    dialog.get_by_label("devices", exact=True).fill("1")
    expect(dialog.get_by_text("would be in no ring. Let the last ring take all the rest.")).to_be_visible()
    expect(keep).to_be_disabled()
    dialog.get_by_label("Devices of the ring").last.select_option("rest")
    keep.click()
    expect(dialog).to_have_count(0)
    assert [(r["name"], r["size"]) for r in running.ask(path)["rings"]][1:] == [
        ("Everyone left, first half", half),
        ("Everyone left", begun["rings"][1]["size"] - half),
    ]
    page.get_by_role("button", name="Name it…").click()
    page.get_by_label("Name, if any").fill("Valves in halves")
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_role("button", name="Rename…")).to_be_visible()
    expect(page.get_by_text("Valves in halves", exact=True)).to_be_visible()
    page.get_by_role("button", name="Change ahead…").click()
    page.get_by_label("Ends (your clock), date").fill("2031-02-03")
    expect(page.get_by_role("list", name="What changes")).to_contain_text("ends none 3 Feb 2031")
    page.get_by_role("button", name="Change it").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("ending 3 Feb")


def tab_to(page: Page, name: str, *, back: bool = False) -> int:
    """Press Tab (with Shift, to go back) until what has the focus is called so, and is seen to have it; how often."""
    pattern = re.compile(name)
    for pressed in range(1, 121):
        page.keyboard.press("Shift+Tab" if back else "Tab")
        said = page.evaluate(
            """() => {
              const e = document.activeElement;
              if (!e.matches("a, button, input, select, textarea")) return "";
              return e.getAttribute("aria-label") ?? e.labels?.[0]?.innerText ?? e.innerText;
            }"""
        )
        if pattern.search(said):
            outline = page.evaluate("() => getComputedStyle(document.activeElement).outlineStyle")
            shadow = page.evaluate("() => getComputedStyle(document.activeElement).boxShadow")
            assert outline != "none" or shadow != "none", f"the focus on {name} cannot be seen"
            return pressed
    raise AssertionError(f"Tab never came to {name}")


def test_from_signing_in_to_a_finished_rollout_by_the_keyboard_alone(page: Page, running: Running) -> None:
    keys = page.keyboard
    # a family and an image that no other test sends, so that nothing else wants these devices and nothing failed before
    rule = quote(f"family = Burrow and firmware >= 0.9.0 and firmware < 0.10.0 and battery > 50 and {HEARD}")
    probes = [d["name"] for d in running.ask(f"devices?limit=3&rule={rule}")["devices"]]
    running.api("POST", "groups", {"name": "By keys", "kind": "static", "devices": probes})
    page.goto(running.url)
    tab_to(page, "E-mail")
    keys.type(ENGINEER)
    tab_to(page, "Password")
    keys.type(PASSWORD)
    keys.press("Enter")
    expect(page.get_by_role("navigation", name="Rooms")).to_be_visible()
    keys.press("g")
    keys.press("r")
    expect(page.get_by_role("heading", name="Rollouts", exact=True)).to_be_visible()
    tab_to(page, "^New rollout$")
    keys.press("Enter")
    expect(page.get_by_role("radio").first).to_be_visible()
    tab_to(page, "The newest approved")
    for _ in range(40):
        if page.evaluate("() => document.activeElement.labels?.[0]?.innerText ?? ''").startswith("Burrow 0.10.0"):
            break
        keys.press("ArrowDown")
    keys.press("Space")
    expect(page.get_by_role("radio", name=re.compile(r"Burrow 0\.10\.0"))).to_be_checked()
    expect(page.get_by_role("button", name="Burrow 0.10.0")).to_be_visible()
    tab_to(page, "^Done$", back=True)
    keys.press("Enter")
    expect(page.locator("[data-slot=change]").first).to_be_focused()  # where one was, not at the top of the page
    tab_to(page, "which devices")
    keys.press("Enter")
    tab_to(page, "find a group")
    keys.type("By keys")
    tab_to(page, "By keys")
    keys.press("Space")
    expect(page.get_by_role("button", name="By keys")).to_be_visible()
    tab_to(page, "^Done$", back=True)
    keys.press("Enter")
    tab_to(page, "device time", back=True)
    keys.press("Enter")
    tab_to(page, "At any hour")
    keys.press("Space")
    expect(page.get_by_role("heading", level=1)).to_contain_text("at any hour")
    tab_to(page, "^Done$", back=True)
    keys.press("Enter")
    number = page.get_by_label("Number of devices")
    expect(number).to_be_visible()
    tab_to(page, "% failures")
    assert tab_to(page, "Number of devices") <= 12
    launch = page.get_by_role("button", name="Launch", exact=True)
    for _ in range(20):  # a fleet that moves may change the number meanwhile
        keys.press("Control+a")
        keys.type(number.get_attribute("placeholder") or "")
        try:
            expect(launch).to_be_enabled(timeout=3_000)
            break
        except AssertionError:
            continue
    tab_to(page, "^ *Launch *$")
    keys.press("Enter")
    expect(page.get_by_role("button", name="Pause…")).to_be_visible()
    tab_to(page, "^ *Pause… *$")
    keys.press("Enter")
    expect(page.get_by_role("alertdialog")).to_be_visible()
    tab_to(page, "^ *Pause *$")
    keys.press("Enter")
    expect(page.get_by_text("Paused: paused by hand")).to_be_visible()
    expect(page.get_by_role("alertdialog")).not_to_be_visible()
    tab_to(page, "^ *Resume… *$")
    keys.press("Enter")
    expect(page.get_by_role("alertdialog")).to_be_visible()
    tab_to(page, "^ *Resume *$")
    keys.press("Enter")
    rollout = int(page.url.rsplit("/", 1)[1].split("?")[0])
    done = running.until(f"rollouts/{rollout}", lambda r: r["state"] == "finished")
    assert done["phases"]["confirmed"] == done["total"] > 0
    expect(page.get_by_text("Finished", exact=True)).to_be_visible()


def test_everything_is_paused_in_one_press_and_goes_on_as_one_act(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(running.url)
    page.get_by_role("button", name="Pause everything…").click()
    dialog = page.get_by_role("dialog", name="Pause everything")
    expect(dialog.get_by_text("give no device anything new")).to_be_visible()
    press = dialog.get_by_role("button", name="Pause everything")
    expect(press).to_be_disabled()
    dialog.get_by_label("Why").fill("the river is over its banks")
    press.click()
    try:
        banner = page.get_by_role("region", name="Everything is paused")
        expect(banner).to_contain_text("by M. Okafor: the river is over its banks")
        held = running.ask("pause")["standing"]
        assert held["schedules"] > 0, "the commands of the demo"
        expect(banner).to_contain_text(re.compile(rf"{held['rollouts']} rollouts? and {held['schedules']} commands?"))
        assert {r["state"] for r in running.ask("rollouts")["rollouts"]} & {"running", "launching"} == set()
        assert not [s for s in running.ask("schedules")["schedules"] if s["state"] == "active"]
        banner.get_by_role("button", name="Resume what was paused…").click()
        asks = page.get_by_role("alertdialog")
        expect(asks).to_contain_text("what they missed is not caught up")
        asks.get_by_role("button", name="Resume them").click()
        expect(banner).to_have_count(0)
    finally:
        if running.ask("pause")["standing"]:
            running.api("POST", "pause/resume")
    assert len([s for s in running.ask("schedules")["schedules"] if s["state"] == "active"]) >= held["schedules"]
