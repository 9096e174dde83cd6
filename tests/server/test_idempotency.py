"""Requests with an `Idempotency-Key` are carried out once, whatever becomes of their answers."""

import threading
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from uuid import uuid4

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import Client
from rest_framework.test import APIClient

from herald.commands.models import Schedule
from herald.fleet.models import EnrolmentCode, Site
from herald.groups.models import Group
from herald.imports.models import Import
from herald.limits.services import Limits, make_scoped_token
from herald.people import idempotency
from herald.people.idempotency import Claim, forget_answers, read_key
from herald.people.models import ApiToken, FailedSignIn, KeptAnswer, User
from herald.people.permissions import RolePermission
from herald.people.replays import takes_keys
from herald.people.tokens import make_token
from herald.record.models import RecordEntry
from herald.rollouts.models import Rollout
from tests.factories import NOW, make_devices, make_image, make_model, make_site, make_static, make_user
from tests.server.test_limits import calls
from tests.server.test_tokens import filled, script

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"
KEY = "7b1c4f2e-1d3a-4e55-9a60-0c8a3a1f2b44"


@pytest.fixture
def person() -> User:
    return make_user()


@pytest.fixture
def client(person: User) -> APIClient:
    return script(make_token(person, name="all", days=None, now=NOW)[0])


def post(client: APIClient, path: str, body: Any, key: str = KEY, **headers: str) -> Any:
    return client.post(f"{V1}/{path}", body, format="json", HTTP_IDEMPOTENCY_KEY=key, **headers)


def make_group(client: APIClient, name: str = "Once", key: str = KEY, **headers: str) -> Any:
    return post(client, "groups", {"name": name, "rule": "tag = x"}, key, **headers)


def test_the_same_request_is_carried_out_once_and_answered_twice(client: APIClient) -> None:
    first, again = make_group(client), make_group(client, key=f'"{KEY}"')
    assert first.status_code == again.status_code == 201
    assert first.content == again.content and first["Content-Type"] == again["Content-Type"]
    assert "Herald-Replayed" not in first and again["Herald-Replayed"] == "true"
    assert Group.objects.count() == 1 and RecordEntry.objects.filter(kind="group").count() == 1
    # without a key each request counts by itself
    twice = client.post(f"{V1}/groups", {"name": "Once", "rule": "tag = x"}, format="json")
    assert twice.status_code in (409, 422)


def test_an_answer_without_a_body_is_given_again(client: APIClient) -> None:
    group = make_group(client).json()["id"]
    other = str(uuid4())
    for replayed in (False, True):
        gone = client.delete(f"{V1}/groups/{group}", HTTP_IDEMPOTENCY_KEY=other)
        assert gone.status_code == 204 and gone.content == b"" and ("Herald-Replayed" in gone) == replayed
    assert client.delete(f"{V1}/groups/{group}").status_code == 404


def test_a_key_stands_for_one_request(client: APIClient) -> None:
    make_group(client)
    site = make_site("Crow Hill")
    for other in (
        make_group(client, "Another"),
        make_group(client, HTTP_HERALD_AGREED="another"),
        post(client, "folders", {"name": "Once", "rule": "tag = x"}),
        client.patch(f"{V1}/sites/{site.pk}", {"name": "x"}, format="json", HTTP_IDEMPOTENCY_KEY=KEY),
    ):
        assert other.status_code in (403, 422), other.content
        if other.status_code == 422:
            assert other.json()["type"].endswith("key-of-another-request"), other.content
    assert Group.objects.get().name == "Once"


def test_a_refusal_leaves_the_key_free_and_nothing_behind(client: APIClient) -> None:
    refused = post(client, "groups", {"name": "Once", "rule": "tag ="})
    assert refused.status_code == 422 and not KeptAnswer.objects.exists()
    assert make_group(client).status_code == 201


