"""The calendar in the browser: hours dragged and undone, what does not fit fixed, freezes from elsewhere, a feed."""

import re
from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Any
from urllib.request import urlopen

import pytest
from playwright.sync_api import Page, expect

from tests.running import Running

NAME = "Nights of the calendar"
#: not at the estate whose harvest holds its devices for twelve days
RULE = 'family = Sill and site = "Amber Fold"'


@pytest.fixture
def nightly(running: Running) -> Iterator[int]:
    """A running rollout that installs by night from three days on, and is not over while a test looks at it."""
    now = datetime.fromisoformat(running.ask("health")["now"])
    group = running.api("POST", "groups", {"name": f"{NAME} {now:%H%M%S%f}", "rule": RULE})["id"]
    rollout = running.launch(
        {
            "name": NAME,
            "changes": [{"choice": "newest"}],
            "include": [group],
            "rings": [{"name": "All", "kind": "rest"}],
            "starts_at": (now + timedelta(days=3)).isoformat(),
            "window_start": "01:00",
            "window_end": "05:00",
            "expires_after_hours": 24 * 40,
            # some of the fleet fail this image by design; here they stop nothing
            "failure_limit_pct": 90,
        },
        reason="to see it in the calendar",
    )
    running.until(f"rollouts/{rollout}", lambda r: r["state"] == "running")
    yield rollout
    running.api("POST", f"rollouts/{rollout}/stop")


def window_of(running: Running, rollout: int) -> tuple[str, str]:
    found = running.ask(f"rollouts/{rollout}")
    return found["window_start"], found["window_end"]


def test_a_window_is_dragged_with_its_consequences_shown_and_undone(
    signed_in: Page, running: Running, nightly: int
) -> None:
    page = signed_in
    page.goto(f"{running.url}/calendar")
    hours = page.locator(f'[data-moves="rollout {nightly}"]').first
    box = hours.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 6)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] / 2 + 20, box["y"] + 6, steps=4)
    page.mouse.up()
    dialog = page.get_by_role("dialog", name=f"Move {NAME}")
    expect(dialog.get_by_text(re.compile(r"is expected to end .* now, and .* after"))).to_be_visible()
    assert window_of(running, nightly) == ("01:00:00", "05:00:00")
    dialog.get_by_label("Installs from").fill("02:00")
    dialog.get_by_label("until").fill("06:00")
    expect(dialog.get_by_text(re.compile(r"is expected to end"))).to_be_visible()
    dialog.get_by_role("button", name="Keep it").click()
    expect(dialog).to_have_count(0)
    running.until(f"rollouts/{nightly}", lambda r: r["window_start"] == "02:00:00")
    page.get_by_role("button", name="Undo").click()
    running.until(f"rollouts/{nightly}", lambda r: (r["window_start"], r["window_end"]) == ("01:00:00", "05:00:00"))


def test_what_does_not_fit_is_seen_and_fixed_by_one_press(signed_in: Page, running: Running, nightly: int) -> None:
    page = signed_in
    group = running.ask(f"rollouts/{nightly}")["include"][0]["id"]
    schedule = running.api(
        "POST",
        "schedules",
        {
            "name": "Amid the installs",
            "template": "restart",
            "include": [group],
            "when": "repeat",
            "rule": "FREQ=DAILY",
            "time_of_day": "02:30",
        },
    )["id"]
    page.goto(f"{running.url}/calendar")
    section = page.get_by_role("region", name="Does not fit")
    conflict = section.get_by_role("listitem").filter(has_text="“Amid the installs” at 02:30 meets installs")
    expect(conflict).to_be_visible()
    conflict.get_by_role("button", name="Run it at 05:00, after them…").click()
    dialog = page.get_by_role("dialog", name=re.compile("Amid the installs"))
    expect(dialog.get_by_text("Would fit:")).to_be_visible()
    dialog.get_by_role("button", name="Keep it").click()
    expect(dialog).to_have_count(0)
    expect(conflict).to_have_count(0)
    assert running.ask(f"schedules/{schedule}")["time_of_day"] == "05:00:00"


