"""An administrator stands in for an approver: for a reason, for an hour, seen by all administrators."""

from datetime import timedelta
from typing import Any

import pytest
from django.db import IntegrityError
from pytest_django import Settings
from rest_framework.test import APIClient

from herald.attention.models import Item, ItemKind
from herald.clock.conditions import refresh_conditions
from herald.http.errors import Conflict
from herald.images.models import Image, ImageStatus
from herald.images.services import add_image
from herald.images.signing import ensure_key
from herald.notifications.models import Message, NotificationRule, Occasion, Preference
from herald.people.accounts import disable
from herald.people.models import Ability, ApiToken, Role, StandIn, User
from herald.people.standing_in import LASTS, end, end_expired, stand_in
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, client_as, make_model, make_user

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]

URL = "/api/v1/own/stand-in"
WHY = "Nobody answers, and the valves are open."


@pytest.fixture
def admin() -> User:
    return make_user("administrator")


def signed_in(user: User) -> APIClient:
    client = APIClient()
    client.force_authenticate(user)
    return client


def image(by: User | None = None, version: str = "5.9.0") -> Image:
    ensure_key(now=NOW)
    fields: dict[str, Any] = {"expected_minutes": 10, "models": [make_model()], "family": "Sill"}
    return add_image(content=b"firmware", version=version, added_by=by, **fields)


def approve(client: APIClient, pk: int) -> int:
    return client.post(f"/api/v1/images/{pk}/approve").status_code


def test_for_an_hour_they_approve_and_not_after(admin: User) -> None:
    client, first, second = signed_in(admin), image(), image(version="5.9.1")
    assert approve(client, first.pk) == 403
    told = client.post(URL, {"reason": WHY}, format="json").json()
    assert told["stands_in_until"] == (NOW + LASTS).isoformat().replace("+00:00", "Z")
    assert "approve" in told["abilities"] and "operate" not in told["abilities"]
    assert approve(client, first.pk) == 200
    first.refresh_from_db()
    assert first.status == ImageStatus.APPROVED and first.approved_by == admin
    with clock.fixed(NOW + LASTS):
        assert approve(client, second.pk) == 403, "not even before the clock has noticed"
        assert "approve" not in client.get("/api/v1/session").json()["user"]["abilities"]


def test_what_they_asked_for_themselves_they_do_not_approve(admin: User) -> None:
    stand_in(admin, reason=WHY, now=NOW)
    answer = signed_in(admin).post(f"/api/v1/images/{image(by=admin).pk}/approve")
    assert answer.status_code == 409 and "somebody else" in answer.json()["detail"]


@pytest.mark.parametrize("role", ["viewer", "operator", "approver"])
def test_nobody_but_administrators_stands_in(role: str) -> None:
    assert client_as(role).post(URL, {"reason": WHY}, format="json").status_code == 403
    with pytest.raises(Conflict, match="Only administrators"):
        stand_in(make_user(role), reason=WHY, now=NOW)
    assert not StandIn.objects.exists()


@pytest.mark.parametrize("reason", ["", "   ", None, "x" * 301, 7.5, ["a"]])
def test_without_a_reason_nobody_stands_in(admin: User, reason: Any) -> None:
    answer = signed_in(admin).post(URL, {"reason": reason}, format="json")
    if reason == 7.5:
        assert answer.status_code == 200  # a number is its letters, as in every text of the API
        return
    assert answer.status_code == 422 and answer.json()["errors"][0]["pointer"] == "/reason"
    assert not StandIn.objects.exists()


def test_a_token_does_not_carry_it(admin: User) -> None:
    stand_in(admin, reason=WHY, now=NOW)
    assert admin.may(Ability.APPROVE)
    admin.by_token = ApiToken(user=admin, name="A script")
    assert not admin.may(Ability.APPROVE)


