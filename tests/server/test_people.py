"""People: invited, changed, disabled, removed; their own account, and where they are signed in."""

from datetime import timedelta
from typing import Any

import pytest
from django.core.management import CommandError, call_command
from django.db import IntegrityError, transaction
from rest_framework.test import APIClient

from herald.attention.models import Item, ItemKind
from herald.attention.services import open_item
from herald.people.accounts import INVITED_FOR
from herald.people.models import Invitation, OpenSession, User
from herald.people.throttling import FREE_OF_ACCOUNT
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, make_user

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
API = "/api/v1"
PASSWORD = "a-long-password"  # of the factory's people
GOOD = "seven-quiet-lamps"


@pytest.fixture
def admin(db: None) -> APIClient:
    client = APIClient()
    client.force_authenticate(make_user("administrator"))
    return client


def invite(admin: APIClient, *emails: str, role: str = "operator") -> list[Any]:
    answer = admin.post(f"{API}/people/invitations", {"emails": list(emails), "role": role}, format="json")
    assert answer.status_code == 201, answer.json()
    return list(answer.json())


def accept(path: str, client: APIClient | None = None, **change: str) -> Any:
    body = {"name": "Ada Lind", "password": GOOD, "time_zone": "Europe/Lisbon", **change}
    return (client or APIClient()).post(f"{API}{path}", body, format="json")


def signed_in(user: User, agent: str = "Firefox") -> APIClient:
    client = APIClient(HTTP_USER_AGENT=agent)
    answer = client.post(f"{API}/session", {"email": user.email, "password": PASSWORD}, format="json")
    assert answer.status_code == 200, answer.json()
    return client


def is_in(client: APIClient) -> bool:
    return bool(client.get(f"{API}/session").json()["user"])


def test_an_invitation_makes_one_account_and_signs_it_in(admin: APIClient) -> None:
    first, second = invite(admin, "Ada@Example.org", "bo@example.org")
    assert [first["email"], second["email"]] == ["ada@example.org", "bo@example.org"]
    listed = admin.get(f"{API}/people").json()["invitations"]
    assert [i["email"] for i in listed] == ["ada@example.org", "bo@example.org"] and "path" not in listed[0]
    told = APIClient().get(f"{API}{first['path']}").json()
    assert (told["email"], told["role"], told["invited_by"]) == ("ada@example.org", "operator", "U. Ser")
    browser = APIClient()
    answer = accept(first["path"], browser)
    assert answer.status_code == 201 and answer.json()["user"]["email"] == "ada@example.org"
    assert is_in(browser)
    user = User.objects.get(email="ada@example.org")
    assert (user.name, user.role, user.time_zone, user.joined_at) == ("Ada Lind", "operator", "Europe/Lisbon", NOW)
    assert user.check_password(GOOD)
    assert accept(first["path"]).status_code == 404
    assert [i["email"] for i in admin.get(f"{API}/people").json()["invitations"]] == ["bo@example.org"]
    assert RecordEntry.objects.latest("pk").sentence == "Made an account as operator, by invitation"


def test_a_link_opens_nothing_once_it_ran_out_was_taken_back_or_was_replaced(admin: APIClient) -> None:
    (old,) = invite(admin, "ada@example.org")
    (new,) = invite(admin, "ada@example.org", role="viewer")
    assert accept(old["path"]).status_code == 404
    with clock.fixed(NOW + INVITED_FOR):
        assert accept(new["path"]).status_code == 404
        assert admin.get(f"{API}/people").json()["invitations"] == []
    assert admin.delete(f"{API}/people/invitations/{new['id']}").status_code == 204
    assert admin.delete(f"{API}/people/invitations/{new['id']}").status_code == 404
    assert accept(new["path"]).status_code == 404
    assert not User.objects.filter(email="ada@example.org").exists()
    assert new["path"].rpartition("/")[2] not in str(list(Invitation.objects.values()))


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"password": "short"}, "/password"),
        ({"password": "password1234"}, "/password"),
        ({"time_zone": "Atlantis/Deep"}, "/time_zone"),
        ({"name": "   "}, "/name"),
    ],
)
def test_what_will_not_do_is_said_beside_its_field_and_the_link_still_holds(
    admin: APIClient, change: dict[str, str], field: str
) -> None:
    (made,) = invite(admin, "ada@example.org")
    answer = accept(made["path"], **change)
    assert answer.status_code in (400, 422) and field in {e["pointer"] for e in answer.json()["errors"]}
    assert accept(made["path"]).status_code == 201


def test_who_has_an_account_is_not_invited_and_then_nobody_is(admin: APIClient) -> None:
    known = make_user("viewer")
    for emails in (["new@example.org", known.email.upper()], ["new@example.org", "NEW@example.org"]):
        answer = admin.post(f"{API}/people/invitations", {"emails": emails, "role": "viewer"}, format="json")
        assert answer.status_code == 422 and answer.json()["errors"][0]["pointer"] == "/emails/1"
    assert not Invitation.objects.exists()


