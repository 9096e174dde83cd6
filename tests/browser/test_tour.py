"""README's tour, walked: what it calls by name is there under that name, and does what it says.

Every name between asterisks is taken from README itself, so a word changed in one place and not in the other fails.
"""

import re
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.browser.test_walk import launch_as_counted, write_rule
from tests.running import DEVICES, Running

README = Path(__file__).parents[2] / "README.md"


def steps() -> dict[int, str]:
    """The steps of the tour, by number."""
    tour = README.read_text().partition("## A tour of ten minutes")[2].partition("\n## ")[0]
    found = re.findall(r"^(\d+)\. (.*?)(?=^\d+\. |\Z)", tour, re.MULTILINE | re.DOTALL)
    return {int(number): " ".join(text.split()) for number, text in found}


class Tour:
    """A walk through the tour that notes which of its names were met."""

    def __init__(self, page: Page, running: Running) -> None:
        self.page, self.running = page, running
        self.text = steps()
        self.step = 0
        self.met: set[str] = set()

    def begin(self, step: int) -> None:
        """Go on to a step, once every name of the one before was met."""
        if self.step:
            self.end()
        self.step, self.met = step, set()

    def end(self) -> None:
        """Every name of this step was met."""
        named = set(re.findall(r"(?<!\*)\*([^*]+)\*(?!\*)", self.text[self.step]))
        assert not named - self.met, f"step {self.step} names {sorted(named - self.met)}, which the walk did not meet"

    def called(self, name: str) -> re.Pattern[str]:
        """A name of this step, as it stands on the page: an ellipsis within it is a number or a name, at its end what a
        dialog asks further."""
        assert f"*{name}*" in self.text[self.step], f"step {self.step} does not name “{name}”"
        self.met.add(name)
        plain = re.sub(r"([.*+?^${}()|\[\]])", r"\\\1", name)  # as browsers read patterns, where a blank is a blank
        return re.compile("^" + plain.replace(" … ", " .+ ").replace(" …", " .+"))

    def typed(self, words: str) -> str:
        """Words that this step says to type."""
        assert f"`{words}`" in self.text[self.step], f"step {self.step} does not say to type “{words}”"
        return words

    def button(self, name: str) -> Locator:
        return self.page.get_by_role("button", name=self.called(name)).first

    def link(self, name: str) -> Locator:
        return self.page.get_by_role("link", name=self.called(name)).first

    def sees(self, name: str) -> None:
        expect(self.page.get_by_text(self.called(name)).first).to_be_visible()

    def room(self, keys: str, name: str) -> None:
        """To a room by its keys, which the step gives."""
        assert f"**{name}**" in self.text[self.step]
        for key in keys:
            assert f"`{key}`" in self.text[self.step]
            self.page.keyboard.press(key)
        expect(self.page.get_by_role("link", name=name, exact=True)).to_have_attribute("aria-current", "page")


@pytest.fixture(scope="module")
def running() -> Iterator[Running]:
    """An installation of its own: the tour finds the demo as it begins, whatever other tests did to theirs."""
    with Running.in_a_folder(devices=DEVICES, speed=400) as installation:
        yield installation


@pytest.fixture
def tour(signed_in: Page, running: Running) -> Tour:
    return Tour(signed_in, running)


