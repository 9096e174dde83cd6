"""Rollouts in the real interface: by steps, approved by another, put back; freezes; the order of rank."""

import re

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.browser.conftest import at_any_hour, sign_in, to_come
from tests.running import Running

pytestmark = pytest.mark.filterwarnings("ignore")


def group_of_old(running: Running, name: str, most: int) -> dict[str, object]:
    """A static group of gateways that must pass the stepping stone, on mains and heard of."""
    rule = 'family = Sill and firmware < 5.0.0 and presence = "on time" and uplink != satellite and power = mains'
    old = [d["name"] for d in running.ask(f"devices?limit={most}&rule={quoted(rule)}")["devices"]]
    assert old
    return running.api("POST", "groups", {"name": name, "kind": "static", "devices": old})


def quoted(text: str) -> str:
    from urllib.parse import quote

    return quote(text)


def hold_one_that_waits(page: Page, running: Running, rollout: int) -> str:
    """Hold back one of the devices that wait for the gate, by ticking it; its name."""
    name = str(running.ask(f"rollouts/{rollout}/deliveries?phase=waiting")["deliveries"][0]["device"])
    page.get_by_label("Name or id").fill(name)
    page.get_by_role("row", name=re.compile(name)).get_by_role("checkbox").check()
    page.get_by_role("button", name="Hold back…").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 waiting device is not offered it until released")
    expect(dialog.get_by_role("button", name="Hold 1")).to_be_disabled()  # nobody said why
    dialog.get_by_label("Why").fill("on the bench")
    dialog.get_by_role("button", name="Hold 1").click()
    expect(page.get_by_role("heading", name="Held back")).to_be_visible()
    return name


def test_two_steps_an_approval_by_another_and_put_back(signed_in: Page, browser: Browser, running: Running) -> None:
    page = signed_in
    group = group_of_old(running, "Old gateways", 3)
    page.goto(f"{running.url}/rollouts/new")
    page.get_by_role("radio", name=re.compile("Sill 5.2.1")).check()
    page.get_by_role("button", name="which devices?").click()
    page.get_by_label("Groups in the audience: find a group").fill("Old gateways")
    page.get_by_role("checkbox", name=re.compile("Old gateways")).check()
    expect(page.get_by_role("button", name=re.compile("go by way of other versions"))).to_be_visible()
    at_any_hour(page)
    page.get_by_role("button", name="Edit rings").click()
    page.get_by_role("button", name="Remove ring 2").click()
    page.get_by_label("devices", exact=True).fill("1")
    page.get_by_label("soak, min").first.fill("0")
    page.get_by_label("somebody else approves").first.check()
    page.get_by_role("button", name="Done").first.click()
    expect(page.get_by_text("then an approval")).to_be_visible()
    expect(page.get_by_role("heading", name="If launched now")).to_be_visible()
    rollout = int(page.url.rsplit("draft=", 1)[1])
    reached = str(len(running.ask(f"groups/{group['id']}/members")["devices"]))
    page.get_by_label("Number of devices").fill(reached)
    page.get_by_role("button", name="Launch", exact=True).click()
    expect(page.get_by_text("Waits for an approval", exact=True)).to_be_visible()
    expect(page.get_by_text("An approver must agree.")).to_be_visible()
    held = hold_one_that_waits(page, running, rollout)
    other = sign_in(browser.new_context().new_page(), running, "approver@larkfield.example")
    other.goto(f"{running.url}/rollouts/{rollout}")
    other.get_by_role("button", name="Approve…").click()
    other.get_by_role("alertdialog").get_by_role("button", name=re.compile("Approve it")).click()
    expect(other.get_by_text("approved by T. Brandt")).to_be_visible()
    path = f"rollouts/{rollout}"
    done = running.until(path, lambda r: sum(r["phases"].values()) - r["phases"].get("confirmed", 0) == 1)
    assert (done["state"], done["phases"]["waiting"]) == ("running", 1)
    waiting = running.ask(f"{path}/deliveries?phase=waiting")["deliveries"][0]
    assert (waiting["device"], waiting["waits_for"]["reason"]) == (held, "somebody to release it: on the bench")
    page.get_by_role("button", name="Release them…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Release 1").click()
    running.until(path, lambda r: r["state"] == "finished")
    rows = running.ask(f"rollouts/{rollout}/deliveries")["deliveries"]
    assert {r["from_version"] for r in rows if r["phase"] == "confirmed"} == {"5.0.1"}
    page.reload()
    page.get_by_role("button", name="Roll back…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Create the draft").click()
    expect(page.get_by_text(f"on the devices that rollout {rollout} changed", exact=False)).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("go straight to it"))).to_be_visible()


