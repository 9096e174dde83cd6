"""What a new device shows at its first call, and what it becomes by it."""

from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import jwt
import msgspec
import pytest
from rest_framework.test import APIClient

from herald.catalog.codes import CodeDraft, make_code, revoke_code
from herald.catalog.reference_data import MODELS, change_object
from herald.fleet.models import Custodian, Device, DeviceModel, EnrolmentAttempt, PropertyDefinition, RemovedDevice
from herald.gateway import enrolment
from herald.gateway.enrolment import enrol
from herald.gateway.messages import ProtocolError
from herald.groups.membership import process_changed_devices
from herald.http.errors import Conflict, Invalid, InvalidFields
from herald.lifecycle.secrets import revoke_secret
from herald.time import clock
from tests.factories import NOW, make_device, make_image, make_model, make_rule_group, make_site, make_user

pytestmark = pytest.mark.django_db


@pytest.fixture(autouse=True)
def _reference_data(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    monkeypatch.setattr(enrolment, "close_old_connections", lambda: None)  # the test's transaction is on it
    make_model()
    make_site("Hill", "Asia/Kolkata")
    Custodian.objects.create(name="north", email="n@example.com")
    PropertyDefinition.objects.create(key="crop", source="attribute", label="Crop", type="text")
    with clock.fixed(NOW):
        yield


def code(**draft: Any) -> str:
    return make_code(CodeDraft(**{"label": "c", **draft}), actor=None, now=NOW)[1]


def call(letters: str, uid: str = "NEW-1") -> dict[str, Any]:
    return enrol(msgspec.json.encode({"uid": uid, "model": "Sill 400", "code": letters}))


def refused(letters: str, uid: str = "NEW-1") -> str:
    with pytest.raises(ProtocolError) as caught:
        call(letters, uid)
    return caught.value.code


def test_a_device_is_in_its_groups_from_its_first_call() -> None:
    group = make_rule_group("Olives of the hill", "crop = olive and site = Hill and tag = fresh")
    letters = code(admit=True, tags=["Fresh"], attributes={"crop": "olive"}, site="Hill", custodian="north")

    assert call(letters)["admission"] == "admitted"
    process_changed_devices(now=NOW)

    device = Device.objects.get(uid="NEW-1")
    assert (device.tags, device.time_zone, str(device.custodian)) == (["fresh"], "Asia/Kolkata", "north")
    assert group.memberships.get().device == device


def test_a_device_goes_on_calling_its_model_by_the_name_that_it_had() -> None:
    letters = code(admit=True)
    model = DeviceModel.objects.get(name="Sill 400")
    change_object(MODELS, model, {"name": "Sill 4"}, actor=None, now=NOW)
    assert call(letters)["admission"] == "admitted"
    assert Device.objects.get(uid="NEW-1").model == model
    image = make_image(models=[DeviceModel.objects.get()])
    signed = msgspec.json.decode(jwt.api_jws.decode(image.signature, options={"verify_signature": False}))
    assert signed["models"] == ["Sill 4", "Sill 400"]


def attempts() -> dict[tuple[str, str], int]:
    return {(a.uid, a.cause): a.tries for a in EnrolmentAttempt.objects.all()}


def test_each_refusal_is_kept_with_its_cause_and_goes_when_the_device_is_in() -> None:
    letters = code(known_only=True)
    make_device(uid="HAS-ONE")
    make_device(uid="OLD", admission="retired")
    RemovedDevice.objects.create(uid="GONE", name="n", removed_at=NOW)
    for _ in range(2):
        assert refused(letters, "NEW-1") == "not-expected"
    assert [refused(letters, uid) for uid in ("HAS-ONE", "OLD", "GONE")] == ["enrolled", "retired", "removed"]
    assert refused("nothing", "NEW-2") == "bad-code"
    with pytest.raises(ProtocolError):
        enrol(msgspec.json.encode({"uid": "ODD", "model": "No such", "code": letters}), "192.0.2.7")
    assert attempts() == {
        ("NEW-1", "not-expected"): 2,
        ("HAS-ONE", "enrolled"): 1,
        ("OLD", "retired"): 1,
        ("GONE", "removed"): 1,
        ("NEW-2", "bad-code"): 1,
        ("ODD", "unknown-model"): 1,
    }
    odd = EnrolmentAttempt.objects.get(uid="ODD")
    assert (odd.address, odd.model) == ("192.0.2.7", "No such")
    call(code(label="open"), "NEW-1")
    assert ("NEW-1", "not-expected") not in attempts()


def test_of_many_refusals_the_newest_are_kept(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(enrolment, "MOST_ATTEMPTS", 3)
    for n in range(6):
        with clock.fixed(NOW + timedelta(minutes=n)):
            refused("nothing", f"U{n}")
    assert {uid for uid, _ in attempts()} == {"U3", "U4", "U5"}


def test_a_device_whose_secret_was_revoked_enrols_again_and_stays_what_it_is() -> None:
    device = make_device(name="Pump", tags=["lab"])
    letters = code(known_only=True, tags=["fresh"])
    assert refused(letters, device.uid) == "enrolled"
    revoke_secret(device, actor=None, now=NOW)
    assert call(letters, device.uid)["admission"] == "admitted"
    device.refresh_from_db()
    assert (device.name, device.tags, device.secret_hash is None) == ("Pump", ["lab"], False)


def test_a_code_is_used_as_often_as_it_may_be_and_until_it_expires() -> None:
    letters = code(tags=["x"], uses=2)
    assert [call(letters, f"U{n}")["admission"] for n in range(2)] == ["waiting", "waiting"]
    assert refused(letters, "U2") == "used-code"
    late = code(label="late", tags=["x"], expires_at=NOW + timedelta(hours=1))
    with clock.fixed(NOW + timedelta(hours=1)):
        assert refused(late, "U3") == "expired-code"
    assert call(late, "U3")


def test_a_refused_call_uses_nothing_up() -> None:
    letters = code(tags=["x"], uses=1)
    with pytest.raises(ProtocolError):
        enrol(msgspec.json.encode({"uid": "A", "model": "unknown", "code": letters}))
    assert call(letters, "A")


def test_a_code_for_announced_devices_takes_no_others() -> None:
    make_device(uid="KNOWN", secret_hash=None, admission="admitted")
    letters = code(tags=["x"], known_only=True)
    assert refused(letters, "STRANGER") == "not-expected"
    assert call(letters, "KNOWN")["admission"] == "admitted"


def test_a_revoked_code_opens_nothing_and_what_does_not_fit_is_refused() -> None:
    made, letters = make_code(CodeDraft(label="c", tags=["x"]), actor=None, now=NOW)
    with pytest.raises(Conflict):
        code(tags=["x"])
    with pytest.raises(Invalid):
        code(label="d", tags=["x"], expires_at=NOW)
    with pytest.raises(InvalidFields):
        code(label="e", site="Nowhere")
    revoke_code(made, actor=None, now=NOW)
    assert refused(letters) == "bad-code"


def test_the_letters_are_told_once() -> None:
    client = APIClient()
    client.force_authenticate(make_user("administrator"))
    made = client.post("/api/v1/enrolment-codes", {"label": "c", "site": "Hill", "uses": 3}, format="json").json()
    assert call(made["code"])["admission"] == "waiting"
    (row,) = client.get("/api/v1/enrolment-codes").json()
    assert "code" not in row and (row["uses_left"], row["site"]) == (2, "Hill")
    assert client.delete(f"/api/v1/enrolment-codes/{made['id']}").status_code == 204


def test_a_device_announced_by_its_serial_is_known_when_it_first_calls() -> None:
    waiting = make_device(uid="serial:S-9", name="serial:S-9", serial="S-9", secret_hash=None, tags=["lab"])
    letters = code(known_only=True)
    body = {"uid": "NEW-1", "model": "Sill 400", "serial": "S-9", "code": letters}

    assert enrol(msgspec.json.encode(body))["admission"] == "admitted"

    waiting.refresh_from_db()
    assert (waiting.uid, waiting.name, waiting.tags) == ("NEW-1", "NEW-1", ["lab"])
    with pytest.raises(ProtocolError) as again:
        enrol(msgspec.json.encode({**body, "uid": "NEW-2"}))
    assert again.value.code == "not-expected"


def test_a_new_device_gets_the_defaults_unless_its_code_says_otherwise() -> None:
    PropertyDefinition.objects.filter(key="crop").update(default="vine")
    call(code(label="plain"), "NEW-1")
    call(code(label="olives", attributes={"crop": "olive"}), "NEW-2")
    assert dict(Device.objects.values_list("uid", "attributes")) == {
        "NEW-1": {"crop": "vine"},
        "NEW-2": {"crop": "olive"},
    }
