"""The gateway over real HTTP: fetching, enrolling, bounds, and a database that goes away."""

import asyncio
import hashlib
from collections.abc import Iterator
from typing import Any

import jwt
import pytest
import uvicorn
from aiohttp import ClientSession
from asgiref.sync import async_to_sync
from django.db import OperationalError, connection

from herald.fleet.models import Device, EnrolmentCode
from herald.fleet.secrets import hash_secret
from herald.gateway import asgi, batch
from herald.gateway.messages import MAX_BODY_BYTES
from herald.images.models import Image
from herald.rollouts.engine.tick import tick_rollouts
from tests.factories import NOW, launched, make_device, make_draft, make_image, make_model, make_static

pytestmark = pytest.mark.django_db(transaction=True)
CONTENT = bytes(range(256)) * 40


@pytest.fixture(autouse=True)
def unsafe_is_fine(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    monkeypatch.setenv("DJANGO_ALLOW_ASYNC_UNSAFE", "1")
    monkeypatch.setattr(asgi, "batcher", batch.Batcher())
    yield
    with connection.cursor() as cursor:  # the gateway's threads keep theirs, which would hold the test database
        cursor.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
            "WHERE datname = current_database() AND pid <> pg_backend_pid()"
        )


def talk(story: Any) -> Any:
    """Run `story(session, url)` against the gateway on a socket of its own."""

    async def run() -> Any:
        server = uvicorn.Server(uvicorn.Config(asgi.app, port=0, log_level="warning"))
        task = asyncio.create_task(server.serve())
        while not server.started:
            await asyncio.sleep(0.01)
        port = server.servers[0].sockets[0].getsockname()[1]
        async with ClientSession() as session:
            result = await story(session, f"http://127.0.0.1:{port}/device/v1")
        server.should_exit = True
        await task
        return result

    return async_to_sync(run)()


def ordered(device: Device, **fields: Any) -> Image:
    """An image for which the device has an order in hand."""
    image = make_image(**fields)
    launched(make_draft(make_static(f"for {device.name}", [device]), image))
    tick_rollouts(now=NOW)
    return image


def secret(device: Device) -> dict[str, str]:
    return {"Authorization": f"Bearer secret-{device.uid}"}


@pytest.mark.parametrize(
    ("method", "path", "name"),
    [("GET", "images/" + "0" * 64, "files.find_file"), ("POST", "enrol", "enrol"), ("GET", "keys", "public_keys")],
)
def test_every_call_says_that_the_database_is_away(
    monkeypatch: pytest.MonkeyPatch, method: str, path: str, name: str
) -> None:
    def away(*_: Any) -> None:
        raise OperationalError("server closed the connection unexpectedly")

    monkeypatch.setattr(f"herald.gateway.asgi.{name}", away)

    async def story(session: ClientSession, url: str) -> None:
        async with session.request(method, f"{url}/{path}", json={}, headers={"Authorization": "Bearer x"}) as answer:
            assert (answer.status, answer.content_type) == (503, "application/problem+json")
            assert "Retry-After" in answer.headers
            assert (await answer.json())["type"].endswith(":unavailable")

    talk(story)


def test_a_file_comes_whole_in_parts_and_resumed() -> None:
    device = make_device()
    image = ordered(device, content=CONTENT)

    async def story(session: ClientSession, url: str) -> None:
        path = f"{url}/images/{image.sha256}"
        async with session.get(path, headers=secret(device)) as whole:
            data = await whole.read()
            assert (whole.status, whole.headers["ETag"]) == (200, f'"{image.sha256}"')
            assert hashlib.sha256(data).hexdigest() == image.sha256
        async with session.get(path, headers={**secret(device), "Range": "bytes=0-99"}) as cut:
            first = await cut.read()
            assert (cut.status, cut.headers["Content-Range"]) == (206, f"bytes 0-99/{len(CONTENT)}")
        async with session.get(path, headers={**secret(device), "Range": "bytes=100-"}) as rest:
            assert first + await rest.read() == CONTENT
        async with session.get(path, headers={**secret(device), "Range": "bytes=99999-"}) as beyond:
            assert beyond.status == 416
        async with session.get(path, headers={**secret(device), "Range": "lines=1-2"}) as odd:
            assert odd.status == 200
        async with session.head(path, headers=secret(device)) as head:
            assert (head.status, head.headers["Content-Length"]) == (200, str(len(CONTENT)))

    talk(story)


