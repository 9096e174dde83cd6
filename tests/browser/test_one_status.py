"""Pages say where rollouts, gates and commands stand in the words of the answers that they got, and in no others."""

import re
from collections.abc import Collection, Iterator
from typing import Any

import pytest
from playwright.sync_api import Page, Response, expect

from tests.browser.conftest import to_come
from tests.browser.views import places, settled
from tests.running import Running

#: pages that say where objects stand, and by which of their words: lists show no gates
LISTS, LANES = ("status",), ("status", "gate")
PAGES = {
    "/": LISTS,
    "/rollouts": LISTS,
    "{halted}": LANES,
    "{finished}": LANES,
    "{running}": LANES,
    "/commands": LISTS,
    "{schedule}": LISTS,
}


def words_of(answer: Any, keys: Collection[str]) -> Iterator[str]:
    """The words of each status within an answer that has one of these names."""
    if isinstance(answer, list):
        for item in answer:
            yield from words_of(item, keys)
    if isinstance(answer, dict):
        for key, value in answer.items():
            if key in keys and isinstance(value, dict) and "words" in value:
                yield value["words"]
            else:
                yield from words_of(value, keys)


@pytest.fixture(scope="module", autouse=True)
def one_runs(running: Running) -> Iterator[None]:
    with to_come(running, "family = Rill"):
        yield


@pytest.mark.parametrize("place", PAGES)
def test_a_page_says_what_its_answers_said(signed_in: Page, running: Running, place: str) -> None:
    page = signed_in
    last: dict[str, Any] = {}

    def note(response: Response) -> None:
        path = response.url.split("?")[0]
        if re.search(r"/api/v1/(now|rollouts|schedules)(/\d+)?$", path) and response.request.method == "GET":
            last[path] = response.json()

    # live events would have the page say something newer than what is compared
    page.route("**/api/v1/events", lambda route: route.abort())
    page.on("response", note)
    rollouts = {r["state"]: r["id"] for r in running.ask("rollouts")["rollouts"]}
    known = {**places(running), "running": f"/rollouts/{rollouts.get('running', rollouts['finished'])}"}
    page.goto(running.url + place.format(**known))
    settled(page)
    expect(page.locator("main")).not_to_be_empty()
    words = {w for path, answer in last.items() if belongs(path, page.url) for w in words_of(answer, PAGES[place])}
    assert words, f"no status in {sorted(last)}"
    for said in words:
        expect(page.locator("main")).to_contain_text(said, ignore_case=True, use_inner_text=True)


def belongs(answer: str, page: str) -> bool:
    """Whether an answer is what the page is about, and not beside it."""
    room = page.split("?")[0].rstrip("/").split("/", 3)[3:] or ["now"]
    wanted = room[0].replace("commands", "schedules")
    return answer.endswith(f"/api/v1/{wanted}")
