"""What wants attention, in the browser: known of, looked after, put off and shown again, and talked about."""

import re

from playwright.sync_api import Page, expect

from tests.running import Running


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
