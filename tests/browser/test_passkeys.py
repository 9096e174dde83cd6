"""Passkeys, with the browser's own authenticator in place of a finger."""

import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest
from playwright.sync_api import CDPSession, Page, expect

from tests.browser.conftest import PASSWORD
from tests.running import Running

ADMINISTRATOR = "admin@larkfield.example"
HELD = {
    "protocol": "ctap2",
    "transport": "internal",
    "hasResidentKey": True,
    "hasUserVerification": True,
    "isUserVerified": True,
    "automaticPresenceSimulation": True,
}


class Finger:
    """The page's authenticator: it holds keys, and somebody's finger or another's is on it."""

    def __init__(self, page: Page) -> None:
        self._session: CDPSession = page.context.new_cdp_session(page)
        self._session.send("WebAuthn.enable")
        self._id = self._session.send("WebAuthn.addVirtualAuthenticator", {"options": HELD})["authenticatorId"]

    def is_right(self, it_is: bool) -> None:
        given: dict[str, Any] = {"authenticatorId": self._id, "isUserVerified": it_is}
        self._session.send("WebAuthn.setUserVerified", given)

    def forget(self) -> None:
        self._session.send("WebAuthn.clearCredentials", {"authenticatorId": self._id})


@pytest.fixture
def home(running: Running) -> str:
    """The address by a name: browsers keep no passkeys for numbers."""
    return running.url.replace("127.0.0.1", "localhost")


@pytest.fixture
def wanted_of_nobody(running: Running) -> Iterator[None]:
    """Whatever happens, the other tests sign in by their passwords."""
    yield
    with running.database() as database:
        database.execute("DELETE FROM access_wantedfactor")


@contextmanager
def another(page: Page, address: str) -> Iterator[Page]:
    """Somebody else's browser."""
    assert page.context.browser is not None
    context = page.context.browser.new_context(viewport={"width": 1280, "height": 800})
    opened = context.new_page()
    opened.goto(address)
    yield opened
    context.close()


def give_password(page: Page, home: str, email: str) -> None:
    page.goto(home)
    page.get_by_label("E-mail address").fill(email)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in", exact=True).click()


def sign_in(page: Page, home: str, email: str) -> None:
    give_password(page, home, email)
    expect(page.get_by_role("navigation", name="Rooms")).to_be_visible()


def sign_out(page: Page) -> None:
    page.get_by_role("button", name=re.compile("account of")).click()
    page.get_by_role("menuitem", name="Sign out").click()
    expect(page.get_by_role("button", name="Sign in", exact=True)).to_be_visible()


def link_for(page: Page, home: str, email: str) -> str:
    """What an administrator sends to whom they invite."""
    page.goto(f"{home}/people")
    page.get_by_role("button", name="Invite…").click()
    page.get_by_label("E-mail addresses").fill(email)
    page.get_by_role("radio", name=re.compile("viewer")).check()
    page.get_by_role("button", name="Invite", exact=True).click()
    link = page.get_by_label(f"Link for {email}").input_value()
    page.get_by_role("button", name="I have them").click()
    return link


def test_a_passkey_is_added_signs_in_and_is_removed(page: Page, home: str) -> None:
    finger = Finger(page)
    sign_in(page, home, "crew@larkfield.example")
    page.goto(f"{home}/account")
    page.get_by_role("button", name="Add a passkey…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name").fill("Workshop laptop")
    dialog.get_by_label("Your password").fill("another")
    dialog.get_by_role("button", name="Add it").click()
    expect(dialog).to_contain_text("This is not your password.")
    dialog.get_by_label("Your password").fill(PASSWORD)
    dialog.get_by_role("button", name="Add it").click()
    row = page.get_by_role("main").get_by_role("listitem").filter(has_text="Workshop laptop")
    expect(row).to_contain_text("not used yet")
    sign_out(page)

    finger.is_right(False)
    page.get_by_role("button", name="Sign in with a passkey").click()
    expect(page.get_by_role("alert")).to_contain_text("No passkey was used")
    finger.is_right(True)
    page.get_by_role("button", name="Sign in with a passkey").click()
    expect(page.get_by_role("navigation", name="Rooms")).to_be_visible()

    page.goto(f"{home}/account")
    expect(row).to_contain_text("last used")
    row.get_by_role("button", name="Remove Workshop laptop…").click()
    page.get_by_role("dialog").get_by_label("Your password").fill(PASSWORD)
    page.get_by_role("dialog").get_by_role("button", name="Remove it").click()
    expect(row).not_to_be_attached()
    sign_out(page)
    page.get_by_role("button", name="Sign in with a passkey").click()
    expect(page.get_by_role("alert")).to_contain_text("No account here opens by this passkey")


