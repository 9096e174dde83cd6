"""axe finds nothing serious on any main view, in either theme."""

from typing import Any

import pytest
from playwright.sync_api import Page

from herald_launch.steps import ROOT
from tests.running import Running

AXE = ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js"
VIEWS = (
    "/",
    "/fleet",
    "/groups",
    "{group}",
    "{static}",
    "/groups/new",
    "/rollouts",
    "/rollouts/new",
    "{draft}",
    "{halted}",
    "/commands",
    "/commands/new",
    "{schedule}",
    "{device}",
    "/fleet?rule=family%20%3D%20Sill&grid=site,firmware&columns=battery",
    "/import/new",
    "/overlaps?groups={pair}",
    "/library",
    "/library?shelf=freezes",
    "/library?shelf=plans",
    "/library?shelf=releasing",
    "/rollouts/1/report",
    "/rollouts/compare?a=1&b=3",
    "/library?shelf=attributes",
    "/library?shelf=tags",
    "/library?shelf=sites",
    "/library?shelf=custodians",
    "/library?shelf=enrolment",
    "/library?shelf=facts",
    "/admissions",
    "{group}/days",
    "/record",
)


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_axe_finds_nothing_serious(signed_in: Page, running: Running, theme: str) -> None:
    page = signed_in
    rollouts = {r["state"]: r["id"] for r in running.ask("rollouts")}
    places = {
        "group": f"/groups/{running.group('Field gateways')}",
        "static": f"/groups/{running.group('Bench and spares')}",
        "draft": f"/rollouts/{rollouts['draft']}",
        "halted": f"/rollouts/{rollouts['halted']}",
        "schedule": f"/commands/{running.ask('schedules')[-1]['id']}",
        "pair": f"{running.group('Field gateways')},{running.group('Bench and spares')}",
        "device": f"/devices/{running.ask('devices?limit=1')['devices'][0]['name']}",
    }
    page.evaluate("theme => localStorage.setItem('brisk-herald-theme', theme)", theme)
    axe = AXE.read_text()  # evaluated, since the pages' policy lets no script in that is not theirs
    found: list[str] = []
    for view in VIEWS:
        page.goto(running.url + view.format_map(places))
        page.wait_for_timeout(700)
        page.evaluate(axe)
        result: Any = page.evaluate("axe.run({resultTypes: ['violations']})")
        found += [
            f"{view}: {v['id']}: {v['nodes'][0]['html'][:200]} {v['nodes'][0].get('failureSummary', '')[:200]}"
            for v in result["violations"]
            if v["impact"] in ("serious", "critical")
        ]
    assert not found, "\n".join(found)
