"""The program before anything is in it: every view says that there is nothing, and what can be done first."""

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import PASSWORD, sign_in
from tests.browser.views import VIEWS, settled
from tests.running import ENGINEER, Running

#: true of nothing, and yet a claim; and what slips through where a value is missing
HOLLOW = re.compile(
    r"\b(every|all) (device|group|ring)s? (is|are|run)\b|\bNaN\b|undefined|\bnull\b|Infinity", re.IGNORECASE
)


@pytest.fixture(scope="module")
def empty() -> Iterator[Running]:
    """An installation without the demo, with one account."""
    with Running.in_a_folder(demo=False) as installation:
        installation.add_person(ENGINEER, "operator", PASSWORD)
        yield installation


def test_an_empty_program_claims_nothing_and_leads_to_the_first_device_and_group(page: Page, empty: Running) -> None:
    page = sign_in(page, empty, ENGINEER)
    _every_view_says_so(page, empty)
    _what_is_not_there_is_said(page, empty)
    _the_first_ones_are_made(page, empty)


def _every_view_says_so(page: Page, empty: Running) -> None:
    found: list[str] = []
    for view in (v for v in VIEWS if not re.search(r"[{]|image=|a=1|columns=", v)):  # those name what is not there
        page.goto(empty.url + view)
        settled(page)
        main = page.locator("main")
        found += [f"{view}: “{m.group(0)}”" for m in HOLLOW.finditer(main.inner_text())]
        found += [f"{view}: {failed}" for failed in main.locator("[data-state=failed]").all_inner_texts()]
        if main.locator("h1").count() != 1:
            found.append(f"{view} has {main.locator('h1').count()} headings of the first rank")
    assert not found, "\n".join(found)


def _what_is_not_there_is_said(page: Page, empty: Running) -> None:
    for view in ("/groups/1", "/rollouts/1", "/commands/1", "/devices/sill-0001"):
        page.goto(empty.url + view)
        expect(page.locator("main [role=alert]").first).to_contain_text(re.compile("No .*|not found", re.IGNORECASE))


def _the_first_ones_are_made(page: Page, empty: Running) -> None:
    page.goto(empty.url)
    expect(page.get_by_role("heading", name="No device yet")).to_be_visible()
    page.get_by_role("main").get_by_role("link", name="Fleet").click()
    expect(page.get_by_role("heading", name="No device yet")).to_be_visible()
    model = empty.api("POST", "models", {"name": "Reed 1", "family": "Reed"})
    page.get_by_role("button", name="Add device…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label(re.compile("^Name")).fill("reed-0001")
    dialog.get_by_label("UID", exact=True).fill("RD-1")
    dialog.get_by_label("Model").select_option(model["name"])
    dialog.get_by_role("button", name="Add device", exact=True).click()
    expect(
        page.get_by_role("heading", name="reed-0001").or_(page.get_by_role("row", name=re.compile("reed-0001")))
    ).to_be_visible()
    page.goto(f"{empty.url}/groups/new")
    page.get_by_label("Name of the group").fill("Reeds")
    page.get_by_role("textbox", name="Rule", exact=True).click()
    page.keyboard.type("family = Reed")
    page.get_by_role("button", name="Save with 1 device").click()
    expect(page.get_by_role("heading", name="Reeds")).to_be_attached()
