"""The second factor: codes of an app besides the password, recovery codes, and taking it off again."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pyotp
import pytest
from rest_framework.test import APIClient

from herald.people import second_factor
from herald.people.models import OpenSession, RecoveryCode, SecondFactor, User
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, client_as, make_user

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
V1 = "/api/v1"
PASSWORD = "a-long-password"
STEP = timedelta(seconds=30)


class Phone:
    """An app on a phone, with a clock that the test sets; the server's real time is the same."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.at = datetime(2026, 11, 30, 1, 0, tzinfo=UTC)
        self.secret = ""
        monkeypatch.setattr(second_factor, "real_time", lambda: self.at)

    def code(self, off: timedelta = timedelta(0)) -> str:
        return pyotp.TOTP(self.secret).at(self.at + off)


@pytest.fixture
def phone(monkeypatch: pytest.MonkeyPatch) -> Phone:
    return Phone(monkeypatch)


def signed_in(user: User, **code: str) -> Any:
    client = APIClient()
    body = {"email": user.email, "password": PASSWORD, **code}
    return client, client.post(f"{V1}/session", body, format="json")


def set_up(user: User, phone: Phone) -> tuple[APIClient, list[str]]:
    client = signed_in(user)[0]
    begun = client.post(f"{V1}/own/second-factor", {"password": PASSWORD}, format="json").json()
    phone.secret = begun["secret"]
    assert begun["address"].startswith("otpauth://totp/Brisk%20Herald:") and begun["picture"].startswith(
        "data:image/svg+xml"
    )
    answer = client.post(f"{V1}/own/second-factor/confirm", {"code": phone.code()}, format="json")
    assert answer.status_code == 200, answer.content
    phone.at += STEP
    return client, answer.json()["codes"]


def test_it_counts_once_a_first_code_was_given_and_then_the_password_alone_opens_nothing(phone: Phone) -> None:
    user = make_user()
    elsewhere = signed_in(user)[0]
    client = signed_in(user)[0]
    wrong = client.post(f"{V1}/own/second-factor", {"password": "another"}, format="json")
    assert wrong.status_code == 422 and wrong.json()["errors"][0]["pointer"] == "/password"
    phone.secret = client.post(f"{V1}/own/second-factor", {"password": PASSWORD}, format="json").json()["secret"]
    assert signed_in(user)[1].status_code == 200, "it is only begun"
    for code in ("000000", "", "12", "x" * 30, phone.code(timedelta(hours=1))):
        told = client.post(f"{V1}/own/second-factor/confirm", {"code": code}, format="json")
        assert told.status_code == 422, code
    codes = client.post(f"{V1}/own/second-factor/confirm", {"code": phone.code()}, format="json").json()["codes"]
    assert len(set(codes)) == second_factor.RECOVERY_CODES
    assert elsewhere.get(f"{V1}/session").json()["user"] is None, "every other session ended"
    assert client.get(f"{V1}/session").json()["user"]["id"] == user.pk
    told = client.get(f"{V1}/own/second-factor").json()
    assert told["recovery_codes"] == len(codes) and told["since"] is not None

    refused = signed_in(user)[1]
    assert refused.status_code == 401 and refused.json()["type"].endswith("second-factor")
    assert not OpenSession.objects.filter(user=user).exclude(key=client.session.session_key).exists()
    # nothing is said of the factor to whoever does not know the password
    stranger = APIClient().post(f"{V1}/session", {"email": user.email, "password": "x", "code": "1"}, format="json")
    assert not stranger.json()["type"].endswith("second-factor")