@pytest.mark.usefixtures("long_waits")
def test_who_guesses_at_links_has_to_wait(admin: APIClient) -> None:
    statuses = [APIClient().get(f"{API}/welcome/guess-{n}").status_code for n in range(FREE_OF_ACCOUNT + 1)]
    assert statuses == [404] * FREE_OF_ACCOUNT + [429]


def test_disabling_ends_every_session_token_and_duty_and_enabling_lets_in_again(admin: APIClient) -> None:
    user = make_user("operator")
    browser = signed_in(user)
    token = browser.post(f"{API}/tokens", {"name": "x"}, format="json").json()["token"]
    script = APIClient()
    script.credentials(HTTP_AUTHORIZATION=f"Bearer {token}")
    open_item(ItemKind.SILENT, cause="Silent", now=NOW, count=3)
    Item.objects.update(assigned_to=user)
    rows = admin.post(f"{API}/people/disable", {"people": [user.pk]}, format="json").json()["people"]
    assert [r["is_active"] for r in rows if r["id"] == user.pk] == [False]
    assert not is_in(browser) and script.get(f"{API}/groups").status_code == 401
    assert Item.objects.get().assigned_to is None
    refused = APIClient().post(f"{API}/session", {"email": user.email, "password": PASSWORD}, format="json")
    assert refused.status_code == 401
    admin.post(f"{API}/people/enable", {"people": [user.pk]}, format="json")
    assert is_in(signed_in(user)) and not is_in(browser) and script.get(f"{API}/groups").status_code == 200


def test_removing_keeps_what_they_did_under_a_neutral_name_and_frees_the_address(admin: APIClient) -> None:
    users = [make_user("operator"), make_user("viewer")]
    browser = signed_in(users[0])
    browser.post(f"{API}/folders", {"name": "Harvest"}, format="json")
    open_item(ItemKind.SILENT, cause="Silent", count=3, rule="presence = silent", now=NOW)
    Item.objects.update(assigned_to=users[0])
    answer = admin.post(f"{API}/people/remove", {"people": [u.pk for u in users]}, format="json")
    assert answer.status_code == 200 and not {u.pk for u in users} & {r["id"] for r in answer.json()["people"]}
    assert not is_in(browser) and not OpenSession.objects.filter(user__in=users).exists()
    assert Item.objects.get().assigned_to is None
    entry = RecordEntry.objects.filter(kind="folder").select_related("actor").get()
    assert entry.actor is not None and str(entry.actor) == f"Removed person {users[0].pk}"
    kept = User.objects.get(pk=users[0].pk)
    assert users[0].email not in (kept.email, kept.name) and not kept.has_usable_password()
    assert admin.post(f"{API}/people/enable", {"people": [kept.pk]}, format="json").status_code == 404
    invite(admin, users[0].email)


def test_the_last_administrator_stays(admin: APIClient) -> None:
    me = User.objects.get(role="administrator")
    other = make_user("administrator")
    for what in ("disable", "remove"):
        assert admin.post(f"{API}/people/{what}", {"people": [me.pk]}, format="json").status_code == 409
    assert admin.patch(f"{API}/people/{other.pk}", {"role": "viewer"}, format="json").status_code == 200
    refused = admin.patch(f"{API}/people/{me.pk}", {"role": "operator"}, format="json")
    assert refused.status_code == 409 and "administrator" in refused.json()["detail"]
    assert User.objects.get(pk=me.pk).role == "administrator"
    for change in ({"role": "viewer"}, {"is_active": False}):
        with pytest.raises(IntegrityError), transaction.atomic():
            User.objects.filter(pk=me.pk).update(**change)
    with pytest.raises(IntegrityError), transaction.atomic():
        me.delete()


def test_a_role_that_changes_holds_at_once_and_is_on_record_with_before_and_after(admin: APIClient) -> None:
    user = make_user("viewer")
    browser = signed_in(user)
    assert browser.post(f"{API}/folders", {"name": "A"}, format="json").status_code == 403
    assert admin.patch(f"{API}/people/{user.pk}", {"role": "operator"}, format="json").status_code == 200
    assert browser.post(f"{API}/folders", {"name": "A"}, format="json").status_code == 201
    entry = RecordEntry.objects.filter(kind="user").latest("pk")
    assert (entry.before, entry.after) == (
        {"role": "viewer", "name": "U. Ser"},
        {"role": "operator", "name": "U. Ser"},
    )
    assert admin.patch(f"{API}/people/{user.pk}", {}, format="json").status_code == 422
    assert admin.patch(f"{API}/people/{user.pk}", {"role": "king"}, format="json").status_code in (400, 422)


def test_the_access_review_is_a_file_that_runs_no_formula(admin: APIClient) -> None:
    user = make_user("approver")
    User.objects.filter(pk=user.pk).update(name="=1+1")
    told = admin.get(f"{API}/people/export").getvalue().decode()
    assert f"'=1+1,{user.email},approver" in told