def test_an_invitation_is_accepted_with_a_passkey_and_a_new_link_opens_what_was_lost(page: Page, home: str) -> None:
    sign_in(page, home, ADMINISTRATOR)
    with another(page, link_for(page, home, "ilse@larkfield.example")) as guest:
        finger = Finger(guest)
        guest.get_by_label("Your name").fill("Ilse Brandt")
        guest.get_by_role("radio", name=re.compile("a passkey")).check()
        expect(guest.get_by_role("textbox", name="Password")).to_have_count(0)
        guest.get_by_role("button", name="Make my account").click()
        expect(guest.get_by_role("button", name=re.compile("account of Ilse Brandt"))).to_be_visible()
        guest.goto(f"{home}/account")
        expect(guest.get_by_text("You have none: a passkey signs you in.")).to_be_visible()
        sign_out(guest)
        finger.forget()

        person = page.get_by_role("row", name=re.compile("Ilse Brandt"))
        expect(person).to_contain_text("1 passkey")
        person.get_by_label("Choose Ilse Brandt").check()
        page.get_by_role("button", name="New link…").click()
        expect(page.get_by_role("alertdialog")).to_contain_text("goes on until the link is used")
        page.get_by_role("button", name="Make the link").click()
        guest.goto(page.get_by_label("Link for ilse@larkfield.example").input_value())
        page.get_by_role("button", name="I have them").click()

        expect(guest.get_by_text("this link of R. Nasser opens your account anew")).to_be_visible()
        guest.get_by_role("textbox", name="Password").fill(PASSWORD)
        guest.get_by_role("button", name="Open my account").click()
        expect(guest.get_by_role("button", name=re.compile("account of Ilse Brandt"))).to_be_visible()

    person.get_by_label("Choose Ilse Brandt").check()
    page.get_by_role("button", name="Remove…").click()
    page.get_by_role("button", name="Remove for good").click()
    expect(person).not_to_be_attached()


def test_by_a_number_the_page_says_by_which_name_to_open_it(page: Page, running: Running, home: str) -> None:
    page.goto(running.url)
    page.get_by_label("E-mail address").fill("reader@larkfield.example")
    page.get_by_label("Password").fill(PASSWORD)
    expect(page.get_by_role("button", name="Sign in with a passkey")).to_have_count(0)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("navigation", name="Rooms")).to_be_visible()
    page.goto(f"{running.url}/account")
    expect(page.get_by_text(f"open {home} to use one")).to_be_visible()
    expect(page.get_by_role("button", name="Add a passkey…")).to_have_count(0)


@pytest.mark.usefixtures("wanted_of_nobody")
def test_where_more_than_a_password_is_wanted_it_is_set_up_first(page: Page, home: str) -> None:
    sign_in(page, home, ADMINISTRATOR)
    with another(page, link_for(page, home, "noor@larkfield.example")) as guest:
        guest.get_by_label("Your name").fill("Noor Haddad")
        guest.get_by_role("textbox", name="Password").fill(PASSWORD)
        guest.get_by_role("button", name="Make my account").click()
        expect(guest.get_by_role("navigation", name="Rooms")).to_be_visible()

        page.get_by_role("button", name="Change…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("checkbox", name="viewer").check()
        expect(dialog).to_contain_text(re.compile(r"have none, and set one up when they sign in next"))
        expect(dialog).to_contain_text(re.compile(r"\d+ sessions? that began by a password alone ends? now"))
        dialog.get_by_role("button", name="Save").click()
        expect(page.get_by_text("More than a password is wanted of every viewer.").first).to_be_visible()

        Finger(guest)
        give_password(guest, home, "noor@larkfield.example")
        expect(guest.get_by_role("heading", name="One thing first, Noor Haddad")).to_be_visible()
        expect(guest.get_by_role("navigation", name="Rooms")).to_have_count(0)
        guest.get_by_role("button", name="Add a passkey…").click()
        guest.get_by_role("dialog").get_by_label("Name").fill("Phone")
        guest.get_by_role("dialog").get_by_label("Your password").fill(PASSWORD)
        guest.get_by_role("button", name="Add it").click()
        expect(guest.get_by_role("navigation", name="Rooms")).to_be_visible()

    page.get_by_role("button", name="Change…").click()
    dialog.get_by_role("checkbox", name="viewer").uncheck()
    dialog.get_by_role("button", name="Save").click()
    expect(page.get_by_text("A password alone is enough for everybody.").first).to_be_visible()
    person = page.get_by_role("row", name=re.compile("Noor Haddad"))
    person.get_by_label("Choose Noor Haddad").check()
    page.get_by_role("button", name="Remove…").click()
    page.get_by_role("button", name="Remove for good").click()
    expect(person).not_to_be_attached()
