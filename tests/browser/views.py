"""Every main view of the interface, and waiting until one has what it asked for."""

from playwright.sync_api import Page, expect

from tests.running import Running

VIEWS = (
    "/",
    "/?wall",
    "/quarantine",
    "/attention",
    "/attention?state=closed",
    "/fleet-over-time",
    "/fleet",
    "/fleet?rule=family%20%3D%20Sill&grid=site,firmware&columns=battery",
    "/import/new",
    "/admissions",
    "{device}",
    "{site}",
    "/groups",
    "{group}",
    "{group}/days",
    "{static}",
    "/groups/new",
    "/groups/new?rule=family%20%3D%20Sill",
    "/overlaps?groups={pair}",
    "/rollouts",
    "/rollouts/new",
    "/rollouts/new?image=1",
    "{draft}",
    "{halted}",
    "{finished}",
    "{finished}/report",
    "/rollouts/compare?a=1&b=3",
    "/commands",
    "/commands/new",
    "{schedule}",
    "{schedule}/edit",
    "/commands/new?template=logs",
    "/calendar",
    "/calendar?span=six-weeks&rows=group",
    "/library",
    "/library?shelf=approval",
    "/library?shelf=plans",
    "/library?shelf=commands",
    "/library?shelf=freezes",
    "/library?shelf=attributes",
    "/library?shelf=facts",
    "/library?shelf=tags",
    "/library?shelf=sites",
    "/library?shelf=models",
    "/library?shelf=custodians",
    "/library?shelf=enrolment",
    "/record",
    "/record/firmware",
    "/record/mails",
    "/record/kept",
    "/people",
    "/notifications",
    "/notifications?part=rules",
    "/notifications?part=sent",
    "/account",
)


def places(running: Running) -> dict[str, str]:
    """The objects of the demo that views are about."""
    rollouts = {r["state"]: r["id"] for r in running.ask("rollouts")["rollouts"]}
    return {
        "group": f"/groups/{running.group('Field gateways')}",
        "static": f"/groups/{running.group('Bench and spares')}",
        "draft": f"/rollouts/{rollouts['draft']}",
        "halted": f"/rollouts/{rollouts['halted']}",
        "finished": f"/rollouts/{rollouts['finished']}",
        "schedule": f"/commands/{running.ask('schedules')['schedules'][-1]['id']}",
        "pair": f"{running.group('Field gateways')},{running.group('Bench and spares')}",
        "site": f"/sites/{running.ask('sites')[0]['id']}",
        "device": f"/devices/{running.ask('devices?limit=1')['devices'][0]['name']}",
    }


def settled(page: Page) -> None:
    """Wait until the page has a heading, and nothing of it is loading any more."""
    expect(page.locator("main h1, main h2").first).to_be_attached()
    expect(page.locator("main [data-state=loading]")).to_have_count(0)
    expect(page.locator("main [data-state=older]")).to_have_count(0)