# -- one's own account


def test_sessions_are_listed_and_ended_one_or_all_others() -> None:
    user, other = make_user("viewer"), make_user("administrator")
    with clock.fixed(NOW - timedelta(hours=1)):
        phone = signed_in(user, "Phone")
    desk, stranger = signed_in(user, "Desk"), signed_in(other)
    rows = desk.get(f"{API}/own/sessions").json()
    assert [(r["agent"], r["is_this"]) for r in rows] == [("Desk", True), ("Phone", False)]
    assert "key" not in rows[0]
    assert stranger.delete(f"{API}/own/sessions/{rows[1]['id']}").status_code == 404 and is_in(phone)
    assert desk.delete(f"{API}/own/sessions/{rows[1]['id']}").status_code == 204
    assert not is_in(phone) and is_in(desk) and is_in(stranger)
    tablet = signed_in(user)
    assert desk.post(f"{API}/own/sessions/end-others").json() == {"ended": 1}
    assert not is_in(tablet) and is_in(desk) and is_in(stranger)
    desk.delete(f"{API}/session")
    assert not OpenSession.objects.filter(user=user).exists()


def test_a_new_password_needs_the_old_one_and_ends_the_other_sessions() -> None:
    user = make_user("viewer")
    desk, phone = signed_in(user), signed_in(user)
    for body, field in (
        ({"current": "wrong", "new": GOOD}, "/current"),
        ({"current": PASSWORD, "new": "short"}, "/new"),
    ):
        refused = desk.post(f"{API}/own/password", body, format="json")
        assert refused.status_code == 422 and refused.json()["errors"][0]["pointer"] == field
    answer = desk.post(f"{API}/own/password", {"current": PASSWORD, "new": GOOD}, format="json")
    assert answer.json() == {"ended": 1}
    assert is_in(desk) and not is_in(phone)
    assert [r["is_this"] for r in desk.get(f"{API}/own/sessions").json()] == [True]


def test_ones_own_name_and_clock_change_and_nothing_else_does() -> None:
    user = make_user("viewer")
    browser = signed_in(user)
    answer = browser.put(f"{API}/own", {"name": " Ada ", "time_zone": "Asia/Kolkata"}, format="json")
    assert (answer.json()["name"], answer.json()["time_zone"]) == ("Ada", "Asia/Kolkata")
    for body in (
        {"name": "Ada", "time_zone": "Mars/Base"},
        {"name": "", "time_zone": "UTC"},
        {"name": "Ada", "time_zone": "UTC", "role": "administrator"},
    ):
        assert browser.put(f"{API}/own", body, format="json").status_code in (400, 422)
    assert User.objects.get(pk=user.pk).role == "viewer"


def test_when_somebody_was_last_seen_is_kept_and_written_now_and_then(monkeypatch: pytest.MonkeyPatch) -> None:
    user = make_user("viewer")
    browser = signed_in(user)
    later = NOW + timedelta(minutes=30)
    for every, seen in ((timedelta(hours=1), NOW), (timedelta(0), later)):
        monkeypatch.setattr("herald.people.sessions.SEEN_EVERY", every)
        with clock.fixed(later):
            browser.get(f"{API}/groups")
        assert User.objects.get(pk=user.pk).seen_at == seen
    assert [r["seen_at"] for r in browser.get(f"{API}/own/sessions").json()] == ["2026-11-23T02:30:00Z"]


def test_the_first_administrator_is_only_made_where_there_is_none(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("HERALD_ADMIN_EMAIL", "boss@example.org")
    monkeypatch.setenv("HERALD_ADMIN_PASSWORD", "short")
    with pytest.raises(CommandError, match="too short"):
        call_command("first_administrator")
    assert not User.objects.exists()
    monkeypatch.setenv("HERALD_ADMIN_PASSWORD", GOOD)
    call_command("first_administrator")
    monkeypatch.setenv("HERALD_ADMIN_EMAIL", "second@example.org")
    call_command("first_administrator")
    user = User.objects.get()
    assert (user.email, user.role, user.check_password(GOOD)) == ("boss@example.org", "administrator", True)


def test_without_a_terminal_or_variables_it_says_how_the_first_administrator_is_made(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.delenv("HERALD_ADMIN_EMAIL", raising=False)
    call_command("first_administrator")
    assert not User.objects.exists() and "HERALD_ADMIN_EMAIL" in capsys.readouterr().out


def test_who_signs_in_twice_where_they_are_is_signed_in_once() -> None:
    """As by a second press of the button before the first was answered."""
    user = make_user()
    user.set_password("a-long-password")
    user.save()
    client = APIClient()
    for _ in range(2):
        answer = client.post("/api/v1/session", {"email": user.email, "password": "a-long-password"}, format="json")
        assert answer.status_code == 200
    assert len(client.get("/api/v1/own/sessions").json()) == 1
