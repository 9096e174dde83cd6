"""API tokens: what they open, what they do not, and what stays of them."""

import re
from datetime import timedelta
from typing import Any

import pytest
from django.db import IntegrityError, connection, transaction
from knox.models import AuthToken
from rest_framework.test import APIClient

from herald.db.limits import begin_limits, end_limits
from herald.fleet.models import Device, Site
from herald.groups.folders import make_folder
from herald.groups.models import Group
from herald.http.errors import InvalidFields
from herald.limits.services import limit_person, make_scoped_token, read_limits
from herald.people.accounts import remove
from herald.people.models import ApiToken, User
from herald.people.permissions import RolePermission, Tokens, token_opens
from herald.people.tokens import USED_EVERY, make_token
from herald.record import chain
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, make_device, make_devices, make_site, make_static, make_user
from tests.server.test_limits import calls
from tests.server.test_roles import writes

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"


def script(letters: str) -> APIClient:
    client = APIClient(raise_request_exception=False)
    client.credentials(HTTP_AUTHORIZATION=f"Bearer {letters}")
    return client


def session(user: User) -> APIClient:
    client = APIClient()
    client.force_login(user)
    return client


def filled(path: str) -> str:
    path = re.sub(r"<str:secret>|<str:key>|<slug:\w+>|<str:\w+>", "x", path)
    path = re.sub(r"<int:\w+>", "987654", path)
    return re.sub(r"<uuid:\w+>", "00000000-0000-0000-0000-000000000000", path)


def test_a_token_opens_what_its_owner_may_but_never_how_they_sign_in() -> None:
    """Whoever finds a script's token makes no other of it, and changes no password."""
    letters, _ = make_token(make_user("operator"), name="all", days=None, now=NOW)
    client = script(letters)
    closed = set()
    for path, method, view in calls():
        if RolePermission not in view.permission_classes or token_opens(view) is not Tokens.NONE:
            continue
        answer = client.generic(method, f"/{filled(path)}", "{}", content_type="application/json")
        assert answer.status_code == 403 and "sign in with your password" in answer.json()["detail"], (method, path)
        closed.add(path.removeprefix("api/v1/"))
    assert closed == {
        "own",
        "own/messages",
        "own/messages/read",
        "own/messages/test",
        "own/passkeys",
        "own/passkeys/<int:passkey_id>/remove",
        "own/passkeys/options",
        "own/password",
        "own/preference",
        "own/second-factor",
        "own/second-factor/confirm",
        "own/second-factor/recovery-codes",
        "own/second-factor/take-off",
        "own/sessions",
        "own/sessions/<int:session_id>",
        "own/sessions/end-others",
        "own/stand-in",
        "tokens",
        "tokens/<int:token_id>",
    }
    assert client.post(f"{V1}/groups", {"name": "G", "rule": "tag = x"}, format="json").status_code == 201


def test_whatever_is_about_ones_own_account_says_which_tokens_open_it() -> None:
    """By its address, so that what is added later is looked at, too."""
    own = {path for path, _, view in calls() if re.match(r"api/v1/(own|tokens)\b", path)}
    assert {path for path, _, view in calls() if token_opens(view) is Tokens.NONE} == own


def test_a_token_that_only_reads_changes_nothing() -> None:
    letters, _ = make_token(make_user("operator"), name="reads", days=None, reads_only=True, now=NOW)
    client = script(letters)
    for path, method, _ in writes():
        if path in ("session", "session/passkey", "welcome/<str:secret>"):  # which no token opens
            continue
        answer = client.generic(method, f"{V1}/{filled(path)}", "{}", content_type="application/json")
        assert answer.status_code == 403, (method, path, answer.content)
    said = client.post(f"{V1}/groups", {"name": "G", "rule": "tag = x"}, format="json").json()
    assert said["detail"] == "This token only reads."
    assert client.get(f"{V1}/devices").status_code == 200
    preview = client.post(f"{V1}/rules/preview", {"rule": "tag = x"}, format="json")
    assert preview.status_code == 200  # it only computes