def test_what_was_done_before_a_refusal_is_undone(client: APIClient, monkeypatch: pytest.MonkeyPatch) -> None:
    """A view may refuse after its first step; with a key it is all or nothing."""
    from herald.groups import services
    from herald.http.errors import Conflict

    def made_and_refused(*_: Any, **__: Any) -> Any:
        make_site("Half")
        raise Conflict("Half of it was done.")

    monkeypatch.setattr(services, "create_group", made_and_refused)
    assert make_group(client).status_code == 409
    assert not Site.objects.exists()


def test_a_dry_run_does_nothing_and_leaves_the_key_for_the_act(client: APIClient) -> None:
    devices = make_devices(3)
    group = make_static("By hand", [])
    body = {"add": [d.name for d in devices]}
    dry = post(client, f"groups/{group.pk}/members", body, HTTP_HERALD_DRY_RUN="true")
    assert dry.status_code == 200 and not KeptAnswer.objects.exists() and not group.memberships.exists()
    assert post(client, f"groups/{group.pk}/members", body).status_code == 200
    assert "Herald-Replayed" in post(client, f"groups/{group.pk}/members", body)
    assert group.memberships.count() == 3


def test_a_question_is_answered_anew_each_time(client: APIClient) -> None:
    for count in (0, 2):
        assert post(client, "rules/preview", {"rule": "admission = admitted"}).json()["count"] == count
        make_devices(2)
    assert not KeptAnswer.objects.exists()


@pytest.mark.parametrize("key", ["", "1", "fifteen-letters", "x" * 201, "with a space in the middle", '"' * 20])
def test_a_key_that_is_no_key_is_refused_in_words(client: APIClient, key: str) -> None:
    refused = make_group(client, key=key)
    assert refused.status_code == 422 and "16 to 200" in refused.json()["detail"]
    assert not Group.objects.exists()
    assert read_key(f' "{KEY}" ') == KEY


def test_keys_of_others_have_nothing_to_do_with_it(client: APIClient, person: User) -> None:
    """Neither another person's nor another token of the same person."""
    for n, other in enumerate((person, make_user())):
        theirs = script(make_token(other, name=f"t{n}", days=None, now=NOW)[0])
        assert make_group(theirs, f"G{n}").status_code == 201
    assert make_group(client).status_code == 201
    assert Group.objects.count() == 3
    session = APIClient()
    session.force_login(person)
    assert make_group(session, "By session").status_code == 201
    assert "Herald-Replayed" in make_group(session, "By session")


def test_whoever_may_not_any_more_is_told_nothing(client: APIClient, person: User) -> None:
    make_group(client)
    User.objects.filter(pk=person.pk).update(role="viewer")
    assert make_group(client).status_code == 403
    ApiToken.objects.get(user=person).token.delete()  # type: ignore[union-attr]
    assert make_group(client).status_code == 401


def test_what_is_told_once_stands_nowhere_in_the_database() -> None:
    administrator = script(make_token(make_user("administrator"), name="all", days=None, now=NOW)[0])
    body = {"label": "for the fitters", "uses": 5}
    first = post(administrator, "enrolment-codes", body)
    assert first.status_code == 201, first.content
    letters = first.json()["code"]
    again = post(administrator, "enrolment-codes", body)
    assert again.json()["code"] == letters and EnrolmentCode.objects.count() == 1
    kept = KeptAnswer.objects.get()
    assert letters.encode() not in bytes(kept.body or b"") and KEY not in kept.digest + kept.fingerprint


