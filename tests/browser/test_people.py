"""People and one's own account, as they are used."""

import re

import pyotp
from playwright.sync_api import Page, expect

from tests.browser.conftest import PASSWORD, sign_in
from tests.running import Running


def test_somebody_is_invited_given_a_role_disabled_and_removed(administrator: Page, running: Running) -> None:
    page = administrator
    page.get_by_role("button", name=re.compile("account of")).click()
    page.get_by_role("menuitem", name="People").click()
    page.get_by_role("button", name="Invite…").click()
    page.get_by_label("E-mail addresses").fill("guest@larkfield.example, engineer@larkfield.example")
    page.get_by_role("button", name="Invite 2 people").click()
    expect(page.get_by_role("alert")).to_contain_text("engineer@larkfield.example has an account already")
    page.get_by_label("E-mail addresses").fill("guest@larkfield.example")
    page.get_by_role("radio", name=re.compile("viewer")).check()
    page.get_by_role("button", name="Invite", exact=True).click()
    link = page.get_by_label("Link for guest@larkfield.example").input_value()
    page.get_by_role("button", name="I have them").click()
    expect(page.get_by_role("listitem").filter(has_text="guest@larkfield.example")).to_contain_text("viewer")

    assert page.context.browser is not None
    guest = page.context.browser.new_page()
    guest.goto(link)
    guest.get_by_label("Your name").fill("G. Uest")
    guest.get_by_label("Password").fill(PASSWORD)
    guest.get_by_role("button", name="Make my account").click()
    expect(guest.get_by_role("button", name=re.compile("account of G. Uest"))).to_be_visible()

    row = page.get_by_role("row", name=re.compile("G. Uest"))
    expect(row).to_be_visible()  # it came by itself
    row.get_by_label("Role of G. Uest").select_option("operator")
    expect(page.get_by_text("G. Uest is operator from now on.")).to_be_visible()
    row.get_by_label("Choose G. Uest").check()
    page.get_by_role("button", name="Disable…").click()
    expect(page.get_by_role("alertdialog")).to_contain_text("1 session ends now")
    page.get_by_role("button", name="Disable", exact=True).click()
    expect(row).to_contain_text("disabled")
    guest.goto(running.url)
    expect(guest.get_by_role("button", name="Sign in")).to_be_visible()
    row.get_by_label("Choose G. Uest").check()
    page.get_by_role("button", name="Remove…").click()
    page.get_by_role("button", name="Remove for good").click()
    expect(row).not_to_be_attached()
    guest.close()


def test_an_administrator_stands_in_for_an_approver(administrator: Page, running: Running) -> None:
    page = administrator
    page.goto(f"{running.url}/people")
    page.get_by_role("button", name="Stand in for one…").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("button", name="Stand in for an hour")).to_be_disabled()
    dialog.get_by_label("Why no approver is asked").fill("The burst valves cannot wait.")
    dialog.get_by_role("button", name="Stand in for an hour").click()
    line = page.get_by_role("status").filter(has_text="You stand in for an approver")
    expect(line).to_be_visible()
    expect(page.get_by_role("button", name="Stand in for one…")).to_have_count(0)
    page.goto(f"{running.url}/attention")  # as everybody sees it
    item = page.get_by_role("listitem").filter(has_text="stands in for an approver until")
    expect(item).to_contain_text("The burst valves cannot wait.")
    line.get_by_role("button", name="End it now").click()
    expect(line).to_have_count(0)
    expect(item).to_have_count(0)
    page.goto(f"{running.url}/record")
    expect(page.get_by_text("on record from that time: nothing").first).to_be_visible()


def test_ones_own_name_sessions_and_tokens(page: Page, running: Running) -> None:
    sign_in(page, running, "reader@larkfield.example")
    page.goto(f"{running.url}/account")
    page.get_by_label("Clock").fill("Asia/Nowhere")
    expect(page.get_by_text("A time zone like Europe/Lisbon.")).to_be_visible()
    page.get_by_label("Clock").fill("Asia/Tokyo")
    page.get_by_role("button", name="Save").first.click()
    expect(page.get_by_role("banner")).to_contain_text("Tokyo")
    page.get_by_label("What a new one is for").fill("Nightly report")
    page.get_by_role("button", name="Make a token").click()
    expect(page.get_by_role("dialog")).to_contain_text("is not shown again")
    page.get_by_role("button", name="I have it").click()
    page.get_by_role("button", name="Revoke Nightly report").click()
    expect(page.get_by_text("You have none.")).to_be_visible()
    assert page.context.browser is not None
    phone = page.context.browser.new_page()
    sign_in(phone, running, "reader@larkfield.example")
    page.reload()
    page.get_by_role("button", name="Sign out there").first.click()
    phone.reload()
    expect(phone.get_by_role("button", name="Sign in")).to_be_visible()
    phone.close()
    page.get_by_label("Current password").fill("wrong")
    page.get_by_label("New password").fill("seven-quiet-lamps")
    page.get_by_role("button", name="Change the password").click()
    expect(page.get_by_role("alert")).to_contain_text("not your current password")


def test_a_second_factor_is_set_up_asked_for_and_taken_off(page: Page, running: Running) -> None:
    sign_in(page, running, "approver@larkfield.example")
    page.goto(f"{running.url}/account")
    page.get_by_role("button", name="Set it up…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Your password").fill(PASSWORD)
    dialog.get_by_role("button", name="Continue").click()
    picture = dialog.get_by_role("img", name=re.compile("^For the app: "))
    expect(picture).to_be_visible()
    app = pyotp.TOTP(str(picture.get_attribute("alt")).removeprefix("For the app: "))
    dialog.get_by_label(re.compile("^Code")).fill("12")
    dialog.get_by_role("button", name="Turn it on").click()
    expect(dialog.get_by_role("alert")).to_contain_text("not the code that the app shows now")
    dialog.get_by_label(re.compile("^Code")).fill(app.now())
    dialog.get_by_role("button", name="Turn it on").click()
    shown = dialog.get_by_role("listitem")
    expect(shown).to_have_count(10)
    codes = shown.all_inner_texts()
    dialog.get_by_role("button", name="I have them").click()
    expect(page.get_by_text("10 recovery codes are left.")).to_be_visible()

    page.get_by_role("button", name=re.compile("account of")).click()
    page.get_by_role("menuitem", name="Sign out").click()
    page.get_by_label("E-mail address").fill("approver@larkfield.example")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    code = page.get_by_label(re.compile("^Code"))
    expect(code).to_be_focused()
    expect(page.get_by_role("alert")).to_have_count(0)
    code.fill("000000")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("neither the code that the app shows now nor an unused")
    code.fill(codes[0])
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("navigation", name="Rooms")).to_be_visible()

    page.goto(f"{running.url}/account")
    expect(page.get_by_text("9 recovery codes are left.")).to_be_visible()
    page.get_by_role("button", name="Turn it off…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Your password").fill(PASSWORD)
    dialog.get_by_label(re.compile("^Code")).fill(codes[1])
    dialog.get_by_role("button", name="Turn it off").click()
    expect(page.get_by_role("button", name="Set it up…")).to_be_visible()