def test_a_limited_token_opens_nothing_of_its_owner() -> None:
    owner = make_user("operator")
    site = make_site("Marrow Bay")
    make_device(site=site)
    session(owner).post(f"{V1}/groups", {"name": "Secret plan", "rule": "tag = x"}, format="json")
    limits = read_limits([], [site.pk])
    client = script(make_scoped_token(owner, name="bay", days=None, reads_only=False, limits=limits, now=NOW))
    for path in ("saved-views", "calendar-feeds", "report-mails"):
        answer = client.get(f"{V1}/{path}")
        assert answer.status_code == 403 and "limited to some devices" in answer.json()["detail"], path
    assert client.get(f"{V1}/record").json()["count"] == 0  # not even what its owner did
    assert client.get(f"{V1}/devices").json()["count"] == 1


def test_a_token_opens_no_more_than_its_owner_sees() -> None:
    """Folders and sites that both have; and what the owner loses, the token loses."""
    north, south = (make_folder(n, None, actor=None, now=NOW) for n in ("North", "South"))
    inside = make_folder("Deep", north, actor=None, now=NOW)
    for name, folder, count in (("A", north, 1), ("B", inside, 2), ("C", south, 4)):
        Group.objects.filter(pk=make_static(name, make_devices(count)).pk).update(folder=folder)
    owner = limit_person(make_user("operator").pk, read_limits([north.pk], []), actor=None, now=NOW)

    def seen(folders: list[int], sites: Any = ()) -> int:
        limits = read_limits(folders, list(sites))
        name = f"token {ApiToken.objects.count()}"
        letters = make_scoped_token(owner, name=name, days=None, reads_only=True, limits=limits, now=NOW)
        return int(script(letters).get(f"{V1}/devices").json()["count"])

    assert seen([north.pk]) == 3
    assert seen([inside.pk]) == 2
    assert seen([south.pk]) == 0 and seen([]) == 0
    with pytest.raises(InvalidFields, match="not limited to the site"):
        seen([], [Site.objects.get(name="Here").pk])
    everything = make_scoped_token(owner, name="all of mine", days=None, reads_only=True, limits=None, now=NOW)
    assert script(everything).get(f"{V1}/devices").json()["count"] == 3
    limit_person(owner.pk, read_limits([inside.pk], []), actor=None, now=NOW)
    assert script(everything).get(f"{V1}/devices").json()["count"] == 2


def test_a_limited_person_makes_a_token_through_the_api_within_what_they_see() -> None:
    north, south = (make_folder(n, None, actor=None, now=NOW) for n in ("North", "South"))
    Group.objects.filter(pk=make_static("A", make_devices(2)).pk).update(folder=north)
    owner = limit_person(make_user("operator").pk, read_limits([north.pk], []), actor=None, now=NOW)
    client = session(owner)
    limits = {"folders": [north.pk], "sites": []}
    reach = client.post(f"{V1}/people/limits/preview", {"limits": limits}, format="json").json()
    assert reach == {"devices": 2, "groups": 1}
    made = client.post(f"{V1}/tokens", {"name": "mine", "limits": limits}, format="json")
    assert script(made.json()["token"]).get(f"{V1}/devices").json()["count"] == 2
    foreign = client.post(f"{V1}/tokens", {"name": "x", "limits": {"folders": [south.pk], "sites": []}}, format="json")
    nothing = client.post(f"{V1}/tokens", {"name": "x", "limits": {"folders": [987654], "sites": []}}, format="json")
    assert foreign.status_code == nothing.status_code == 422
    assert foreign.json()["errors"][0]["message"].replace(str(south.pk), "?") == (
        nothing.json()["errors"][0]["message"].replace("987654", "?")
    )


def test_a_role_that_is_taken_is_taken_from_the_tokens_too() -> None:
    owner = make_user("operator")
    client = script(make_token(owner, name="all", days=None, now=NOW)[0])
    User.objects.filter(pk=owner.pk).update(role="viewer")
    assert client.post(f"{V1}/groups", {"name": "G", "rule": "tag = x"}, format="json").status_code == 403
    User.objects.filter(pk=owner.pk).update(is_active=False)
    assert client.get(f"{V1}/devices").status_code == 401