def test_an_answer_that_is_too_long_is_not_given_again_but_nothing_is_done_twice(
    client: APIClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(idempotency, "MOST_BYTES", 10)
    assert make_group(client).status_code == 201
    again = make_group(client)
    assert again.status_code == 409 and "too long" in again.json()["detail"]
    assert Group.objects.count() == 1


def test_a_key_is_known_for_a_day(client: APIClient) -> None:
    make_group(client)

    def age(hours: float) -> None:
        KeptAnswer.objects.update(at=datetime.now(UTC) - timedelta(hours=hours))

    age(23.9)
    assert "Herald-Replayed" in make_group(client) and forget_answers() == 0
    age(24.1)
    assert "Herald-Replayed" not in make_group(client, "Another")
    age(24.1)
    assert forget_answers() == 1 and not KeptAnswer.objects.exists()


def test_a_rollout_goes_its_whole_way_with_each_request_sent_twice(person: User) -> None:
    """As a script on a bad link would send it: drafted once, launched once, paused once."""
    model = make_model()
    image = make_image(models=[model])
    devices = make_devices(4, model=model)
    approver = script(make_token(make_user("administrator"), name="all", days=None, now=NOW)[0])
    client = script(make_token(person, name="all", days=None, now=NOW)[0])

    def twice(ask: Callable[[str], Any]) -> Any:
        key = str(uuid4())
        first, again = ask(key), ask(key)
        assert first.status_code < 300, first.content
        assert (again.status_code, again.content) == (first.status_code, first.content)
        assert "Herald-Replayed" in again
        return first.json() if first.content else None

    draft = {
        "changes": [{"choice": "image", "image_id": image.pk}],
        "include": [],
        "include_devices": [d.name for d in devices],
        "rings": [{"name": "All", "kind": "rest", "confirmed_pct": 95.0, "soak_minutes": 0}],
    }
    rollout = twice(lambda key: post(client, "rollouts", draft, key))["id"]
    twice(lambda key: post(client, f"rollouts/{rollout}/launch", {"devices": 4}, key))
    assert Rollout.objects.get().state == "launching"
    assert RecordEntry.objects.filter(kind="rollout", sentence__startswith="Launched").count() <= 1
    twice(lambda key: post(approver, f"rollouts/{rollout}/comments", {"text": "on a bad link"}, key))


def test_limited_scripts_and_people_have_keys_of_their_own(person: User) -> None:
    site = make_site("Crow Hill")
    make_devices(2, site=site)
    only = Limits(folders=[], sites=[site])
    limited = script(make_scoped_token(person, name="site", days=None, reads_only=False, limits=only, now=NOW))
    names = [d["name"] for d in limited.get(f"{V1}/devices").json()["devices"]]
    assert len(names) == 2
    body = {"template": "restart", "when": "repeat", "rule": "FREQ=DAILY", "time_of_day": "04:00", "reason": "x"}
    body |= {"include": [], "include_devices": names}
    first, again = post(limited, "schedules", body), post(limited, "schedules", body)
    assert first.status_code == 201, first.content
    assert again.content == first.content and "Herald-Replayed" in again
    assert Schedule.objects.count() == 1


def test_every_call_that_changes_something_takes_a_key_or_says_that_it_does_not() -> None:
    """A key that was passed over would be relied on all the same."""
    everybody = {role: script(make_token(make_user(role), name="t", days=None, now=NOW)[0]) for role in ("viewer",)}
    refusing = set()
    for path, method, view in calls():
        if method in ("GET", "HEAD", "OPTIONS"):
            continue
        answer = everybody["viewer"].generic(
            method, f"/{filled(path)}", "{}", content_type="application/json", HTTP_IDEMPOTENCY_KEY=KEY
        )
        refused = answer.status_code == 400 and answer.json()["type"].endswith("no-key")
        assert refused != takes_keys(view), (method, path, answer.status_code)
        if refused:
            refusing.add(path.removeprefix("api/v1/"))
        else:
            assert RolePermission in view.permission_classes
    assert refusing == {
        "own",
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
        "own/sessions/<int:session_id>",
        "own/sessions/end-others",
        "own/stand-in",
        "session",
        "session/passkey",
        "session/passkey/options",
        "tokens",
        "tokens/<int:token_id>",
        "welcome/<str:secret>",
        "welcome/<str:secret>/passkey-options",
    }


def test_no_key_hides_a_wrong_password(person: User) -> None:
    """Otherwise the failure would be undone with its refusal, and nobody would have to wait."""
    body = {"email": person.email, "password": "not-the-password"}
    answer = Client().post(f"{V1}/session", body, content_type="application/json", headers={"Idempotency-Key": KEY})
    assert answer.status_code == 400 and not FailedSignIn.objects.exists()
    assert Client().post(f"{V1}/session", body, content_type="application/json").status_code in (401, 403)
    assert FailedSignIn.objects.exists()


def test_the_document_names_the_header_on_these_calls() -> None:
    document = APIClient()
    document.force_login(make_user())
    paths = document.get(f"{V1}/schema").json()["paths"]

    def names(path: str, method: str) -> list[str]:
        return [p["name"] for p in paths[f"{V1}{path}"][method].get("parameters", [])]

    assert "Idempotency-Key" in names("/groups", "post") and "Idempotency-Key" in names("/groups/{group_id}", "delete")
    for path, method in (("/groups", "get"), ("/rules/preview", "post"), ("/tokens", "post"), ("/session", "post")):
        assert "Idempotency-Key" not in names(path, method)


@pytest.mark.django_db(transaction=True)
def test_while_it_is_carried_out_it_is_not_begun_again(monkeypatch: pytest.MonkeyPatch) -> None:
    letters = make_token(make_user(), name="all", days=None, now=NOW)[0]
    working, go_on, answers = threading.Event(), threading.Event(), []
    keep = Claim.keep

    def slowly(claim: Claim, answer: Any) -> None:
        working.set()
        assert go_on.wait(30)
        keep(claim, answer)

    def first() -> None:
        try:
            answers.append(make_group(script(letters)))
        finally:
            connection.close()

    monkeypatch.setattr(Claim, "keep", slowly)
    thread = threading.Thread(target=first)
    thread.start()
    assert working.wait(30)
    meanwhile = make_group(script(letters))
    go_on.set()
    thread.join(30)
    assert meanwhile.status_code == 409 and meanwhile.json()["type"].endswith("still-working")
    assert answers[0].status_code == 201
    assert make_group(script(letters)).content == answers[0].content
    assert Group.objects.count() == 1


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("moment", ["before its answer is kept", "after its answer is kept"])
def test_a_process_that_dies_leaves_nothing_half_done(monkeypatch: pytest.MonkeyPatch, moment: str) -> None:
    """Its connection to the database ends with it, here from inside."""
    letters = make_token(make_user(), name="all", days=None, now=NOW)[0]
    keep = Claim.keep

    def die(claim: Claim, answer: Any) -> None:
        if moment.startswith("after"):
            keep(claim, answer)
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_terminate_backend(pg_backend_pid())")

    with monkeypatch.context() as patch:
        patch.setattr(Claim, "keep", die)
        assert make_group(script(letters)).status_code in (500, 503)
    connection.close()
    assert not Group.objects.exists() and not KeptAnswer.objects.exists()
    assert not RecordEntry.objects.filter(kind="group").exists()
    assert make_group(script(letters)).status_code == 201
    assert Group.objects.count() == 1


def test_a_file_that_is_sent_again_is_taken_once_and_another_one_is_another_request(client: APIClient) -> None:
    def send(text: str) -> Any:
        file = SimpleUploadedFile("devices.csv", text.encode(), content_type="text/csv")
        return client.post(f"{V1}/imports", {"file": file}, format="multipart", HTTP_IDEMPOTENCY_KEY=KEY)

    first, again = send("uid,name\n1,a\n"), send("uid,name\n1,a\n")
    assert first.status_code == 201 and again.content == first.content and "Herald-Replayed" in again
    assert Import.objects.count() == 1 and bytes(Import.objects.get().content) == b"uid,name\n1,a\n"
    assert send("uid,name\n1,b\n").status_code == 422


def test_a_piece_of_a_file_that_is_sent_again_is_written_once(client: APIClient, tmp_path: Path, settings: Any) -> None:
    settings.IMAGES_DIR = tmp_path
    upload = client.post(f"{V1}/uploads", {"file_name": "f", "size_bytes": 6}, format="json").json()["id"]

    def send(piece: bytes) -> Any:
        path, kind = f"{V1}/uploads/{upload}?offset=0", "application/octet-stream"
        return client.put(path, piece, content_type=kind, HTTP_IDEMPOTENCY_KEY=KEY)

    first, again = send(b"abc"), send(b"abc")
    assert first.json()["received_bytes"] == again.json()["received_bytes"] == 3 and "Herald-Replayed" in again
    assert send(b"abd").status_code == 422