def test_the_tour_can_be_walked(tour: Tour) -> None:
    page, running = tour.page, tour.running
    tour.begin(2)
    tour.link("Look").click()
    expect(page.get_by_text(tour.typed("flash-verify")).first).to_be_visible()

    tour.begin(3)
    tour.room("gg", "Groups")
    tour.link("New group").click()
    page.get_by_label("Name of the group").fill(tour.typed("Masts on time"))
    write_rule(page, tour.typed("family = Vane and firmwear"))
    expect(page.get_by_text("Did you mean firmware?")).to_be_visible()
    write_rule(page, tour.typed('family = Vane and presence = "on time" and firmware < 1.14.0 and battery > 30'))
    tour.sees("Ask about a device, or several")
    page.get_by_label("Names or UIDs of devices").fill(tour.typed("vane-0007"))
    expect(page.get_by_text(re.compile("^It matches|^Not matched: "))).to_be_visible()
    save = tour.button("Save with … devices")
    expect(save).to_be_enabled()
    save.click()
    expect(page.get_by_role("heading", name="Masts on time")).to_be_attached()

    tour.begin(4)
    tour.room("gr", "Rollouts")
    tour.link("New rollout").click()
    page.get_by_role("radio", name=tour.called("Vane 1.14.0")).check()
    tour.button("which devices?").click()
    page.get_by_label("Groups in the audience: find a group").fill(tour.typed("Masts on time"))
    page.get_by_role("checkbox", name=re.compile("Masts on time")).check()
    expect(page.get_by_role("button", name=re.compile("go straight to it"))).to_be_visible()
    page.locator('[data-slot="window"]').first.click()
    page.get_by_label(tour.called("At any hour")).check()
    page.get_by_role("button", name="Done").first.click()
    tour.button("Edit rings").click()
    page.get_by_label("devices", exact=True).first.fill("2")
    page.get_by_role("button", name="Done").last.click()
    tour.sees("If launched now")

    tour.begin(5)
    expect(page.get_by_text("draft saved")).to_be_visible()
    tour.called("Launch")
    launch_as_counted(page)

    tour.begin(6)
    expect(page.get_by_role("img", name=re.compile("^Ring 1: "))).to_be_visible()

    tour.begin(7)
    tour.button("Pause…").click()
    dialog = page.get_by_role("alertdialog")
    expect(dialog).to_contain_text("will finish")
    dialog.get_by_role("button", name="Pause", exact=True).click()
    tour.button("Resume…").click()
    page.get_by_role("alertdialog").get_by_role("button", name=re.compile("^Resume")).click()
    expect(page.get_by_role("button", name="Pause…")).to_be_visible()

    tour.begin(8)
    page.get_by_role("link", name="Rollouts", exact=True).click()
    halted = page.get_by_role("link", name=re.compile(f"^{tour.called('Drum 3.0.4').pattern[1:]}")).first
    halted.click()
    expect(tour.button("Stop…")).to_be_visible()
    page.goto(f"{running.url}/rollouts/new")
    page.get_by_role("radio", name=tour.called("Drum 3.0.4")).check()
    page.get_by_role("button", name="which devices?").click()
    page.get_by_label("Groups in the audience: find a group").fill("Pump drives")
    page.get_by_role("checkbox", name=tour.called("Pump drives")).check()
    tour.button("2% failures").click()
    expect(page.get_by_label("Attempts", exact=False).first).to_be_visible()
    expect(
        page.get_by_text("Say why it is sent all the same").or_(page.get_by_text("failed before")).first
    ).to_be_visible()
    page.get_by_role("button", name="Discard…").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Discard").click()
    expect(page.get_by_text("Draft discarded")).to_be_visible()

    tour.begin(9)
    tour.room("gc", "Commands")
    tour.link("New command").click()
    page.get_by_label("Groups: find a group").fill("Greenhouse")
    page.get_by_role("checkbox", name=tour.called("Greenhouse controllers")).check()
    page.get_by_role("button", name=tour.called("every day at …")).click()
    page.get_by_label("Runs").select_option("now")
    assert tour.called("now").match(page.get_by_label("Runs").locator("option:checked").inner_text())
    expect(tour.button("Restart … devices now")).to_be_visible()
    page.locator('[data-slot="template"]').click()
    expect(page.get_by_role("radio", name=tour.called("Restart"))).to_be_checked()
    page.get_by_role("radio", name=tour.called("Run a health check")).check()
    expect(page.get_by_role("button", name=re.compile(r"^Run a health check on \d+ devices now"))).to_be_enabled()

    tour.begin(10)
    tour.room("ga", "Calendar")
    expect(page.get_by_role("region", name="Lisbon")).to_be_visible()
    tour.button("Six weeks").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Six weeks from")
    expect(page.get_by_text("Harvest at Oxbow Flats").first).to_be_visible()

    tour.begin(11)
    tour.room("gf", "Fleet")
    page.get_by_label(re.compile("^Select ")).first.check()
    expect(tour.button("Actions for …")).to_be_visible()
    expect(tour.button("Add device…")).to_be_visible()
    expect(tour.link("Import")).to_be_visible()
    expect(tour.link("Admissions")).to_be_visible()
    page.get_by_label(re.compile("^Select ")).first.uncheck()
    tour.button("Grid").click()
    expect(page.get_by_role("region", name="Grid")).to_be_visible()
    page.get_by_label("Quick words").fill("vane-0001")
    expect(page.get_by_role("button", name="Edit all 1…")).to_be_visible()  # the words have narrowed it down
    tour.button("Edit all …").click()
    page.get_by_role("combobox", name=re.compile("^Tags")).fill("toured")
    page.get_by_role("button", name="Change 1 device").click()
    tour.button("Undo").click()
    expect(page.get_by_text("Undone:")).to_be_visible()
    slip_a_tag(running)
    page.goto(f"{running.url}/groups/{running.group('Frost-zone gateways behind 5.2')}")
    expect(page.get_by_role("heading", name=tour.called("Worth a look"))).to_be_visible()
    tour.sees("Frost-zone gateways behind 5.2")
    expect(page.get_by_text(re.compile(tour.typed("frost_zone"))).first).to_be_visible()
    page.get_by_role("link", name="Library", exact=True).click()
    tour.link("Tags").click()
    expect(page.get_by_role("row", name=re.compile("frost_zone"))).to_be_visible()

    tour.begin(12)
    page.goto(f"{running.url}/devices/vane-0002")
    why = page.get_by_role("listitem").filter(has_text="Weather masts").first
    why.get_by_role("button", name=tour.called("why")).click()
    expect(why).to_contain_text("family = Vane")
    tour.button("Actions").click()
    expect(page.get_by_role("menuitem").first).to_be_visible()
    page.keyboard.press("Escape")
    page.get_by_role("link", name="Record", exact=True).click()
    expect(page.get_by_text(re.compile("Launched to")).first).to_be_visible()

    tour.begin(13)
    page.goto(f"{running.url}/groups/{running.group('Bench and spares')}")
    tour.sees("Bench and spares")
    tour.button("Find a rule that gives these").click()
    page.keyboard.press("Escape")
    page.goto(f"{running.url}/groups/{running.group('Greenhouse controllers')}")
    tour.sees("Greenhouse controllers")
    write_rule(page, "family = Lumen and hardware = B")
    expect(tour.button("Save")).to_be_visible()
    expect(page.get_by_role("complementary", name="Consequences")).to_contain_text(re.compile("restart", re.IGNORECASE))
    tour.link("Membership history").click()
    expect(page.get_by_role("heading", level=1)).to_be_visible()

    tour.begin(14)
    page.goto(f"{running.url}/rollouts")
    page.get_by_role("link", name=tour.called("Sill 5.2.1")).first.click()
    expect(page.get_by_role("button", name=re.compile("go by way of other versions"))).to_be_visible()
    page.get_by_role("button", name=re.compile("01:00")).first.click()
    expect(page.get_by_label(tour.called("Fetch files ahead of the window"))).to_be_visible()
    page.goto(f"{running.url}/library")
    tour.link("Freezes").click()
    expect(page.get_by_text("Harvest at Oxbow Flats").first).to_be_visible()

    tour.begin(15)
    rollouts = running.ask("rollouts?stage=ended")["rollouts"]
    page.goto(f"{running.url}/rollouts/{min(r['id'] for r in rollouts if r['state'] == 'finished')}")
    expect(tour.button("Roll back…")).to_be_visible()
    expect(page.get_by_label(tour.called("Status by …").pattern.removesuffix(" .+").removeprefix("^"))).to_be_visible()
    tour.link("Report").click()
    expect(page.get_by_role("link", name=re.compile("XLSX|workbook|Workbook")).first).to_be_visible()

    tour.begin(16)
    page.get_by_role("link", name="Library", exact=True).click()
    tour.link("Images").click()
    expect(tour.button("Add a folder…")).to_be_visible()
    tour.button("Clean up…").click()
    page.get_by_role("dialog").get_by_role("button", name=re.compile("^Remove ")).click()
    tour.button("Undo").click()
    expect(page.get_by_text("brought back")).to_be_visible()
    for shelf in ("Ring plans", "Approval", "Models"):
        tour.link(shelf).click()
        expect(page.get_by_role("link", name=shelf)).to_have_attribute("aria-current", "page")

    tour.begin(17)
    page.get_by_role("link", name=re.compile("^Notifications")).click()
    tour.link("Rules and channels").click()
    expect(page.get_by_role("list", name="Rules")).to_contain_text("On call")
    tour.link("What was sent").click()
    expect(page.get_by_role("list", name="Sent")).to_contain_text("stopped itself")
    tour.link("The demo's mail").click()
    expect(page.get_by_role("list", name="Mail")).to_contain_text("stopped itself")
    for item in ("Your account", "People"):
        page.get_by_role("button", name=re.compile("account of")).click()
        page.get_by_role("menuitem", name=tour.called(item)).click()
        expect(page.get_by_role("heading", level=1, name=item)).to_be_visible()
    tour.end()


def slip_a_tag(running: Running) -> None:
    """A gateway whose tag is misspelt; of so few devices there may be none otherwise."""
    rule = 'model = "Sill 400" and firmware < 5.2.0 and not tag any of (frost-zone, high-terrace)'
    name = running.ask(f"devices?limit=1&rule={quote(rule)}")["devices"][0]["name"]
    running.api("POST", "edits", {"target": {"devices": [name]}, "add_tags": ["frost_zone"]})