def moment(page: Page, label: str, day: str, time: str) -> None:
    """Fill in a date and a time of day; the time is read once the field is left."""
    page.get_by_label(re.compile(f"^{label} .*, date$")).fill(day)
    page.get_by_label(re.compile(f"^{label} .*, time$")).fill(time)
    page.keyboard.press("Tab")


def test_a_freeze_is_added(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/library?shelf=freezes")
    page.get_by_role("button", name="Add a freeze").click()
    page.get_by_label("Name").fill("Olive pressing")
    moment(page, "From", "2031-01-05", "6:00")
    moment(page, "To", "2031-01-04", "0600")
    page.get_by_role("checkbox", name=re.compile("Marrow Bay")).first.check()
    page.get_by_label(re.compile("^To .*, time$")).fill("25:00")
    expect(page.get_by_text("A time like 06:30.")).to_be_visible()
    page.get_by_label(re.compile("^To .*, time$")).fill("06:00")
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("alert")).to_contain_text("A freeze ends after it begins.")
    moment(page, "To", "2031-01-09", "0600")
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("row", name=re.compile("Olive pressing to come"))).to_be_visible()


def test_the_order_of_open_rollouts_is_changed(signed_in: Page, running: Running) -> None:
    page = signed_in
    with to_come(running, "family = Rill") as first, to_come(running, "family = Lumen") as second:
        running.rank_first(first, second)
        page.goto(f"{running.url}/rollouts")
        lower = page.get_by_role("button", name=re.compile(r"^Rank rollout \d+ lower$"))
        expect(lower.nth(0)).to_have_accessible_name(f"Rank rollout {first} lower")
        lower.nth(0).click()
        expect(lower.nth(0)).to_have_accessible_name(f"Rank rollout {second} lower")
        expect(lower.nth(1)).to_have_accessible_name(f"Rank rollout {first} lower")
        rank = {r: running.ask(f"rollouts/{r}")["rank"] for r in (first, second)}
        assert rank[second] < rank[first]


def test_a_rollout_starts_from_chosen_devices_and_from_kept_rings(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/fleet?rule=family%20%3D%20Vane")
    for name in ("vane-0003", "vane-0004"):
        page.get_by_role("row", name=re.compile(name)).get_by_role("checkbox").check()
    page.get_by_role("button", name="Actions for 2").click()
    page.get_by_role("menuitem", name="Roll out…").click()
    page.get_by_role("button", name="2 devices", exact=True).click()
    named = page.get_by_role("list", name="Devices by name")
    expect(named.get_by_role("listitem")).to_have_text(["vane-0003×", "vane-0004×"])
    page.get_by_role("button", name="Remove vane-0004").click()
    expect(page.get_by_role("button", name="vane-0003", exact=True)).to_be_visible()
    page.get_by_label("Add a device by name or uid").fill("vane-0005")
    page.get_by_role("button", name="Add", exact=True).click()
    page.get_by_role("button", name="which version?").click()
    page.get_by_role("radio", name=re.compile("The newest approved")).check()
    draft = running.until("rollouts", lambda all: all["rollouts"][0]["audience"] == "2 devices")["rollouts"][0]
    kept = running.ask(f"rollouts/{draft['id']}")
    assert [d["name"] for d in kept["include_devices"]] == ["vane-0003", "vane-0005"]
    running.api("DELETE", f"rollouts/{draft['id']}")
    page.goto(f"{running.url}/library?shelf=plans")
    careful = page.get_by_role("row", name=re.compile("^Careful"))
    careful.get_by_role("button", name="and 1 before").click()
    expect(page.get_by_text("only the newest")).to_be_visible()
    careful.get_by_role("link", name="Roll out with it").click()
    expect(page.get_by_text("As in the plan Careful, version 2.")).to_be_visible()
    page.get_by_role("button", name="Edit rings").click()
    page.get_by_label("soak, min").first.fill("5")
    expect(page.get_by_text("Begun from the plan Careful, version 2, and changed here.")).to_be_visible()
    expect(page.get_by_role("button", name="starts spread over 15 min")).to_be_visible()
