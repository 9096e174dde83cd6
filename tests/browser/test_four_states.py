"""Each main view says nothing before it is known: with answers that the test holds, that fail, and without a server."""

import re
from collections.abc import Iterator
from contextlib import contextmanager

import pytest
from playwright.sync_api import Page, Route, expect

from tests.browser.views import VIEWS, places, settled
from tests.running import Running

#: asked by the frame around every page
FRAME = re.compile(r"/api/v1/(session|health|ready|events)$")
CALLS = re.compile(r"/api/v1/")
#: pages that are looked at beside each other; each holds one of the six connections that a browser opens to a server
AT_ONCE = 3
#: words that claim something of the fleet: a number, or that there is none
CLAIM = re.compile(
    r"(?<![:\d])\b\d[\d,]*\s+(device|group|rollout|member|entr|confirmed|failed|waiting|joins?|leaves?|of)\w*"
    r"|\bof \d|\bno (device|group|rollout|command|image|tag|freeze|match|value)s?\b"
    r"|\bnothing\b(?! (is sent|was|of it|is installed|nothing))|\bnobody\b|\bnone\b|\bnot? yet\b"
    r"|\bnever\b|(?<![\d.:])\b0\b(?![.:])",
    re.IGNORECASE,
)
#: what stands on a page whatever is known: what a place is for, the words of a form, the numbers of a draft
STANDING = (
    "No group and no device is nobody",
    "no group and no device is nobody",
    "nobody wants a device to restart",
    "In a freeze nothing is installed",
    "An empty rule matches nobody",
    "none of the others chosen",
    "is sent to nobody before",
    "empty for nothing",
    "nothing you typed is lost",
    "Nothing you typed is lost",
    "12 devices, drawn by model",
    "exactly those groups and in none",
)


class Held:
    """Answers of the API that the test holds until it has looked."""

    def __init__(self) -> None:
        self.routes: list[Route] = []
        self.open = False

    def take(self, route: Route) -> None:
        if self.open or FRAME.search(route.request.url.split("?")[0]):
            route.continue_()
        else:
            self.routes.append(route)

    def release(self) -> None:
        self.open = True
        for route in self.routes:
            route.continue_()
        self.routes.clear()


@contextmanager
def held(page: Page) -> Iterator[Held]:
    answers = Held()
    page.route(CALLS, answers.take)
    try:
        yield answers
    finally:
        answers.release()
        page.unroute(CALLS)


def claims(page: Page) -> list[str]:
    """What the page says of the fleet, as it stands."""
    text = page.locator("main").inner_text()
    for words in STANDING:
        text = text.replace(words, "")
    return [text[max(0, m.start() - 30) : m.end() + 30].replace("\n", " / ") for m in CLAIM.finditer(text)]


@pytest.fixture
def everywhere(running: Running) -> list[str]:
    known = places(running)
    return [view.format_map(known) for view in VIEWS]


def test_nothing_is_claimed_while_answers_are_held_and_what_then_comes_has_a_title_a_heading_and_fits(
    signed_in: Page, running: Running, everywhere: list[str]
) -> None:
    page, found, titles = signed_in, [], set()
    narrow = {"/", "/rollouts", places(running)["halted"]}
    for view in everywhere:
        with held(page) as answers:
            page.goto(running.url + view)
            # each of them asks for something, and shows that it waits for it
            expect(page.locator("main [aria-busy=true], main [data-state=loading]").first).to_be_attached()
            found += [f"{view}: “{claim}”" for claim in claims(page)]
            answers.release()
            settled(page)
        titles.add(title := page.title())
        if not title.endswith(" · Brisk Herald"):
            found.append(f"{view} has no title")
        if page.locator("main h1").count() != 1:
            found.append(f"{view} has {page.locator('main h1').count()} headings of the first rank")
        for width in (1024, *((390,) if view in narrow else ()), 1280):
            page.set_viewport_size({"width": width, "height": 800})
            wide = page.evaluate("() => document.querySelector('main').scrollWidth")
            if wide > width:
                found.append(f"{view} is {wide} px wide at {width}")
    assert not found, "\n".join(found)
    assert len(titles) > 20


