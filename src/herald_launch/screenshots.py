"""`./herald shot`: pictures of the running demo, one of each main view, into docs/screenshots."""

import json
import urllib.request
from typing import Any

from playwright.sync_api import Page, ViewportSize, sync_playwright

from herald.demo.scenario import ACCOUNTS, PASSWORD
from herald_launch.instance import Instance
from herald_launch.steps import ROOT, StepFailed, say
from herald_launch.supervise import supervisor_pid

FOLDER = ROOT / "docs" / "screenshots"
SIZE: ViewportSize = {"width": 1280, "height": 800}
SETTLE_MS = 3000
#: View, address, theme. {running}, {draft} … stand for the first rollout in that state.
VIEWS = (
    ("now", "/", "light"),
    ("now-night", "/", "dark"),
    ("fleet", "/fleet?rule=family%20%3D%20Sill%20and%20firmware%20%3C%205.2.0&grid=site,firmware", "light"),
    ("device", "/devices/{device}", "light"),
    ("group", "/groups/{frost}", "light"),
    ("admissions", "/admissions", "light"),
    ("rollouts", "/rollouts", "light"),
    ("compose", "/rollouts/{draft}", "light"),
    ("rollout", "/rollouts/{running}", "light"),
    ("rollout-halted", "/rollouts/{halted}", "light"),
    ("report", "/rollouts/1/report", "light"),
    ("commands", "/commands", "light"),
    ("command", "/commands/{answered}", "light"),
    ("command-compose", "/commands/{schedule}/edit", "light"),
    ("calendar", "/calendar", "light"),
    ("library", "/library", "light"),
    ("fleet-over-time", "/fleet-over-time", "light"),
    ("notifications", "/notifications?part=rules", "light"),
    ("record", "/record", "light"),
)


def take(instance: Instance, view: str) -> None:
    """Take one picture, or all.

    Raises:
        StepFailed: no such view, or nothing runs.
    """
    if supervisor_pid(instance) is None:
        raise StepFailed("nothing runs; ./herald start --detach starts the demo")
    chosen = [v for v in VIEWS if view in ("", v[0])]
    if not chosen:
        raise StepFailed(f"there is no view called {view}; there are {', '.join(v[0] for v in VIEWS)}")
    base = f"http://127.0.0.1:{instance.choices.port}"
    FOLDER.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium")
        page = browser.new_page(viewport=SIZE, reduced_motion="reduce")
        _sign_in(page, base)
        places = _places(page, base)
        for name, address, theme in chosen:
            page.evaluate("theme => localStorage.setItem('brisk-herald-theme', theme)", theme)
            page.goto(base + address.format_map(places))
            page.get_by_role("navigation", name="Rooms").wait_for()  # or a slow machine gives a blank picture
            page.wait_for_timeout(SETTLE_MS)
            for unfinished in page.locator("main [data-state=loading]").all():
                unfinished.wait_for(state="hidden")
            page.screenshot(path=FOLDER / f"{name}.png")
            say(f"docs/screenshots/{name}.png")
        browser.close()


def _sign_in(page: Page, base: str) -> None:
    page.goto(base)
    page.get_by_label("E-mail address").fill(ACCOUNTS[0].email)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("link", name="Fleet").wait_for()


def _places(page: Page, base: str) -> dict[str, Any]:
    """Ids that the addresses stand for, asked of the API with the browser's own session."""
    cookies = "; ".join(f"{c.get('name')}={c.get('value')}" for c in page.context.cookies())

    def ask(path: str) -> Any:
        request = urllib.request.Request(f"{base}/api/v1/{path}", headers={"Cookie": cookies})
        with urllib.request.urlopen(request, timeout=10) as response:
            return json.load(response)

    rollouts = ask("rollouts")["rollouts"]
    places: dict[str, Any] = {}
    for rollout in rollouts:
        places.setdefault(rollout["state"], rollout["id"])
    places.setdefault("running", rollouts[0]["id"])
    places["frost"] = next(g["id"] for g in ask("groups") if g["name"].startswith("Frost-zone"))
    schedules = ask("schedules")["schedules"]
    places["schedule"] = schedules[-1]["id"]
    places["answered"] = next(s["id"] for s in schedules if s["template"]["key"] == "health-check")
    places["device"] = ask("devices?rule=family%20%3D%20Rill&limit=1")["devices"][0]["name"]
    return places