def test_a_row_is_read_and_a_command_moved_by_the_keyboard_alone(signed_in: Page, running: Running) -> None:
    page = signed_in
    schedule = running.api(
        "POST",
        "schedules",
        {
            "name": "By keys",
            "template": "report",
            "include": [running.group("Field gateways")],
            "when": "repeat",
            "rule": "FREQ=DAILY",
            "time_of_day": "12:00",
        },
    )["id"]
    page.goto(f"{running.url}/calendar")
    row = page.get_by_role("region", name="Lisbon").get_by_role("button", name="Lisbon").first
    row.focus()
    page.keyboard.press("Enter")
    details = page.get_by_role("dialog", name=re.compile("^Lisbon, "))
    expect(details.get_by_role("heading", name="By keys", exact=True)).to_be_visible()
    details.get_by_role("button", name="Move By keys").focus()
    page.keyboard.press("Enter")
    dialog = page.get_by_role("dialog", name="Move By keys")
    expect(dialog.get_by_label("Fires at")).to_be_focused()
    page.keyboard.press("ControlOrMeta+a")
    page.keyboard.type("13:00")
    expect(dialog.get_by_text(re.compile(r"Lisbon, \d+ devices?: next"))).to_be_visible()
    expect(dialog.get_by_role("button", name="Keep it")).to_be_enabled()
    page.keyboard.press("Enter")
    expect(dialog).to_have_count(0)
    assert running.ask(f"schedules/{schedule}")["time_of_day"] == "13:00:00"


