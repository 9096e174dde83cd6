"""What wants attention, in the browser: known of, looked after, put off and shown again, and talked about."""

import re
from datetime import datetime, timedelta

from playwright.sync_api import Page, expect

from tests.running import PATIENCE_SECONDS, Running

#: until devices that call seldom are late, or back
RUNS_OUT_MS = PATIENCE_SECONDS * 1000


def test_an_item_is_acknowledged_given_to_somebody_put_off_and_shown_again(signed_in: Page, running: Running) -> None:
    page = signed_in
    # the demo has devices that wait for admission, and no test lets all of them in
    item = next(i for i in running.ask("attention")["items"] if i["kind"] == "awaiting-admission")
    page.goto(running.url)
    page.get_by_role("link", name=re.compile("^All items")).click()
    expect(page.get_by_role("heading", level=1, name="Attention")).to_be_visible()
    row = page.get_by_role("list", name="Items").locator("> li").filter(has_text=item["text"])
    row.get_by_role("button", name="Acknowledge").click()
    expect(row).to_contain_text("M. Okafor knows of it since")
    row.get_by_role("button", name="Give to").click()
    page.get_by_role("menuitem", name="T. Brandt").click()
    expect(row).to_contain_text("T. Brandt looks after it")
    row.get_by_role("button", name="Give on").click()
    page.get_by_role("menuitem", name="Me", exact=True).click()
    expect(row).to_contain_text("M. Okafor looks after it")
    page.get_by_label("Only what I look after").check()
    expect(page.get_by_role("list", name="Items").locator("> li")).to_have_count(1)
    row.get_by_role("button", name="Comments").click()
    row.get_by_placeholder("Say something about it").fill("two of them are spares")
    row.get_by_role("button", name="Comment", exact=True).click()
    expect(row.get_by_text("two of them are spares")).to_be_visible()
    row.get_by_role("button", name="Put off").click()
    page.get_by_role("menuitem", name="For 30 days").click()
    expect(page.get_by_text("Nothing wants attention")).to_be_visible()
    page.get_by_role("group", name="State").get_by_role("button", name=re.compile("^Put off")).click()
    expect(row).to_contain_text("put off until")
    row.get_by_role("button", name="Show again").click()
    expect(row).to_have_count(0)
    page.get_by_role("group", name="State").get_by_role("button", name=re.compile("^Open")).click()
    expect(row).to_contain_text("M. Okafor looks after it")
    row.get_by_role("button", name="Give on").click()
    page.get_by_role("menuitem", name="Nobody").click()
    expect(page.get_by_text("Nothing wants attention")).to_be_visible()
    assert running.ask("attention")["snoozed"] == 0


def test_a_site_that_is_cut_off_is_one_item_until_it_was_planned_and_closes_by_itself(
    signed_in: Page, running: Running
) -> None:
    page, site = signed_in, "Marrow Bay"
    running.outage(site, "--minutes", "100000")
    page.goto(f"{running.url}/attention")
    row = page.get_by_role("list", name="Items").locator("> li").filter(has_text=f"{site}: of")
    expect(row).to_have_count(1, timeout=RUNS_OUT_MS)
    expect(row).to_contain_text("has been heard from since")

    page.get_by_role("button", name="Plan an outage…").click()
    dialog = page.get_by_role("dialog")
    here = next(s["id"] for s in running.ask("sites") if s["name"] == site)  # a group has the same name
    dialog.get_by_label("Of").select_option(value=f"site:{here}")
    expect(dialog).to_contain_text(re.compile(r"\d+ devices may be silent until then and nobody is told"))
    in_a_month = datetime.fromisoformat(running.ask("health")["now"]) + timedelta(days=30)
    dialog.get_by_label("Until, date").fill(in_a_month.date().isoformat())
    dialog.get_by_label("Why").fill("the mast is moved")
    dialog.get_by_role("button", name="Plan it").click()
    expect(row).to_have_count(0)
    expect(page.get_by_text(re.compile("not heard from in time, which is told to nobody"))).to_be_visible()

    page.get_by_role("button", name=f"End the outage of {site}…").click()
    page.get_by_role("button", name="It is over", exact=True).click()
    expect(row).to_have_count(1)
    running.outage(site, "--end")
    expect(row).to_have_count(0, timeout=RUNS_OUT_MS)
    page.get_by_role("group", name="State").get_by_role("button", name="Over").click()
    expect(row.first).to_contain_text("over")
