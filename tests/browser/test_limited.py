"""Somebody who is limited to a site and a folder: every page is of their part, says so, and asks for nothing closed."""

import re
from urllib.parse import quote

from playwright.sync_api import Page, Response, expect

from tests.browser.conftest import sign_in
from tests.browser.views import VIEWS, settled
from tests.running import Running

CREW = "crew@larkfield.example"
#: pages about the whole fleet, to which nothing leads somebody who is limited
OF_ALL = (
    "/quarantine",
    "/fleet-over-time",
    "/import/new",
    "/admissions",
    "/library?shelf=approval",
    "/library?shelf=enrolment",
    "/people",
    "/record/kept",
    "/notifications?part=rules",
    "/notifications?part=sent",
)


def test_every_page_is_of_their_part_and_asks_for_nothing_closed(page: Page, running: Running) -> None:
    sign_in(page, running, CREW)
    refused: list[str] = []

    def note(answer: Response) -> None:
        if answer.status >= 400:
            refused.append(f"{answer.status} {answer.url}")

    page.on("response", note)
    for view in VIEWS:
        if view in OF_ALL or "{" in view or "compare" in view or "image=" in view:
            continue
        page.goto(running.url + view)
        settled(page)
        expect(page.get_by_role("banner").get_by_text("only folder “Hand-picked”")).to_be_visible()
    assert refused == []
    page.remove_listener("response", note)
    page.goto(f"{running.url}/people")
    expect(page.get_by_role("main")).to_contain_text("this is about the whole fleet")


def test_they_see_their_devices_and_send_them_a_command(page: Page, running: Running) -> None:
    picked = '("Bench and spares", "Field-day pilot", "Board demo")'
    own = quote(f'site = "Amber Fold" and admission = admitted and not group any of {picked}')
    elsewhere = quote(f'site = "Marrow Bay" and not group any of {picked}')
    mine = running.ask(f"devices?rule={own}&limit=1")["devices"][0]["name"]
    theirs = running.ask(f"devices?rule={elsewhere}&limit=1")["devices"][0]["name"]
    everything = running.ask("devices?limit=1")["count"]
    sign_in(page, running, CREW)
    page.get_by_role("link", name="Fleet", exact=True).click()
    shown = page.get_by_text(re.compile(r"^[\d,]+ devices")).first
    expect(shown).not_to_contain_text(f"{everything:,}")
    expect(page.get_by_role("link", name="Import")).to_have_count(0)
    page.get_by_role("link", name="Groups", exact=True).click()
    expect(page.get_by_role("link", name=re.compile("Field-day pilot")).first).to_be_visible()
    expect(page.get_by_role("link", name=re.compile("Field gateways"))).to_have_count(0)

    page.goto(f"{running.url}/devices/{theirs}")
    expect(page.get_by_role("main")).to_contain_text(f"No device has the name {theirs}")
    page.goto(f"{running.url}/devices/{mine}")
    page.get_by_role("button", name="Actions").click()
    expect(page.get_by_role("menuitem", name="Add to group…")).to_have_count(0)
    page.get_by_role("menuitem", name="Run a command…").click()
    page.get_by_role("button", name="Save the schedule").click()
    expect(page).to_have_url(re.compile(r"/commands/\d+$"))
    expect(page.locator("h1")).to_contain_text(mine)
    expect(page.get_by_text("L. Duarte").first).to_be_visible()


def test_an_administrator_limits_somebody_and_lifts_it_again(administrator: Page, running: Running) -> None:
    page = administrator
    page.goto(f"{running.url}/people")
    page.get_by_role("button", name=re.compile("S. Iyer sees everything")).click()
    dialog = page.get_by_role("dialog", name="What S. Iyer sees")
    dialog.get_by_label("only the devices in some folders").check()
    expect(dialog).to_contain_text("they would see no device at all")
    dialog.get_by_label("Marrow Bay").check()
    expect(dialog).to_contain_text(re.compile(r"They see \d+ devices in 0 groups"))
    dialog.get_by_role("button", name="Save").click()
    expect(page.get_by_role("button", name=re.compile("S. Iyer sees only the site Marrow Bay"))).to_be_visible()

    assert page.context.browser is not None
    other = sign_in(page.context.browser.new_page(), running, "reader@larkfield.example")
    expect(other.get_by_text("only site Marrow Bay")).to_be_visible()
    page.get_by_role("button", name=re.compile("S. Iyer sees only")).click()
    dialog.get_by_label("everything").check()
    dialog.get_by_role("button", name="Save").click()
    expect(page.get_by_role("button", name=re.compile("S. Iyer sees everything"))).to_be_visible()
    other.reload()
    expect(other.get_by_text("only site Marrow Bay")).to_have_count(0)
    other.close()