def test_files_are_for_known_devices_and_released_images_only() -> None:
    device, image = make_device(), make_image()
    Image.objects.update(status="new")

    async def story(session: ClientSession, url: str) -> list[int]:
        found = []
        for path, headers in (
            (f"images/{image.sha256}", secret(device)),
            (f"images/{image.sha256}", {}),
            (f"images/{image.sha256}", {"Authorization": "Bearer forged"}),
            ("images/..%2Fsigning-key.pem", secret(device)),
            ("nothing", {}),
        ):
            async with session.get(f"{url}/{path}", headers=headers) as response:
                assert response.headers["Content-Type"] == "application/problem+json"
                found.append(response.status)
        return found

    assert talk(story) == [404, 401, 401, 404, 404]


def test_a_check_in_is_stored_before_it_is_answered() -> None:
    device = make_device()

    async def story(session: ClientSession, url: str) -> None:
        async with session.post(f"{url}/check-in", headers=secret(device), json={"firmware": "7.0"}) as response:
            assert response.status == 200
            assert (await response.json())["next_check_in_seconds"] == 900

    talk(story)
    assert Device.objects.get(pk=device.pk).firmware == "7.0"


def test_bounds_and_bad_bodies_are_problem_details() -> None:
    device = make_device()

    async def story(session: ClientSession, url: str) -> list[int]:
        found = []
        for body in (b"{" + b" " * MAX_BODY_BYTES, b"{", b'{"facts": {"a": {}}}', b"\xff\xfe"):
            async with session.post(f"{url}/check-in", headers=secret(device), data=body) as response:
                assert response.headers["Content-Type"] == "application/problem+json"
                assert (await response.json())["detail"]
                found.append(response.status)
        async with session.post(f"{url}/check-in", json={}) as response:
            found.append(response.status)
        return found

    assert talk(story) == [413, 422, 422, 422, 401]


def test_too_many_devices_are_asked_to_slow_down(settings: Any) -> None:
    device = make_device()
    settings.GATEWAY_QUEUE = 0

    async def story(session: ClientSession, url: str) -> tuple[int, str]:
        async with session.post(f"{url}/check-in", headers=secret(device), json={}) as response:
            return response.status, response.headers["Retry-After"]

    assert talk(story) == (429, "30")


def test_a_poisoned_check_in_does_not_spoil_the_batch(monkeypatch: pytest.MonkeyPatch) -> None:
    good, bad = make_device(), make_device()
    real = batch.flush

    def flush(arrivals: Any, *, now: Any) -> Any:
        if any(a.secret_hash == hash_secret(f"secret-{bad.uid}") for a in arrivals):
            raise ValueError("a fault of ours")
        return real(arrivals, now=now)

    monkeypatch.setattr(batch, "flush", flush)

    async def story(session: ClientSession, url: str) -> list[int]:
        async def call(device: Device) -> int:
            async with session.post(f"{url}/check-in", headers=secret(device), json={}) as response:
                return response.status

        return list(await asyncio.gather(call(good), call(bad)))

    assert talk(story) == [200, 500]


def test_enrolling_gives_a_secret_once() -> None:
    make_model()
    EnrolmentCode.objects.create(label="c", code_hash=hash_secret("open sesame"), admit=True, tags=["new"])
    body = {"uid": "NEW-1", "model": "Sill 400", "serial": "S1", "code": "open sesame"}

    async def story(session: ClientSession, url: str) -> list[int]:
        statuses = []
        async with session.post(f"{url}/enrol", json=body) as response:
            answer = await response.json()
            assert answer["admission"] == "admitted"
        headers = {"Authorization": f"Bearer {answer['secret']}"}
        async with session.post(f"{url}/check-in", headers=headers, json={"firmware": "5.0"}) as response:
            statuses.append(response.status)
        for change in ({}, {"code": "wrong"}, {"uid": "NEW-2", "model": "?"}, {"uid": ""}):
            async with session.post(f"{url}/enrol", json={**body, **change}) as response:
                statuses.append(response.status)
        return statuses

    assert talk(story) == [200, 409, 401, 422, 422]
    device = Device.objects.get(uid="NEW-1")
    assert (device.tags, device.firmware) == (["new"], "5.0")
    assert device.secret_hash and len(device.secret_hash) == 64


def test_a_device_can_verify_the_signature_with_the_published_key() -> None:
    image = make_image(content=CONTENT)

    async def story(session: ClientSession, url: str) -> Any:
        async with session.get(f"{url}/keys") as response:
            return await response.json()

    keys = talk(story)["keys"]
    key = jwt.PyJWK(keys[0]).key
    assert image.sha256.encode() in jwt.api_jws.decode(image.signature, key, algorithms=["EdDSA"])
    head, payload, signature = image.signature.split(".")
    with pytest.raises(jwt.InvalidSignatureError):
        jwt.api_jws.decode(f"{head}.{payload[:-2]}AA.{signature}", key, algorithms=["EdDSA"])