def test_every_administrator_is_told_at_once_whatever_the_rules_say(admin: User, settings: Settings) -> None:
    settings.EMAIL_HOST = "mail.example"
    asleep, gone, other = make_user("administrator"), make_user("administrator"), make_user("approver")
    Preference.objects.create(person=asleep, mail="never")
    User.objects.filter(pk=gone.pk).update(is_active=False)
    assert not NotificationRule.objects.exists()
    stand_in(admin, reason=WHY, now=NOW)
    messages = Message.objects.filter(occasion=Occasion.OPENED)
    assert {m.person_id for m in messages} == {admin.pk, asleep.pk} and other.pk not in {m.person_id for m in messages}
    assert all(m.is_urgent and WHY in m.text and m.shown_at == NOW for m in messages)
    item = Item.objects.open().get(kind=ItemKind.STANDING_IN)
    assert item.cause == f"{admin} stands in for an approver until 03:00 UTC: {WHY}"
    # and that it is over
    end(admin, now=NOW + timedelta(minutes=5))
    assert {m.person_id for m in Message.objects.filter(occasion=Occasion.OVER)} == {admin.pk, asleep.pk}
    assert not Item.objects.open().filter(kind=ItemKind.STANDING_IN).exists()


def test_a_rule_that_tells_an_administrator_too_tells_nobody_twice(admin: User) -> None:
    rule = NotificationRule.objects.create(name="All")
    rule.recipients.create(person=admin, position=1)
    stand_in(admin, reason=WHY, now=NOW)
    end(admin, now=NOW)
    assert list(Message.objects.order_by("id").values_list("person", "occasion")) == [
        (admin.pk, Occasion.OPENED),
        (admin.pk, Occasion.OVER),
    ]


def test_it_ends_by_hand_by_itself_and_with_the_role(admin: User) -> None:
    client = signed_in(admin)
    assert client.post(URL, {"reason": WHY}, format="json").status_code == 200
    again = client.post(URL, {"reason": WHY}, format="json")
    assert again.status_code == 409 and "already" in again.json()["detail"]
    pk = image().pk
    assert approve(client, pk) == 200
    assert client.delete(URL).json()["stands_in_until"] is None
    assert client.delete(URL).status_code == 200, "twice is no fault"
    ends = RecordEntry.objects.filter(sentence__startswith="Stands in for an approver no longer")
    assert [e.sentence for e in ends] == ["Stands in for an approver no longer; on record from that time: one act"]
    # by itself
    assert client.post(URL, {"reason": WHY}, format="json").status_code == 200
    end_expired(now=NOW + LASTS - timedelta(seconds=1))
    assert StandIn.objects.filter(ended_at=None).count() == 1
    refresh_conditions(now=NOW + LASTS)
    assert StandIn.objects.order_by("-id")[0].ended_at == NOW + LASTS
    # with the account
    other = make_user("administrator")
    stand_in(other, reason=WHY, now=NOW + LASTS)
    disable([other.pk], actor=admin, now=NOW + LASTS)
    other.refresh_from_db()
    with clock.fixed(NOW + LASTS):
        assert not other.may(Ability.APPROVE)
    refresh_conditions(now=NOW + LASTS)
    assert not StandIn.objects.filter(ended_at=None).exists()


def test_one_whose_hour_is_over_stands_in_anew_before_the_clock_has_noticed(admin: User) -> None:
    stand_in(admin, reason=WHY, now=NOW)
    later = NOW + LASTS + timedelta(minutes=1)
    stand_in(admin, reason="Still nobody.", now=later)
    assert list(StandIn.objects.order_by("id").values_list("ended_at", flat=True)) == [NOW + LASTS, None]


def test_who_is_no_administrator_any_more_approves_no_more(admin: User) -> None:
    make_user("administrator")
    stand_in(admin, reason=WHY, now=NOW)
    User.objects.filter(pk=admin.pk).update(role=Role.OPERATOR)
    admin.refresh_from_db()
    assert not admin.may(Ability.APPROVE)
    end_expired(now=NOW)
    assert not StandIn.objects.filter(ended_at=None).exists()


def test_the_database_holds_that_there_is_a_reason(admin: User) -> None:
    with pytest.raises(IntegrityError):
        StandIn.objects.create(person=admin, reason="", began_at=NOW, ends_at=NOW + LASTS)
