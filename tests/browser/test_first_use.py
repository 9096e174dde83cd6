"""An installation from nothing: the first administrator, the first people, device, group and rollout; and each view
says, while nothing is there, that it is so and what can be done first."""

import json
import os
import re
import signal
import time
import urllib.request
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import PASSWORD, at_any_hour, sign_in
from tests.browser.test_walk import launch_as_counted
from tests.browser.views import VIEWS, settled
from tests.elsewhere import Called, PostOffice, called, post_office
from tests.running import ENGINEER, PATIENCE_SECONDS, Running

ADMINISTRATOR = "first@larkfield.example"
#: true of nothing, and yet a claim; and what slips through where a value is missing
HOLLOW = re.compile(
    r"\b(every|all) (device|group|ring)s? (is|are|run)\b|\bNaN\b|undefined|\bnull\b|Infinity", re.IGNORECASE
)


@pytest.fixture(scope="module")
def post() -> Iterator[PostOffice]:
    with post_office() as kept:
        yield kept


@pytest.fixture(scope="module")
def operations() -> Iterator[Called]:
    """The system of the people on call, which is told by a webhook."""
    with called() as kept:
        yield kept


@pytest.fixture(scope="module")
def empty(post: PostOffice) -> Iterator[Running]:
    """An installation without the demo, as its first start leaves it."""
    variables = {
        "HERALD_ADMIN_EMAIL": ADMINISTRATOR,
        "HERALD_ADMIN_PASSWORD": PASSWORD,
        "HERALD_MAIL_URL": f"smtp://127.0.0.1:{post.port}",
        "HERALD_OUTBOUND_NETWORKS": "127.0.0.0/8",
    }
    with Running.in_a_folder(demo=False, variables=variables) as installation:
        yield installation


def test_from_nothing_to_the_first_rollout_and_the_first_call_at_night(
    page: Page, empty: Running, post: PostOffice, operations: Called, tmp_path: Path
) -> None:
    page = sign_in(page, empty, ADMINISTRATOR)
    code = _a_code_for_devices(page)
    links = _people_are_invited(page)
    assert links["operator"].removeprefix(empty.url) in post.texts(ENGINEER)[0].replace("=\n", "")
    _somebody_is_on_call(page, empty, operations)
    _signs_out(page)
    _makes_an_account(page, links["approver"], "T. Brandt")
    _signs_out(page)
    _makes_an_account(page, links["operator"], "M. Okafor")
    _every_view_says_so(page, empty)
    _what_is_not_there_is_said(page, empty)
    _the_first_model_device_and_group(page, empty, code)
    _the_first_image(page, empty, tmp_path)
    _signs_out(page)
    sign_in(page, empty, "approver@larkfield.example")
    page.get_by_role("link", name="Library").click()
    page.get_by_role("row", name=re.compile(r"^2\.0\.0")).get_by_role("button", name="Approve").click()
    expect(page.get_by_role("row", name=re.compile(r"^2\.0\.0"))).to_contain_text("approved")
    _signs_out(page)
    sign_in(page, empty, ENGINEER)
    _the_first_rollout(page, empty)
    _a_clock_that_hangs_calls_somebody(empty, post, operations)


def _a_code_for_devices(page: Page) -> str:
    """The administrator, led from the empty page to a code with which devices enrol themselves."""
    page.get_by_role("main").get_by_role("link", name="enrolment code").click()
    page.get_by_role("button", name="Make a code").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("What it is for").fill("The first ones")
    dialog.get_by_label(re.compile("Only devices that were imported")).uncheck()
    dialog.get_by_label(re.compile("Admit new devices at once")).check()
    dialog.get_by_role("button", name="Make the code").click()
    code = dialog.locator("p.font-mono").inner_text()
    dialog.get_by_role("button", name="I have it").click()
    return code


def _people_are_invited(page: Page) -> dict[str, str]:
    """The links of an operator and an approver, invited on the page that the empty one leads to."""
    page.get_by_role("link", name="Now", exact=True).click()
    page.get_by_role("main").get_by_role("link", name="invite an operator").click()
    links = {}
    for role, email in (("approver", "approver@larkfield.example"), ("operator", ENGINEER)):
        page.get_by_role("button", name="Invite…").click()
        page.get_by_label("E-mail addresses").fill(email)
        page.get_by_role("radio", name=re.compile(role)).check()
        page.get_by_role("button", name="Invite", exact=True).click()
        links[role] = page.get_by_label(f"Link for {email}").input_value()
        page.get_by_role("button", name="I have them").click()
    return links


def _somebody_is_on_call(page: Page, empty: Running, operations: Called) -> None:
    """A rule that tells the administrator and a channel of everything urgent."""
    page.goto(f"{empty.url}/notifications?part=rules")
    page.get_by_role("button", name="New channel").click()
    page.get_by_label("Name").fill("Operations")
    page.get_by_label("Address").fill(operations.url)
    page.get_by_role("button", name="Make the channel").click()
    page.get_by_role("button", name="I have it").click()
    page.get_by_role("button", name="New rule").click()
    page.get_by_label("Name").fill("On call")
    page.get_by_label("A part of the system stopped").check()
    page.get_by_role("checkbox", name=ADMINISTRATOR).check()
    page.get_by_role("checkbox", name="Operations").check()
    page.get_by_label(re.compile("^Urgent")).check()
    page.get_by_role("button", name="Make the rule").click()
    expect(page.get_by_role("list", name="Rules")).to_contain_text("at once, also in quiet hours")