def test_a_freeze_from_a_file_moves_a_forecast(signed_in: Page, running: Running, nightly: int) -> None:
    page = signed_in
    before = _median(running, nightly)
    begins = before - timedelta(days=1)
    calendar = (
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkfield//EN\r\nBEGIN:VEVENT\r\nUID:fair@larkfield\r\n"
        f"SUMMARY:Fair of the estates\r\nDTSTART;VALUE=DATE:{begins:%Y%m%d}\r\n"
        f"DTEND;VALUE=DATE:{begins + timedelta(days=9):%Y%m%d}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
    page.goto(f"{running.url}/library?shelf=freezes")
    page.get_by_role("button", name="Add a calendar").click()
    dialog = page.get_by_role("dialog", name="Add a calendar")
    file: Any = {"name": "fairs.ics", "mimeType": "text/calendar", "buffer": calendar.encode()}
    dialog.get_by_label(re.compile("^or a file")).set_input_files(files=[file])
    dialog.get_by_label("Every device").check()
    dialog.get_by_role("button", name="See what is in it").click()
    expect(dialog.get_by_text("1 freeze ahead, each for")).to_be_visible()
    dialog.get_by_role("button", name="Keep it").click()
    expect(page.get_by_role("row", name=re.compile("Fair of the estates"))).to_contain_text("from the calendar fairs")
    assert _median(running, nightly) > before + timedelta(days=7)

    row = page.get_by_role("row").filter(has=page.get_by_text("fairs", exact=True)).last
    row.get_by_role("button", name="Remove…").click()
    removal = page.get_by_role("alertdialog")
    expect(removal).to_contain_text("1 freeze that is not over goes with it")
    removal.get_by_role("button", name="Remove it").click()
    expect(page.get_by_text("Fair of the estates")).to_have_count(0)


def test_hours_are_suggested_for_a_draft_and_taken_over(signed_in: Page, running: Running) -> None:
    page = signed_in
    group = running.api("POST", "groups", {"name": "To be planned", "rule": RULE})["id"]
    draft = running.api(
        "POST",
        "rollouts",
        {
            "changes": [{"choice": "newest"}],
            "include": [group],
            "rings": [{"name": "All", "kind": "rest"}],
            "expires_after_hours": 24 * 40,
            "failure_limit_pct": 90,
        },
    )["id"]
    page.goto(f"{running.url}/rollouts/{draft}")
    page.locator('[data-slot="window"]').first.click()
    page.get_by_role("button", name="Suggest hours…").click()
    suggested = page.get_by_role("region", name="Suggested hours")
    suggested.get_by_role("button", name="Find hours").click()
    gentlest = suggested.get_by_role("listitem").filter(has_text="The gentlest:")
    expect(gentlest).to_contain_text("Expected through")
    hours = re.findall(r"(\d\d:\d\d) to (\d\d:\d\d)", gentlest.inner_text())[0]
    gentlest.get_by_role("button", name=re.compile("^Use ")).click()
    expect(page.locator("h1")).to_contain_text(f"{hours[0]}–{hours[1]}")
    running.until(f"rollouts/{draft}", lambda r: (r["window_start"] or "")[:5] == hours[0])
    running.api("DELETE", f"rollouts/{draft}")


def test_a_feed_is_made_read_elsewhere_and_deleted(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/calendar")
    page.get_by_role("button", name="Make a feed…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name").fill("On my phone")
    dialog.get_by_role("button", name="Make it").click()
    address = dialog.get_by_label("The address").input_value()
    dialog.get_by_role("button", name="Close").click()
    with urlopen(address) as answer:
        text = answer.read().decode()
    assert text.startswith("BEGIN:VCALENDAR")
    assert "SUMMARY:Freeze: Harvest at Oxbow Flats" in text.replace("\r\n ", "")
    feeds = page.get_by_role("region", name="Your feeds")
    feeds.get_by_role("listitem").filter(has_text="On my phone").get_by_role("button", name="Delete…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Delete it").click()
    expect(feeds.get_by_text("On my phone")).to_have_count(0)
    with pytest.raises(OSError, match="404"):
        urlopen(address)


def _median(running: Running, rollout: int) -> datetime:
    """When the rollout is expected to end."""
    end = running.ask(f"rollouts/{rollout}/forecast")["end"]["median"]
    assert end is not None
    return datetime.fromisoformat(end)


def test_a_site_tells_what_comes_for_it_and_what_its_uplink_carries(
    signed_in: Page, running: Running, nightly: int
) -> None:
    page = signed_in
    site = next(s for s in running.ask("sites") if s["name"] == "Amber Fold")
    device = running.ask("devices?limit=1&rule=site%20%3D%20%22Amber%20Fold%22%20and%20family%20%3D%20Sill")["devices"][
        0
    ]
    page.goto(f"{running.url}/devices/{device['name']}")
    page.get_by_role("link", name="Amber Fold").first.click()
    expect(page.get_by_role("heading", level=1, name="Amber Fold")).to_be_visible()
    expect(page.get_by_text(f"{site['transfers_at_once']} files at once")).to_be_visible()
    window = page.locator(f'main a[href="/rollouts/{nightly}"]').filter(has_text="Window of")
    expect(window.first).to_be_visible()
    page.get_by_role("region", name="Grid").get_by_role("button", name="Sill 400", exact=True).click()
    expect(page.get_by_role("heading", level=1, name="Fleet")).to_be_visible()
    expect(page.get_by_label("Rule")).to_contain_text('site = "Amber Fold" and model = "Sill 400"')


def test_an_open_rollout_is_let_before_the_others(signed_in: Page, running: Running, nightly: int) -> None:
    page = signed_in
    others = [r["id"] for r in running.ask("rollouts")["rollouts"] if r["rank"] and r["id"] != nightly]
    page.goto(f"{running.url}/rollouts/{nightly}")
    page.get_by_role("button", name="Change ahead…").click()
    dialog = page.get_by_role("dialog", name="Change what is still ahead")
    dialog.get_by_label(re.compile("^Go before the other open rollouts")).check()
    expect(dialog.get_by_role("list", name="What changes")).to_contain_text(re.compile(r"its turn .* 1 of \d+ open"))
    dialog.get_by_role("button", name="Change it").click()
    expect(dialog).to_have_count(0)
    ranks = {pk: running.ask(f"rollouts/{pk}")["rank"] for pk in (nightly, *others)}
    assert min(ranks, key=lambda pk: ranks[pk]) == nightly
