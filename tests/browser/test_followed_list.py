"""A group that follows a list kept elsewhere: followed, read again, waiting for somebody, and followed no longer."""

import json
from http.server import BaseHTTPRequestHandler
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.elsewhere import Answer, web_server
from tests.running import Running


def test_a_group_follows_a_list_and_what_reaches_something_waits_for_somebody(
    signed_in: Page, running: Running
) -> None:
    page = signed_in
    found = running.ask("devices?rule=family%20%3D%20Sill&limit=4")["devices"]
    names = [d["name"] for d in found]
    listed = [*names[:2], "nobody-7"]

    def pumps(handler: BaseHTTPRequestHandler) -> None:
        body = json.dumps({"data": [{"serial": name} for name in listed]}).encode()
        handler.send_response(200)
        handler.end_headers()
        handler.wfile.write(body)

    answers: dict[str, Answer] = {"/pumps.json": pumps}
    group = running.api("POST", "groups", {"name": "Pumps of the depot", "kind": "static"})["id"]
    with web_server(answers) as address:
        page.goto(f"{running.url}/groups/{group}")
        page.get_by_role("button", name="Or follow a list kept elsewhere…").click()
        form = page.get_by_role("dialog")
        form.get_by_role("textbox", name="Address").fill(f"{address}/pumps.json")
        form.get_by_role("button", name="See what is in it").click()
        expect(form.get_by_role("alert")).to_contain_text("An object stands there, and no list; point at /data.")
        form.get_by_role("textbox", name="Place in JSON").fill("/data")
        form.get_by_role("textbox", name="Column").fill("serial")
        form.get_by_role("button", name="See what is in it").click()
        would = form.get_by_role("region", name="What it would do")
        expect(would).to_contain_text("2 join · 3 entries, 2 devices; the group has 0 now")
        would.get_by_text("1 entry leads to no device").click()
        expect(would).to_contain_text("nobody-7 is the name or uid of no device")
        form.get_by_role("button", name="Follow it: 2 join").click()
        expect(form).not_to_be_visible()

        expect(page.get_by_role("heading", name="2 members")).to_be_visible()
        follows = page.get_by_role("region", name="Follows a list")
        expect(follows).to_contain_text("/pumps.json")
        expect(page.get_by_role("heading", name="Add or remove devices")).to_have_count(0)

        nightly = {"when": "repeat", "rule": "FREQ=YEARLY;BYMONTH=1;BYMONTHDAY=1", "time_of_day": "02:30"}
        running.api("POST", "schedules", {"name": "Each year", "template": "restart", "include": [group], **nightly})
        listed.append(names[2])
        running.until(f"followed-lists?group={group}", lambda rows: rows[0]["waits_since"] is not None)
        expect(follows).to_contain_text("1 joins: waits for somebody to agree")
        expect(page.get_by_role("heading", name="2 members")).to_be_visible()
        page.goto(f"{running.url}/attention")
        page.get_by_role("link", name="The list of “Pumps of the depot” waits for somebody to agree").click()

        page.get_by_role("button", name="See what it says…").click()
        says = page.get_by_role("dialog", name="What the list of “Pumps of the depot” says now")
        expect(says).to_contain_text(f"Join: {names[2]}")
        says.get_by_role("button", name="Do it: 1 joins").click()
        asks = page.get_by_role("alertdialog")
        expect(asks).to_contain_text("This changes which devices are reached")
        asks.get_by_role("button", name="Agree: 1 join").click()
        expect(page.get_by_role("heading", name="3 members")).to_be_visible()
        expect(page.get_by_text("waits for somebody to agree")).to_have_count(0)

    # what cannot be read changes nobody, and says so
    page.get_by_role("button", name="Read now…").click()
    expect(page.get_by_role("alert")).to_contain_text("could not be reached")
    page.get_by_role("button", name="Follow it no longer…").click()
    page.get_by_role("button", name="Keep these 3 devices").click()
    expect(page.get_by_role("heading", name="Add or remove devices")).to_be_visible()
    assert running.ask(f"groups/{group}")["member_count"] == 3


def test_an_import_repeats_from_an_address_and_what_is_wrong_waits(
    signed_in: Page, running: Running, tmp_path: Path
) -> None:
    page = signed_in
    head = "Asset;Label;Kind;Place;Marks\n"
    rows = ["R-1;repeated-1;Sill 400;Amber Fold;repeated"]
    file = tmp_path / "assets.csv"
    file.write_text(head + rows[0] + "\n")
    page.goto(f"{running.url}/import/new")
    page.get_by_label("File of devices").set_input_files(file)
    for column, field in (("Asset", "uid"), ("Label", "name"), ("Kind", "model"), ("Place", "site"), ("Marks", "tag")):
        meaning = page.get_by_role("combobox", name=column, exact=True)
        expect(meaning).to_be_enabled()
        meaning.select_option(field)
        expect(meaning).to_have_value(field)
    expect(page.get_by_text("nothing is written yet")).to_be_visible()
    page.get_by_label("Name to keep these columns under").fill("Assets of the depot")
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.get_by_text("Assets of the depot", exact=True)).to_be_visible()
    page.get_by_role("button", name="Cancel", exact=True).click()

    def assets(handler: BaseHTTPRequestHandler) -> None:
        handler.send_response(200)
        handler.end_headers()
        handler.wfile.write((head + "\n".join(rows) + "\n").encode())

    with web_server({"/assets.csv": assets}) as address:
        page.get_by_role("link", name="Another file").click()
        page.get_by_role("button", name="Repeat an import…").click()
        form = page.get_by_role("dialog")
        form.get_by_role("textbox", name="Name", exact=True).fill("Depot")
        form.get_by_role("textbox", name="Address").fill(f"{address}/assets.csv")
        form.get_by_role("combobox", name="Its columns mean").select_option("Assets of the depot")
        form.get_by_role("combobox", name="Read").select_option("every hour")
        form.get_by_role("button", name="Read it and see what it would do").click()
        page.get_by_role("button", name="Write 1 device", exact=True).click()
        expect(page.get_by_text("1 device written.")).to_be_visible()

        rows.append("R-2;repeated-2;Sil 400;Amber Fold;repeated")
        running.until("repeated-imports", lambda told: told[0]["waits_for"] != "")
        page.get_by_role("link", name="Another file").click()
        card = page.locator("section", has=page.get_by_role("heading", name="Imports that repeat"))
        expect(card).to_contain_text("Waits for somebody: 1 of 2 rows are wrong")
        rows[1] = "R-2;repeated-2;Sill 400;Amber Fold;repeated"
        running.until("devices?rule=tag%20%3D%20repeated", lambda told: told["count"] == 2)
        expect(card).to_contain_text("imported, 1 new, 0 changed")
        expect(card).not_to_contain_text("Waits for somebody")
        card.get_by_role("button", name="Remove…").click()
        page.get_by_role("button", name="Remove it").click()
        expect(card).to_contain_text("None.")