@pytest.mark.parametrize("answer", ["503", "no connection"])
def test_what_could_not_be_loaded_says_so_and_is_asked_again(
    signed_in: Page, running: Running, everywhere: list[str], answer: str
) -> None:
    page, found = signed_in, []

    def fail(route: Route) -> None:
        if FRAME.search(route.request.url.split("?")[0]):
            route.continue_()
        elif answer == "503":
            body = '{"type": "urn:x", "title": "Unavailable", "status": 503, "detail": "The database does not answer."}'
            route.fulfill(status=503, body=body, content_type="application/problem+json")
        else:
            route.abort("connectionrefused")

    said = "The database does not answer." if answer == "503" else "The server does not answer."
    # the pages cannot tell the two apart but for the reason: one of three views of each kind shows the second
    views = everywhere if answer == "503" else everywhere[::3]
    pages = [page.context.new_page() for _ in range(AT_ONCE)]
    for one in pages:
        one.route(CALLS, fail)
    for begin in range(0, len(views), AT_ONCE):  # each asks again before it says so, which takes a while
        batch = list(zip(pages, views[begin : begin + AT_ONCE], strict=False))
        for one, view in batch:
            one.goto(running.url + view, wait_until="commit")
        for one, view in batch:
            failed = one.locator("main [data-state=failed][role=alert]").first
            expect(failed).to_contain_text("could not be loaded")
            expect(failed).to_contain_text(said)
            found += [f"{view}: “{claim}”" for claim in claims(one)]
    for one in pages:
        one.close()
    assert not found, "\n".join(found)
    # what failed is asked again by a press, and is there; a live event would have it asked again without one
    page.route(CALLS, fail)
    page.route("**/api/v1/events", lambda route: route.abort())
    page.goto(f"{running.url}/library?shelf=tags")
    again = page.get_by_role("button", name="Try again")
    expect(again).to_be_visible()
    page.unroute(CALLS)
    again.click()
    expect(page.get_by_text("frost-zone", exact=True)).to_be_visible()
    expect(page.locator("main [data-state=failed]")).to_have_count(0)


def test_older_content_stays_and_is_marked_when_it_cannot_be_refreshed(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/record")
    settled(page)
    entry = page.locator("main ol li").first.inner_text()

    page.route(re.compile(r"/api/v1/record\?"), lambda route: route.abort("connectionrefused"))
    expect(page.locator("main [data-state=stale]").first).to_contain_text("as of")  # it asks every ten seconds
    expect(page.locator("main [data-state=stale]").first).to_contain_text("The server does not answer")
    assert entry in page.locator("main").inner_text()

    with page.expect_request(re.compile(r"/api/v1/record\?")):
        page.get_by_role("button", name="Try again").click()
    page.unroute_all()
    expect(page.locator("main [data-state=stale]")).to_have_count(0)


def test_a_page_that_does_not_exist_says_what_is_missing_and_where_to_go(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.goto(f"{running.url}/fleets/42")
    expect(page.get_by_role("heading", name="Page not found")).to_be_visible()
    expect(page.locator("main")).to_contain_text("/fleets/42")
    page.locator("main").get_by_role("link", name="Fleet").click()
    expect(page).to_have_url(re.compile(r"/fleet$"))
    expect(page).to_have_title("Fleet · Brisk Herald")
    expect(page.locator("#work")).to_be_focused()


def test_a_page_whose_code_does_not_arrive_says_so_and_the_others_work(signed_in: Page, running: Running) -> None:
    page = signed_in
    page.route(re.compile(r"/assets/record-"), lambda route: route.abort())
    page.get_by_role("link", name="Record").click()
    expect(page.get_by_role("heading", name="This page could not be loaded")).to_be_visible()
    page.get_by_role("link", name="Fleet").click()
    expect(page.get_by_role("heading", name="Fleet", exact=True)).to_be_visible()


def test_a_page_out_of_sight_holds_no_connection_and_catches_up_when_it_is_back(
    signed_in: Page, running: Running
) -> None:
    """A browser opens six connections to a server; whoever opens a seventh page must not wait for ever."""
    page = signed_in
    page.goto(f"{running.url}/record")
    settled(page)
    show = "state => { Object.defineProperty(document, 'visibilityState', { value: state, configurable: true }); "
    show += "document.dispatchEvent(new Event('visibilitychange')); }"
    events = re.compile(r"/api/v1/events$")
    with page.expect_event("requestfailed", lambda r: events.search(r.url) is not None):
        page.evaluate(show, "hidden")  # it lets go by itself
    running.api("POST", "folders", {"name": f"Made out of sight {len(running.ask('groups'))}"})
    with page.expect_request(events):
        page.evaluate(show, "visible")
    expect(page.locator("main ol li").first).to_contain_text("Made out of sight")


def test_the_demo_clock_is_not_shown_before_it_is_known(signed_in: Page, running: Running) -> None:
    page = signed_in
    answers: list[Route] = []
    page.route(re.compile(r"/api/v1/health$"), lambda route: answers.append(route))
    with page.expect_request(re.compile(r"/api/v1/health$")):
        page.goto(f"{running.url}/")
    expect(page.locator("[data-state=loading]").first).to_be_attached()
    assert "UTC" not in page.locator("body").inner_text()
    answers[0].continue_()
    expect(page.locator("header")).to_contain_text("UTC")


def test_what_is_open_on_a_page_stays_when_it_cannot_be_refreshed(signed_in: Page, running: Running) -> None:
    page = signed_in
    draft = places(running)["draft"]
    page.goto(running.url + draft)
    page.get_by_role("button", name=re.compile("% failures")).click()
    editor = page.get_by_role("heading", name="When does it stop itself, and how hard does it try?")
    expect(editor).to_be_visible()

    page.route(re.compile(rf"/api/v1{draft}$"), lambda route: route.abort("connectionrefused"))
    expect(page.locator("main [data-state=stale]").first).to_be_visible()  # it asks every five seconds
    expect(editor).to_be_visible()