def _a_clock_that_hangs_calls_somebody(empty: Running, post: PostOffice, operations: Called) -> None:
    """It hangs with all its connections open, and would have been the one to send."""
    clock = empty.processes()["clock"]
    os.kill(clock, signal.SIGSTOP)
    try:
        _until(lambda: any("The clock stands still" in text for text in post.texts(ADMINISTRATOR)))
        _until(lambda: any(b"The clock stands still" in body for _, body in operations.calls))
    finally:
        os.kill(clock, signal.SIGCONT)
    _until(lambda: any("Over: The clock stands still" in text for text in post.texts(ADMINISTRATOR)))
    told = [t for t in post.texts(ADMINISTRATOR) if "Over:" not in t and "The clock stands still" in t]
    assert len(told) == 1, "once"
    assert sum(b"The clock stands still" in body for _, body in operations.calls) == 2


def _until(true: Callable[[], bool]) -> None:
    deadline = time.monotonic() + PATIENCE_SECONDS
    while not true():
        assert time.monotonic() < deadline
        time.sleep(0.3)


def _makes_an_account(page: Page, link: str, name: str) -> None:
    page.goto(link)
    page.get_by_label("Your name").fill(name)
    page.get_by_label("Password").fill("short")
    page.get_by_role("button", name="Make my account").click()
    expect(page.get_by_role("alert")).to_contain_text("at least 10 characters")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Make my account").click()
    expect(page.get_by_role("button", name=re.compile(f"account of {name}"))).to_be_visible()
    page.goto(link)
    expect(page.get_by_role("alert")).to_contain_text("used, taken back or run out")
    page.get_by_role("link", name="Sign in with an account").click()


def _signs_out(page: Page) -> None:
    page.get_by_role("button", name=re.compile("account of")).click()
    page.get_by_role("menuitem", name="Sign out").click()
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()


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


def _the_first_model_device_and_group(page: Page, empty: Running, code: str) -> None:
    page.goto(empty.url)
    expect(page.get_by_role("heading", name="No device yet")).to_be_visible()
    page.get_by_role("main").get_by_role("link", name="Fleet").click()
    expect(page.get_by_role("heading", name="No device yet")).to_be_visible()
    page.goto(f"{empty.url}/library?shelf=models")
    page.get_by_role("button", name="New model").click()
    page.get_by_label("Name").fill("Reed 1")
    page.get_by_label("Family").fill("Reed")
    page.get_by_role("dialog").get_by_role("button", name=re.compile("Save|Make|Add")).click()
    expect(page.get_by_role("row", name=re.compile("Reed 1 Reed"))).to_be_visible()
    page.goto(f"{empty.url}/fleet")
    page.get_by_role("button", name="Add device…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label(re.compile("^Name")).fill("reed-0001")
    dialog.get_by_label("UID", exact=True).fill("RD-1")
    dialog.get_by_label("Model").select_option("Reed 1")
    dialog.get_by_role("button", name="Add device", exact=True).click()
    expect(
        page.get_by_role("heading", name="reed-0001").or_(page.get_by_role("row", name=re.compile("reed-0001")))
    ).to_be_visible()
    # the device itself, switched on: it enrols with the code, and calls
    enrolled = _device_says(empty, "enrol", {"uid": "RD-1", "model": "Reed 1", "code": code})
    assert enrolled["admission"] == "admitted"
    facts = {"battery": 90, "free_space_mb": 900}
    _device_says(empty, "check-in", {"firmware": "1.0.0", "health": {"ok": True}, "facts": facts}, enrolled["secret"])
    page.goto(f"{empty.url}/groups/new")
    page.get_by_label("Name of the group").fill("Reeds")
    page.get_by_role("textbox", name="Rule", exact=True).click()
    page.keyboard.type("family = Reed")
    page.get_by_role("button", name="Save with 1 device").click()
    expect(page.get_by_role("heading", name="Reeds")).to_be_attached()


def _device_says(empty: Running, what: str, body: dict[str, Any], secret: str = "") -> Any:
    request = urllib.request.Request(
        f"http://127.0.0.1:{empty.gateway_port}/device/v1/{what}",
        method="POST",
        data=json.dumps(body).encode(),
        headers={"Content-Type": "application/json", **({"Authorization": f"Bearer {secret}"} if secret else {})},
    )
    with urllib.request.urlopen(request, timeout=30) as answer:
        return json.load(answer)


def _the_first_image(page: Page, empty: Running, folder: Path) -> None:
    file = folder / "reed-2.0.0.bin"
    file.write_bytes(b"firmware" * 1000)
    page.goto(f"{empty.url}/library")
    page.get_by_role("button", name="Add an image").click()
    page.get_by_label("Image file").set_input_files(file)
    expect(page.get_by_label("Version", exact=True)).to_have_value("2.0.0")
    page.get_by_label("Family").select_option("Reed")
    page.get_by_role("button", name="Add the image").click()
    expect(page.get_by_role("row", name=re.compile(r"^2\.0\.0"))).to_be_visible()


def _the_first_rollout(page: Page, empty: Running) -> None:
    page.get_by_role("main").get_by_role("link", name="Put a firmware image on a group").click()
    page.get_by_role("radio", name=re.compile(r"Reed 2\.0\.0")).check()
    page.get_by_role("button", name="which devices?").click()
    page.get_by_role("checkbox", name=re.compile("Reeds")).check()
    page.get_by_role("button", name="Done").first.click()
    at_any_hour(page)
    expect(page.get_by_text("draft saved")).to_be_visible()
    launch_as_counted(page)
    rollout = int(page.url.rsplit("/", 1)[1].split("?")[0])
    running = empty.until(f"rollouts/{rollout}", lambda r: r["state"] == "running")
    assert running["total"] == 1
