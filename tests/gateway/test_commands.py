"""Commands as devices meet them: the order, what it gave in pieces over HTTP, and enrolling again by order."""

from collections.abc import Iterator
from typing import Any

import msgspec
import pytest
from aiohttp import ClientSession
from django.db import connection

from herald.catalog.codes import CodeDraft, make_code
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import CommandTemplate, Output, When
from herald.commands.outputs import text_of
from herald.commands.turn import turn_schedules
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.fleet.secrets import hash_secret
from herald.gateway import asgi, batch
from herald.gateway.enrolment import enrol
from herald.gateway.messages import ProtocolError
from herald.time import clock
from tests.factories import NOW, make_device
from tests.gateway.test_calls import secret, talk
from tests.gateway.test_flush import answer_to, said

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def unsafe_is_fine(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    monkeypatch.setenv("DJANGO_ALLOW_ASYNC_UNSAFE", "1")
    monkeypatch.setattr(asgi, "batcher", batch.Batcher())
    with clock.fixed(NOW):
        yield
    with connection.cursor() as cursor:  # the gateway's threads keep theirs, which would hold the test database
        cursor.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
            "WHERE datname = current_database() AND pid <> pg_backend_pid()"
        )


def ordered(device: Device, key: str, **fields: Any) -> Delivery:
    """The device has a command on offer."""
    draft = ScheduleDraft(
        template=CommandTemplate.objects.get(key=key),
        devices=[device.pk],
        when=When.NOW,
        spread_minutes=0,
        reason="Because",
        **fields,
    )
    create_schedule(draft, actor=None, now=NOW)
    turn_schedules(now=NOW)
    found: Delivery = Delivery.objects.in_hand().get(device=device)
    return found


def test_the_order_says_the_action_and_its_parameters() -> None:
    device = make_device()
    ordered(device, "logs", parameters={"hours": 3})
    order = msgspec.to_builtins(answer_to(device))["order"]
    assert order["kind"] == "command" and order["action"] == "logs"
    assert order["parameters"] == {"hours": 3, "level": "info"}


def test_an_output_comes_in_pieces_of_the_device_that_has_the_order() -> None:
    device, other = make_device(), make_device()
    delivery = ordered(device, "logs")
    order = f"{delivery.pk}.1"

    async def send(session: ClientSession, url: str, offset: str, data: bytes, **more: Any) -> tuple[int, Any]:
        headers = {**more.pop("who", secret(device)), "Upload-Offset": offset}
        path = f"{url}/orders/{more.pop('order', order)}/output"
        async with session.patch(path, data=data, headers=headers) as answer:
            return answer.status, (await answer.json()).get("offset")

    async def story(session: ClientSession, url: str) -> list[tuple[int, Any]]:
        return [
            await send(session, url, "0", b"one\n"),
            await send(session, url, "0", b"one\n"),  # lost on the way back, sent again
            await send(session, url, "9", b"beyond"),
            await send(session, url, "4", b"two\n"),
            await send(session, url, "x", b"two\n"),
            await send(session, url, "8", b"x", who=secret(other)),
            await send(session, url, "8", b"x", who={"Authorization": "Bearer forged"}),
            await send(session, url, "8", b"x", who={}),
            await send(session, url, "8", b"x", order="nothing"),
            await send(session, url, "8", b"x", order=f"{delivery.pk}.7"),
            await send(session, url, "8", b"x" * (64 * 1024 + 1)),
        ]

    found = talk(story)
    assert found[:4] == [(200, 4), (200, 4), (409, 4), (200, 8)]
    assert [status for status, _ in found[4:]] == [422, 404, 404, 401, 422, 404, 413]
    assert text_of(Output.objects.get()) == "one\ntwo\n"
    answer_to(device, report=said(delivery, "done", 1, results={"answer": "ok"}))
    assert talk(lambda s, u: send(s, u, "8", b"late"))[0] == 404  # the order is over


def test_only_a_device_that_was_told_to_may_enrol_again() -> None:
    letters = make_code(CodeDraft(label="c", admit=True), actor=None, now=NOW)[1]
    device = make_device()
    body = msgspec.json.encode({"uid": device.uid, "model": device.model.name, "code": letters})
    with pytest.raises(ProtocolError, match="has a secret already"):
        enrol(body)
    delivery = ordered(device, "re-enrol", parameters={"code": letters})
    assert enrol(body)["admission"] == "admitted"  # the answer is lost, so it asks again
    new = enrol(body)["secret"]
    device.refresh_from_db()
    assert device.secret_hash == hash_secret(new)
    done = said(delivery, "done", 1, results={"answer": "ok"})
    Device.objects.filter(pk=device.pk).update(secret_hash=hash_secret(f"secret-{device.uid}"))
    answer_to(device, report=done)
    with pytest.raises(ProtocolError, match="has a secret already"):
        enrol(body)