def test_when_it_was_used_last_is_known_to_the_minute() -> None:
    letters, token = make_token(make_user(), name="all", days=None, now=NOW)
    for later, seen in ((timedelta(0), NOW), (USED_EVERY / 2, NOW), (USED_EVERY, NOW + USED_EVERY)):
        with clock.fixed(NOW + later):
            assert script(letters).get(f"{V1}/devices").status_code == 200
        token.refresh_from_db()
        assert token.used_at == seen


def test_when_a_limited_token_was_used_last_is_known_too() -> None:
    owner, site = make_user("operator"), make_site("Here")
    limits = read_limits([], [site.pk])
    client = script(make_scoped_token(owner, name="bay", days=None, reads_only=True, limits=limits, now=NOW))
    assert client.get(f"{V1}/devices").status_code == 200
    assert ApiToken.objects.get().used_at == NOW


def test_what_was_done_by_a_token_says_so_also_after_it_is_revoked() -> None:
    owner = make_user("operator")
    mine = session(owner)
    letters = mine.post(f"{V1}/tokens", {"name": "Nightly"}, format="json").json()["token"]
    script(letters).post(f"{V1}/groups", {"name": "By night", "rule": "tag = x"}, format="json")
    mine.post(f"{V1}/groups", {"name": "By hand", "rule": "tag = x"}, format="json")
    (row,) = mine.get(f"{V1}/tokens").json()
    assert (row["name"], row["reads_only"], row["limits"], row["expires_at"] is None) == ("Nightly", False, None, False)
    assert mine.delete(f"{V1}/tokens/{row['id']}").status_code == 204
    assert mine.delete(f"{V1}/tokens/{row['id']}").status_code == 404
    assert script(letters).get(f"{V1}/devices").status_code == 401
    entries = {
        e["sentence"].split("“")[1].split("”")[0]: e["token"]
        for e in mine.get(f"{V1}/record?kind=group").json()["entries"]
    }
    assert entries == {"By night": "Nightly", "By hand": None}
    assert b",Nightly\r\n" in b"".join(mine.get(f"{V1}/record/export?kind=group").streaming_content)
    chain.link_new(now=NOW)
    assert list(chain.faults()) == []
    RecordEntry.objects.filter(token__isnull=False).update(token=None)  # as if by hand
    assert len(list(chain.faults())) == 1


def test_a_name_is_given_once_at_a_time() -> None:
    owner = make_user()
    mine = session(owner)
    assert mine.post(f"{V1}/tokens", {"name": "Nightly"}, format="json").status_code == 201
    again = mine.post(f"{V1}/tokens", {"name": "Nightly"}, format="json")
    assert again.status_code == 422 and again.json()["errors"][0]["pointer"] == "/name"
    with pytest.raises(IntegrityError), transaction.atomic():
        token, _ = AuthToken.objects.create(owner)
        ApiToken.objects.create(user=owner, token=token, name="Nightly")
    mine.delete(f"{V1}/tokens/{mine.get(f'{V1}/tokens').json()[0]['id']}")
    assert mine.post(f"{V1}/tokens", {"name": "Nightly"}, format="json").status_code == 201


def test_a_token_of_which_nothing_is_known_opens_nothing() -> None:
    _, letters = AuthToken.objects.create(make_user())
    assert script(letters).get(f"{V1}/devices").status_code == 401


def test_who_is_removed_leaves_no_token_that_opens_anything() -> None:
    owner = make_user("operator")
    letters, token = make_token(owner, name="all", days=None, now=NOW)
    remove([owner.pk], actor=make_user("administrator"), now=NOW)
    token.refresh_from_db()
    assert token.token is None and script(letters).get(f"{V1}/devices").status_code == 401


@pytest.mark.django_db(transaction=True)
def test_a_connection_held_to_a_token_is_held_again_after_it_is_lost() -> None:
    owner, here = make_user("operator"), make_site("Marrow Bay")
    make_device(site=here)
    make_device(site=make_site("Elsewhere"))
    limits = read_limits([], [here.pk])
    make_scoped_token(owner, name="bay", days=None, reads_only=True, limits=limits, now=NOW)
    begin_limits(owner.pk, ApiToken.objects.get().pk)
    try:
        connection.close()
        assert Device.objects.count() == 1
    finally:
        end_limits()
    assert Device.objects.count() == 2