def test_the_protocol_is_described() -> None:
    async def story(session: ClientSession, url: str) -> Any:
        async with session.get(f"{url}/schema") as response:
            return await response.json()

    document = talk(story)
    assert document["openapi"] == "3.1.0"
    assert set(document["paths"]) >= {"/device/v1/check-in", "/device/v1/enrol", "/device/v1/images/{sha256}"}


def test_a_file_comes_only_to_a_device_with_an_order_for_it() -> None:
    device, other = make_device(), make_device()
    image = ordered(device, content=CONTENT)

    async def story(session: ClientSession, url: str) -> list[int]:
        found = []
        for who in (device, other):
            async with session.get(f"{url}/images/{image.sha256}", headers=secret(who)) as answer:
                found.append(answer.status)
        return found

    assert talk(story) == [200, 404]


def test_ranges_and_conditions_are_as_rfc_9110_has_them() -> None:
    device = make_device()
    image = ordered(device, content=CONTENT)
    size, tag = len(CONTENT), f'"{image.sha256}"'
    wanted = [
        ({"Range": "bytes=-100"}, 206, f"bytes {size - 100}-{size - 1}/{size}"),
        ({"Range": f"bytes=-{size * 2}"}, 206, f"bytes 0-{size - 1}/{size}"),
        ({"Range": "bytes=5-2"}, 200, None),
        ({"Range": "bytes=-"}, 200, None),
        ({"Range": f"bytes={size}-"}, 416, f"bytes */{size}"),
        ({"Range": "bytes=-0"}, 416, f"bytes */{size}"),
        ({"Range": "bytes=0-9", "If-Range": tag}, 206, f"bytes 0-9/{size}"),
        ({"Range": "bytes=0-9", "If-Range": '"another"'}, 200, None),
        ({"Range": "bytes=0-9", "If-Range": f"W/{tag}"}, 200, None),
        ({"If-None-Match": tag}, 304, None),
        ({"If-None-Match": f'"x", W/{tag}'}, 304, None),
        ({"If-None-Match": "*"}, 304, None),
        ({"If-None-Match": '"x"'}, 200, None),
    ]

    async def story(session: ClientSession, url: str) -> None:
        for headers, status, content_range in wanted:
            async with session.get(f"{url}/images/{image.sha256}", headers={**secret(device), **headers}) as answer:
                await answer.read()
                assert (answer.status, answer.headers.get("Content-Range")) == (status, content_range), headers

    talk(story)


def test_a_body_nested_without_end_is_refused_before_anything_is_looked_up() -> None:
    make_device()
    deep = "[" * 30_000

    async def story(session: ClientSession, url: str) -> list[int]:
        found = []
        for path, body in (("check-in", deep), ("enrol", deep), ("check-in", '{"facts": ' + '{"a":' * 9000)):
            headers = {"Authorization": "Bearer x"}
            async with session.post(f"{url}/{path}", data=body, headers=headers) as answer:
                found.append(answer.status)
        return found

    assert talk(story) == [422, 422, 422]


def test_health_says_no_without_a_database(monkeypatch: pytest.MonkeyPatch) -> None:
    from django.db.utils import OperationalError

    def away(*args: Any, **kwargs: Any) -> None:
        raise OperationalError("away")

    async def story(session: ClientSession, url: str) -> tuple[int, bool]:
        async with session.get(f"{url}/health") as answer:
            return answer.status, (await answer.json())["ok"]

    assert talk(story) == (200, True)
    monkeypatch.setattr(batch, "beat", away)
    assert talk(story) == (503, False)


def test_a_batch_that_meets_a_deadlock_is_tried_once_more(monkeypatch: pytest.MonkeyPatch) -> None:
    from django.db.utils import OperationalError

    device, tries = make_device(), []
    whole = batch.flush

    def deadlock(*args: Any, **kwargs: Any) -> Any:
        tries.append(1)
        if len(tries) == 1:
            cause = Exception("deadlock detected")
            cause.sqlstate = "40P01"  # type: ignore[attr-defined]
            raise OperationalError("deadlock detected") from cause
        return whole(*args, **kwargs)

    monkeypatch.setattr(batch, "flush", deadlock)

    async def story(session: ClientSession, url: str) -> int:
        async with session.post(f"{url}/check-in", json={}, headers=secret(device)) as answer:
            return answer.status

    assert talk(story) == 200
    assert len(tries) == 2


def test_a_body_that_never_comes_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(asgi, "BODY_SECONDS", 0.05)

    async def story(session: ClientSession, url: str) -> bytes:
        host, port = url.split("/")[2].split(":")
        reader, writer = await asyncio.open_connection(host, int(port))
        writer.write(b"POST /device/v1/enrol HTTP/1.1\r\nHost: x\r\nContent-Length: 9\r\n\r\n")
        await writer.drain()
        line = await reader.readline()
        writer.close()
        return line

    assert b"408" in talk(story)
