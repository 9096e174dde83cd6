"""How long things are kept, as an administrator sets it and an operator finds what is left."""

import re

from playwright.sync_api import Page, expect

from tests.browser.conftest import sign_in
from tests.running import ENGINEER, Running


def test_fewer_days_say_what_goes_and_a_firing_of_then_shows_what_stays(administrator: Page, running: Running) -> None:
    page = administrator
    with running.database() as database:  # the demo has lived for eight weeks, and sent commands for some days of it
        database.execute(
            "UPDATE commands_occurrence SET fires_at = fires_at - interval '60 days',"
            " expires_at = expires_at - interval '60 days' WHERE id ="
            " (SELECT id FROM commands_occurrence WHERE tallied_at IS NOT NULL AND audience > 0"
            " ORDER BY local_time, id LIMIT 1)"
        )
    page.goto(f"{running.url}/record")
    page.get_by_role("link", name="How long things are kept").click()
    row = page.get_by_role("row", name=re.compile("Answers to commands"))
    expect(row).to_contain_text("90 days")
    row.get_by_role("button", name="Change").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("textbox", name="Days").fill("39")
    expect(dialog).to_contain_text("At least 40 days")
    expect(dialog.get_by_role("button", name="Save")).to_be_disabled()
    dialog.get_by_role("textbox", name="Days").fill("40")
    expect(dialog).to_contain_text(re.compile(r"This deletes [\d,]+ answers? now"))
    dialog.get_by_role("button", name=re.compile("Delete [0-9,]+ answers?")).click()
    expect(row).to_contain_text("40 days")
    expect(row).to_contain_text("by ")

    running.manage("delete_old")
    page.reload()
    expect(row).to_contain_text(re.compile(r"[\d,]+ answers?"))
    page.goto(f"{running.url}/record?kind=retention")
    expect(page.get_by_text(re.compile(r"Answers to commands: deleted [\d,]+ answers?"))).to_be_visible()

    schedules = running.ask("schedules")["schedules"]
    old = next(
        (s["id"], o["id"])
        for s in schedules
        for o in running.ask(f"schedules/{s['id']}")["occurrences"]
        if o["only_totals"]
    )
    told = running.ask(f"schedules/{old[0]}/answers?occurrence={old[1]}")
    assert told["groups"] == [] and told["deleted"] > 0


def test_an_operator_sees_and_sets_nothing(page: Page, running: Running) -> None:
    sign_in(page, running, ENGINEER)
    page.goto(f"{running.url}/record/kept")
    expect(page.get_by_role("row", name=re.compile("The record"))).to_contain_text("for ever")
    expect(page.get_by_text("An administrator sets how long")).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("^Change"))).to_have_count(0)