def test_a_code_opens_once_and_a_little_early_or_late(phone: Phone) -> None:
    user = make_user()
    set_up(user, phone)
    phone.at += 10 * STEP
    code = phone.code()
    assert signed_in(user, code=f"{code[:3]} {code[3:]}")[1].status_code == 200
    assert signed_in(user, code=code)[1].status_code == 401, "it was used"
    assert signed_in(user, code=phone.code(-STEP))[1].status_code == 401, "it is before the one that was used"
    assert signed_in(user, code=phone.code(2 * STEP))[1].status_code == 401, "it is too early"
    assert signed_in(user, code=phone.code(STEP))[1].status_code == 200
    phone.at += 10 * STEP
    assert signed_in(user, code=phone.code(-2 * STEP))[1].status_code == 401, "it is too late"
    assert signed_in(user, code=phone.code(-STEP))[1].status_code == 200


def test_a_recovery_code_opens_once_and_is_on_record(phone: Phone) -> None:
    user = make_user()
    client, codes = set_up(user, phone)
    assert not RecoveryCode.objects.filter(digest__in=codes).exists(), "only digests are kept"
    assert phone.secret not in SecondFactor.objects.get(person=user).secret, "the secret is encrypted"
    assert signed_in(user, code=codes[0].upper().replace("-", " "))[1].status_code == 200
    assert signed_in(user, code=codes[0])[1].status_code == 401
    assert "9 are left" in RecordEntry.objects.latest_first().filter(kind="user", sentence__contains="code")[0].sentence
    new = client.post(f"{V1}/own/second-factor/recovery-codes", {"password": PASSWORD}, format="json").json()["codes"]
    assert signed_in(user, code=codes[1])[1].status_code == 401 and signed_in(user, code=new[1])[1].status_code == 200


@pytest.mark.usefixtures("long_waits")
def test_guessing_codes_is_slowed_like_guessing_passwords(phone: Phone) -> None:
    user = make_user()
    set_up(user, phone)
    answers = [signed_in(user, code="000000")[1].status_code for _ in range(7)]
    assert answers[0] == 401 and answers[-1] == 429


def test_it_is_taken_off_by_password_and_code_together(phone: Phone) -> None:
    user = make_user()
    client, codes = set_up(user, phone)
    path = f"{V1}/own/second-factor/take-off"
    for body in ({"password": "x", "code": codes[0]}, {"password": PASSWORD, "code": "000000"}):
        assert client.post(path, body, format="json").status_code == 422
    assert client.post(f"{V1}/own/second-factor", {"password": PASSWORD}, format="json").status_code == 409
    off = client.post(path, {"password": PASSWORD, "code": phone.code()}, format="json")
    assert off.json() == {"since": None, "recovery_codes": 0}
    assert signed_in(user)[1].status_code == 200 and not RecoveryCode.objects.filter(person=user).exists()


def test_an_administrator_takes_it_off_whoever_lost_it_and_nobody_else_does(phone: Phone) -> None:
    user, boss = make_user(), make_user("administrator")
    set_up(user, phone)
    admin = APIClient()
    admin.force_authenticate(boss)
    path = f"{V1}/people/{user.pk}/second-factor/reset"
    assert client_as("operator").post(path).status_code == 403
    row = next(p for p in admin.get(f"{V1}/people").json()["people"] if p["id"] == user.pk)
    assert row["has_second_factor"]
    assert admin.post(path).status_code == 200 and admin.post(path).status_code == 409
    assert admin.post(f"{V1}/people/{boss.pk}/second-factor/reset").status_code == 409
    assert signed_in(user)[1].status_code == 200
    last = RecordEntry.objects.filter(actor=boss).latest_first()[0]
    assert last.sentence == f"Took the second factor off {user}" and last.at == NOW


def test_with_another_key_of_the_installation_no_code_fits_and_a_recovery_code_does(
    phone: Phone, settings: Any
) -> None:
    user = make_user()
    codes = set_up(user, phone)[1]
    settings.SECRET_KEY = "another"
    with clock.fixed(NOW):
        assert not second_factor.holds(user, phone.code(), now=NOW, real_now=phone.at)
        assert second_factor.holds(user, codes[3], now=NOW, real_now=phone.at)
