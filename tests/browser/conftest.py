"""The real interface in headless Chromium, against a whole installation."""

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.running import DEVICES, ENGINEER, Refused, Running

PASSWORD = "larkfield-demo"
# what is expected comes at once, but a machine that does much else may stand still for a minute
STALL_MS = 120_000
expect.set_options(timeout=STALL_MS)
# `HERALD_BROWSER_LATENCY_MS=600` tries every test as over a slow link: what holds only on a quick machine fails here.
LATENCY_MS = int(os.environ.get("HERALD_BROWSER_LATENCY_MS", "0"))


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Whoever makes an installation of its own takes minutes for that alone on a slow machine."""
    for item in items:
        if item.path.is_relative_to(Path(__file__).parent):
            item.add_marker(pytest.mark.timeout(1200))


@pytest.fixture(scope="session")
def running() -> Iterator[Running]:
    """One installation for all browser tests: 260 devices, whose hour is nine seconds."""
    # what is read from elsewhere stands on this machine
    variables = {"HERALD_OUTBOUND_NETWORKS": "127.0.0.0/8"}
    with Running.in_a_folder(devices=DEVICES, speed=400, variables=variables) as installation:
        put_off_freezes(installation)
        yield installation


def put_off_freezes(installation: Running) -> None:
    """Move the demo's freezes to another season. The next is days away, which are minutes here: it would hold devices
    of whichever test comes then."""
    for freeze in installation.ask("freezes"):
        moved = {n: datetime.fromisoformat(freeze[n]) + timedelta(days=200) for n in ("starts_at", "ends_at")}
        body = {
            **{n: freeze[n] for n in ("name", "why", "repeats_yearly", "time_zone", "everywhere")},
            **{n: at.isoformat() for n, at in moved.items()},
            **{n: [one["id"] for one in freeze[n]] for n in ("groups", "sites")},
        }
        installation.api("PUT", f"freezes/{freeze['id']}", body)


@pytest.fixture(autouse=True)
def _leaves_nothing_running(request: pytest.FixtureRequest) -> Iterator[None]:
    """End the schedules and rollouts that a test began, even if it failed: they would reach the devices of others."""
    if "running" not in request.fixturenames:
        yield
        return
    running: Running = request.getfixturevalue("running")
    before = _open(running)
    yield
    for kind, one in sorted(_open(running) - before):
        # whatever ended by itself meanwhile needs no end
        with suppress(Refused):
            running.api("POST", f"{kind}/{one}/{ENDINGS[kind]}")


ENDINGS = {"schedules": "end", "rollouts": "stop"}


def _open(running: Running) -> set[tuple[str, int]]:
    schedules = running.ask("schedules")["schedules"]
    rollouts = running.ask("rollouts")["rollouts"]
    return {("schedules", s["id"]) for s in schedules if s["state"] != "ended"} | {
        ("rollouts", r["id"]) for r in rollouts if r["state"] in ("running", "paused", "halted")
    }


@pytest.fixture(scope="session")
def browser_type_launch_args(browser_type_launch_args: dict[str, Any]) -> dict[str, Any]:
    return {**browser_type_launch_args, "executable_path": "/usr/bin/chromium"}


@pytest.fixture(scope="session")
def browser_context_args(browser_context_args: dict[str, Any]) -> dict[str, Any]:
    return {**browser_context_args, "viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce"}


@pytest.fixture
def page(page: Page) -> Page:
    """A page, over a slow link where one is asked for."""
    page.set_default_timeout(STALL_MS)
    if LATENCY_MS:
        page.context.new_cdp_session(page).send(
            "Network.emulateNetworkConditions",
            {"offline": False, "latency": LATENCY_MS, "downloadThroughput": 500_000, "uploadThroughput": 500_000},
        )
    return page


@contextmanager
def to_come(running: Running, rule: str) -> Iterator[int]:
    """A rollout that is running and waits for its day, stopped at the end: what runs in the demo may be over."""
    name = f"For another year, {len(running.ask('groups'))}"
    group = running.api("POST", "groups", {"name": name, "rule": rule})["id"]
    rollout = running.launch(
        {
            "changes": [{"choice": "newest"}],
            "include": [group],
            "rings": [{"name": "All", "kind": "rest"}],
            "starts_at": "2031-01-01T00:00:00Z",
            "expires_after_hours": 24 * 365,
        },
        reason="to see it wait",
    )
    running.until(f"rollouts/{rollout}", lambda r: r["state"] == "running")
    yield rollout
    running.api("POST", f"rollouts/{rollout}/stop")


def sign_in(page: Page, running: Running, email: str) -> Page:
    """The page, with somebody signed in."""
    page.set_default_timeout(STALL_MS)
    page.goto(running.url)
    page.get_by_label("E-mail address").fill(email)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("navigation", name="Rooms")).to_be_visible()
    return page


def at_any_hour(page: Page) -> None:
    """Let the draft of a rollout go at any hour, which is chosen on purpose; a test does not wait for the night."""
    page.locator('[data-slot="window"]').first.click()
    page.get_by_label("At any hour").check()
    page.get_by_role("button", name="Done").first.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("at any hour")


@pytest.fixture
def signed_in(page: Page, running: Running) -> Page:
    """A page of an operator who has signed in."""
    return sign_in(page, running, ENGINEER)


@pytest.fixture
def administrator(page: Page, running: Running) -> Page:
    """A page of an administrator who has signed in."""
    return sign_in(page, running, "admin@larkfield.example")
