"""A simulated device against a gateway played by the test: over real sockets, with real files."""

import asyncio
import hashlib
import json
import random
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import jwt
import pytest
from aiohttp import web
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from herald_devices import __main__ as fleet
from herald_devices.actions import act, is_mute
from herald_devices.device import Device
from herald_devices.link import CALLS_AT_ONCE, BadImage, Gateway, Retired, Unreachable, open_session, trusted
from herald_devices.manifest import Fault, Persona, load_manifest, strikes
from herald_devices.memory import Memory
from herald_devices.outages import Outages, Uplink

CONTENT = random.Random(1).randbytes(900_000)
SPEED = 100_000.0
NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
KEY = Ed25519PrivateKey.generate()
FITS = {"models": ["Sill 400"], "hardware_revisions": ["B"]}


def signed(payload: dict[str, Any], key: Ed25519PrivateKey = KEY) -> str:
    return jwt.api_jws.encode(json.dumps(payload).encode(), key, algorithm="EdDSA", headers={"kid": "k"})


PLAIN = {"version": "5.2.1", "size": len(CONTENT), "sha256": hashlib.sha256(CONTENT).hexdigest()}


def install(**change: Any) -> dict[str, Any]:
    """An order to install CONTENT as 5.2.1."""
    order = {"id": "7.1", "kind": "install", "not_after_seconds": 10**9, "expected_minutes": 10, **PLAIN}
    return {**order, "jws": signed({**PLAIN, **FITS}), **change}


def command(action: str, **parameters: Any) -> dict[str, Any]:
    """An order to carry out an action."""
    return {"id": "9.1", "kind": "command", "action": action, "parameters": parameters, "not_after_seconds": 600}


def persona(**change: Any) -> Persona:
    fields: dict[str, Any] = {
        "uid": "LG-1",
        "secret": "s3cret",
        "model": "Sill 400",
        "hardware": "B",
        "firmware": "5.1.4",
        "site": "Here",
        "interval_seconds": 600,
        "facts": {"uplink": "ethernet", "boot_count": 7},
        "silent": False,
    }
    return Persona(**{**fields, **change})


class FakeGateway:
    """Gives one order until it is done, and keeps all that was said."""

    def __init__(self, order: dict[str, Any] | None = None) -> None:
        self.order = order
        self.said: list[dict[str, Any]] = []
        self.fetched: list[str] = []
        self.output = b""
        self.lose_next_piece = False
        self.secret = "s3cret"
        self.statuses: list[int] = []
        self.cut_after: int | None = None
        self.closes_on: Callable[[dict[str, Any]], bool] = lambda report: (
            report["phase"]
            in (
                "failed",
                "done",
                "confirming",
            )
        )

    @property
    def phases(self) -> list[str]:
        return [s["report"]["phase"] for s in self.said if "report" in s]

    async def check_in(self, request: web.Request) -> web.StreamResponse:
        if self.statuses:
            return web.Response(status=self.statuses.pop(0), headers={"Retry-After": "0"})
        assert request.headers["Authorization"] == f"Bearer {self.secret}"
        body = await request.json()
        self.said.append(body)
        if self.order and "report" in body and self.closes_on(body["report"]):
            self.order = None
        answer: dict[str, Any] = {"admission": "admitted", "next_check_in_seconds": 600}
        return web.json_response(answer | ({"order": self.order} if self.order else {}))

    async def image(self, request: web.Request) -> web.StreamResponse:
        self.fetched.append(request.headers.get("Range", ""))
        start, end = (int(x) for x in request.headers["Range"].removeprefix("bytes=").split("-"))
        data = CONTENT[start : end + 1]
        response = web.StreamResponse(status=206, headers={"Content-Length": str(len(data))})
        await response.prepare(request)
        if self.cut_after is not None:
            await response.write(data[: self.cut_after])
            self.cut_after = None
            assert request.transport is not None
            request.transport.abort()  # the link breaks
            return response
        await response.write(data)
        return response

    async def take_output(self, request: web.Request) -> web.Response:
        offset, piece = int(request.headers["Upload-Offset"]), await request.read()
        if offset == len(self.output):
            self.output += piece
        if self.lose_next_piece:
            self.lose_next_piece = False
            assert request.transport is not None
            request.transport.abort()  # it was taken, and the answer is lost
        return web.json_response({"offset": len(self.output), "cut": False})

    async def enrol(self, request: web.Request) -> web.Response:
        if (await request.json())["code"] != "valid":
            return web.json_response({}, status=401)
        self.secret = "new"
        return web.json_response({"admission": "admitted", "secret": "new", "keys": []})

    async def keys(self, request: web.Request) -> web.Response:
        jwk = json.loads(jwt.algorithms.OKPAlgorithm.to_jwk(KEY.public_key()))
        return web.json_response({"keys": [{**jwk, "kid": "k", "alg": "EdDSA"}]})


def play(fake: FakeGateway, act: Callable[[Gateway], Any]) -> Any:
    """Run `act` with a link to the fake gateway."""

    async def run() -> Any:
        app = web.Application()
        app.router.add_post("/device/v1/check-in", fake.check_in)
        app.router.add_get("/device/v1/images/{sha}", fake.image)
        app.router.add_get("/device/v1/keys", fake.keys)
        app.router.add_patch("/device/v1/orders/{order}/output", fake.take_output)
        app.router.add_post("/device/v1/enrol", fake.enrol)
        runner = web.AppRunner(app)
        await runner.setup()
        await web.TCPSite(runner, "127.0.0.1", 0).start()
        port = runner.addresses[0][1]
        async with open_session() as session:
            try:
                return await act(Gateway(f"http://127.0.0.1:{port}", session))
            finally:
                await runner.cleanup()

    return asyncio.run(run())


def one_call(fake: FakeGateway, who: Persona, folder: Path, faults: tuple[Fault, ...] = ()) -> Device:
    """The device calls once, and does what follows from it."""

    async def act(gateway: Gateway) -> Device:
        device = Device(who, faults, gateway, Memory(folder / "memory.jsonl"), SPEED)
        await device._call()
        return device

    found: Device = play(fake, act)
    return found


def test_an_install_goes_through_every_phase_and_is_remembered(tmp_path: Path) -> None:
    fake = FakeGateway(install())
    device = one_call(fake, persona(), tmp_path)
    assert fake.phases == ["accepted", "fetching", "staged", "installing", "confirming"]
    assert fake.said[-1]["firmware"] == "5.2.1"
    assert device.persona.firmware == "5.2.1"
    assert Memory(tmp_path / "memory.jsonl").remembered["LG-1"]["firmware"] == "5.2.1"
    counters = [s["report"]["counter"] for s in fake.said if "report" in s]
    assert counters == sorted(set(counters))


def test_a_file_fetched_ahead_is_kept_over_a_loss_of_power_and_not_fetched_again(tmp_path: Path) -> None:
    fake = FakeGateway(install(fetch_only=True))
    fake.closes_on = lambda report: report["phase"] == "staged"
    device = one_call(fake, persona(), tmp_path)
    assert fake.phases == ["accepted", "fetching", "staged"] and len(fake.fetched) == 1
    assert device.persona.firmware == "5.1.4"
    then = FakeGateway(install(id="7.2"))
    assert one_call(then, persona(), tmp_path).persona.firmware == "5.2.1"
    assert then.phases == ["accepted", "staged", "installing", "confirming"] and then.fetched == []
    other = FakeGateway(install(id="8.1"))
    one_call(other, persona(firmware="5.1.4"), tmp_path)
    assert len(other.fetched) == 1  # it was used up


class Impatient(random.Random):
    """Puts off whatever may be put off."""

    def random(self) -> float:
        return 0.0


@pytest.mark.parametrize(
    ("may_defer", "shows", "told"),
    [
        (False, True, ["notice_shown"]),
        (True, True, ["notice_shown", "deferred", "deferred"]),
        (True, False, []),
    ],
)
def test_a_notice_is_shown_and_put_off_as_long_as_the_server_says_so(
    tmp_path: Path, may_defer: bool, shows: bool, told: list[str]
) -> None:
    fake = FakeGateway(install(notice="Valves stay shut.", may_defer=may_defer))

    def count(report: dict[str, Any]) -> bool:
        if fake.order and len([s for s in fake.said if s.get("report", {}).get("deferred")]) == 2:
            fake.order = {**fake.order, "may_defer": False}
        return bool(report["phase"] == "confirming")

    fake.closes_on = count

    async def one(gateway: Gateway) -> None:
        device = Device(persona(shows_notices=shows), (), gateway, Memory(tmp_path / "memory.jsonl"), SPEED)
        device._rng = Impatient()
        await device._call()

    play(fake, one)
    reports = [s["report"] for s in fake.said if "report" in s]
    assert [w for r in reports for w in ("notice_shown", "deferred") if r.get(w)] == told
    assert fake.phases[-1] == "confirming"
    assert fake.phases.index("staged") < fake.phases.index("installing")


def test_an_install_put_off_beyond_its_hours_is_given_back(tmp_path: Path) -> None:
    fake = FakeGateway(install(notice="Valves stay shut.", may_defer=True, not_after_seconds=60))

    async def one(gateway: Gateway) -> None:
        device = Device(persona(), (), gateway, Memory(tmp_path / "memory.jsonl"), 1000.0)
        device._rng = Impatient()
        await device._call()

    play(fake, one)
    last = fake.said[-1]["report"]
    assert (last["phase"], last["error"]) == ("failed", "deferred")
    assert "installing" not in fake.phases


def test_a_device_that_lost_power_comes_back_on_what_it_had(tmp_path: Path) -> None:
    one_call(FakeGateway(install()), persona(), tmp_path)
    fake = FakeGateway()
    again = one_call(fake, persona(), tmp_path)
    assert again.persona.firmware == "5.2.1"
    assert fake.said[0]["firmware"] == "5.2.1"


def test_a_broken_link_is_resumed_where_it_broke(tmp_path: Path) -> None:
    fake = FakeGateway(install())
    fake.cut_after = 300_000
    one_call(fake, persona(), tmp_path)
    assert fake.phases[-1] == "confirming"
    assert len(fake.fetched) == 2
    resumed = int(fake.fetched[1].removeprefix("bytes=").split("-")[0])
    assert 0 < resumed <= 300_000


def test_a_poor_link_fetches_in_parts(tmp_path: Path) -> None:
    fake = FakeGateway(install())
    one_call(fake, persona(facts={"uplink": "satellite"}), tmp_path)
    assert len(fake.fetched) >= 3
    assert fake.phases[-1] == "confirming"


@pytest.mark.parametrize(
    ("change", "word"),
    [
        ({"sha256": "0" * 64}, "bad-hash"),
        ({"size": len(CONTENT) - 1}, "bad-hash"),
        ({"jws": signed({"version": "9", "size": 1, "sha256": "x"})}, "bad-signature"),
        ({"jws": signed({"version": "5.2.1"}, Ed25519PrivateKey.generate())}, "bad-signature"),
        ({"version": "6.6.6"}, "bad-signature"),
        ({"jws": "no.jws"}, "bad-signature"),
        ({"jws": signed({**PLAIN, "models": ["Drum P7"], "hardware_revisions": []})}, "wrong-model"),
        ({"jws": signed({**PLAIN, "models": ["Sill 400"], "hardware_revisions": ["A"]})}, "wrong-model"),
        ({"jws": signed(PLAIN)}, "wrong-model"),
    ],
)
def test_what_is_not_what_was_announced_is_not_installed(tmp_path: Path, change: dict[str, Any], word: str) -> None:
    fake = FakeGateway(install(**change))
    device = one_call(fake, persona(), tmp_path)
    assert fake.phases == ["accepted", "fetching", "failed"]
    assert fake.said[-1]["report"]["error"] == word
    assert device.persona.firmware == "5.1.4"


@pytest.mark.parametrize(
    ("leave", "firmware"),
    [
        ({}, "6.0.0"),
        ({"downgrade": signed({"rollout": 4, "version": "5.2.1", "not_after": "2026-12-01T00:00:00+00:00"})}, "5.2.1"),
        ({"downgrade": signed({"rollout": 4, "version": "5.0.0"})}, "6.0.0"),
        ({"downgrade": signed({"version": "5.2.1"}, Ed25519PrivateKey.generate())}, "6.0.0"),
    ],
)
def test_a_device_goes_down_to_an_older_version_only_with_signed_leave(
    tmp_path: Path, leave: dict[str, Any], firmware: str
) -> None:
    fake = FakeGateway(install(**leave))
    device = one_call(fake, persona(firmware="6.0.0"), tmp_path)
    assert device.persona.firmware == firmware
    assert (fake.said[-1]["report"].get("error") is None) == (firmware == "5.2.1")


def jwk(key: Ed25519PrivateKey, kid: str, by: Ed25519PrivateKey | None = None, by_kid: str = "") -> dict[str, Any]:
    public = {**json.loads(jwt.algorithms.OKPAlgorithm.to_jwk(key.public_key())), "kid": kid, "alg": "EdDSA"}
    if by is None:
        return public
    data = json.dumps({"kid": kid, "x": public["x"]}).encode()
    return {**public, "endorsement": jwt.api_jws.encode(data, by, algorithm="EdDSA", headers={"kid": by_kid})}


def test_a_new_key_is_trusted_only_where_a_trusted_one_signed_it() -> None:
    one, two, three, other = (Ed25519PrivateKey.generate() for _ in range(4))
    first = trusted({}, [jwk(one, "1")])
    assert set(first) == {"1"}
    chain = [jwk(three, "3", two, "2"), jwk(two, "2", one, "1"), jwk(one, "1")]
    assert set(trusted(first, chain)) == {"1", "2", "3"}
    assert set(trusted(first, chain[:2])) == {"2", "3"}  # the first was revoked since
    assert set(trusted(first, [jwk(other, "x"), jwk(one, "1")])) == {"1"}
    assert set(trusted(first, [jwk(other, "x", other, "x"), jwk(other, "y", other, "1")])) == set()
    swapped = {**jwk(other, "2"), "endorsement": jwk(two, "2", one, "1")["endorsement"]}
    assert set(trusted(first, [swapped, jwk(one, "1")])) == {"1"}


@pytest.mark.parametrize(
    ("error", "phases", "firmware"),
    [
        ("flash-verify", "failed", "5.1.4"),
        ("boots-twice", "failed", "5.1.4"),
        ("returns-old", "confirming", "5.1.4"),
        ("bad-hash", "failed", "5.1.4"),
    ],
)
def test_faults_strike_as_the_manifest_says(tmp_path: Path, error: str, phases: str, firmware: str) -> None:
    fake = FakeGateway(install())
    device = one_call(fake, persona(), tmp_path, (Fault(version="5.2.1", chance=1.0, error=error),))
    assert fake.phases[-1] == phases
    assert device.persona.firmware == firmware
    assert fake.said[-1]["firmware"] == firmware


def test_faults_strike_only_those_that_fit() -> None:
    fault = Fault(version="5.2.1", chance=1, error="x", uplink="satellite", below="5.1.0", hardware="B")
    fits = persona(facts={"uplink": "satellite"}, firmware="5.0.9")
    assert strikes(fault, fits, "5.2.1")
    assert not strikes(fault, fits, "5.2.2")
    assert not strikes(fault, persona(firmware="5.0.9"), "5.2.1")
    assert not strikes(fault, persona(facts={"uplink": "satellite"}, firmware="5.1.0"), "5.2.1")
    assert not strikes(fault, persona(facts={"uplink": "satellite"}, firmware=None), "5.2.1")
    assert not strikes(fault, persona(facts={"uplink": "satellite"}, firmware="5.0", hardware="A"), "5.2.1")


def test_an_order_past_its_time_is_not_begun(tmp_path: Path) -> None:
    fake = FakeGateway(install(not_after_seconds=0))
    device = one_call(fake, persona(), tmp_path)
    assert (fake.phases[-1], fake.said[-1]["report"]["error"]) == ("failed", "too-late")
    assert device.persona.firmware == "5.1.4"


def test_an_order_taken_back_while_fetching_is_dropped(tmp_path: Path) -> None:
    fake = FakeGateway(install())
    fake.closes_on = lambda report: report["phase"] == "staged"
    device = one_call(fake, persona(), tmp_path)
    assert fake.phases == ["accepted", "fetching", "staged"]
    assert device.persona.firmware == "5.1.4"


def test_a_restart_goes_silent_and_says_how_long(tmp_path: Path) -> None:
    fake = FakeGateway(command("restart"))
    device = one_call(fake, persona(), tmp_path)
    assert fake.phases == ["accepted", "running", "done"]
    results = fake.said[-1]["report"]["results"]
    assert results["answer"] == "ok" and 30 <= results["seconds"] <= 90
    assert device.persona.facts["boot_count"] == results["boot_count"] == 8


def found_by(wanted: Callable[[Persona], bool]) -> Persona:
    """The first made-up device of which this is true."""
    return next(who for who in (persona(uid=f"LG-{n}") for n in range(5_000)) if wanted(who))


def well_behaved(action: str) -> Persona:
    return found_by(lambda who: not is_mute(who, action) and not act(who, command(action, key="uplink"), NOON).error)


@pytest.mark.parametrize(
    ("action", "parameters"),
    [
        ("report", {}),
        ("health_check", {"check": "all"}),
        ("read", {"key": "uplink"}),
        ("clear_cache", {"cache": "all"}),
        ("locate", {"seconds": 5}),
        ("set_clock", {"source": "server"}),
    ],
)
def test_every_action_is_carried_out_and_answered(tmp_path: Path, action: str, parameters: dict[str, Any]) -> None:
    fake = FakeGateway(command(action, **parameters))
    one_call(fake, well_behaved(action), tmp_path)
    assert fake.phases == ["accepted", "running", "done"]
    assert fake.said[-1]["report"]["results"]["answer"] is not None
    if action == "report":
        assert "facts" in fake.said[-1]


def test_a_log_comes_whole_also_where_an_answer_is_lost(tmp_path: Path) -> None:
    fake = FakeGateway(command("logs", hours=168, level="debug"))
    fake.lose_next_piece = True
    who = well_behaved("logs")
    one_call(fake, who, tmp_path)
    lines = fake.output.decode().splitlines()
    assert fake.said[-1]["report"]["results"]["lines"] == len(lines) > 1000
    assert len(fake.output) > 48_000 and who.uid in lines[0]
    only_errors = act(who, command("logs", hours=168, level="error"), NOON).output.splitlines()
    assert all(" error " in line for line in only_errors[1:])


def test_what_a_device_does_not_know_fails_with_its_word(tmp_path: Path) -> None:
    unknown = {"read": "unknown-key", "named": "unknown-action"}
    for action, word in unknown.items():
        fake = FakeGateway({**command(action, key="nothing"), "action_name": "fly"})
        one_call(fake, well_behaved("read"), tmp_path)
        assert fake.said[-1]["report"]["error"] in (word, "busy")
    exercise = {**command("named"), "action_name": "exercise_valve"}
    outcomes = [act(persona(model="Rill V2", uid=f"LG-{n}"), exercise, NOON) for n in range(200)]
    assert {o.error for o in outcomes} == {"", "busy"}
    assert len({o.results["answer"] for o in outcomes if not o.error}) > 1  # answers vary


def test_some_never_say_how_it_ended_and_call_as_before(tmp_path: Path) -> None:
    fake = FakeGateway(command("read", key="uplink"))
    mute = found_by(lambda who: is_mute(who, "read"))

    async def calls(gateway: Gateway) -> None:
        device = Device(mute, (), gateway, Memory(tmp_path / "m"), SPEED)
        for _ in range(3):
            await device._call()

    play(fake, calls)
    assert fake.phases == ["accepted", "running"] and len(fake.said) == 5


def test_a_device_enrols_again_and_forgets_its_secret_only_then(tmp_path: Path) -> None:
    who = found_by(lambda who: not is_mute(who, "re_enrol"))
    refused = FakeGateway(command("re_enrol", code="wrong"))
    assert one_call(refused, who, tmp_path).persona.secret == "s3cret"
    assert refused.said[-1]["report"]["error"] == "bad-code"
    fake = FakeGateway(command("re_enrol", code="valid"))
    one_call(fake, who, tmp_path)
    assert fake.phases[-1] == "done"
    again = FakeGateway()
    again.secret = "new"
    one_call(again, persona(uid=who.uid), tmp_path)  # it is remembered over a loss of power
    assert len(again.said) == 1


def test_a_finished_order_is_reported_again_until_the_server_agrees(tmp_path: Path) -> None:
    fake = FakeGateway(install())
    fake.closes_on = lambda report: fake.phases.count("confirming") >= 3

    async def act(gateway: Gateway) -> None:
        device = Device(persona(), (), gateway, Memory(tmp_path / "m"), SPEED)
        for _ in range(3):
            await device._call()

    play(fake, act)
    assert fake.phases.count("confirming") >= 3
    assert fake.phases.count("installing") == 1  # it is not installed again


def test_a_busy_server_is_given_time_and_a_retired_device_is_quiet(tmp_path: Path) -> None:
    async def act(gateway: Gateway) -> None:
        device = Device(persona(), (), gateway, Memory(tmp_path / "m"), SPEED)
        with pytest.raises(Unreachable):
            await device._call()
        with pytest.raises(Retired):
            await device._call()
        await device._call()

    fake = FakeGateway()
    fake.statuses = [429, 410]
    play(fake, act)
    assert len(fake.said) == 1


def test_a_silent_device_never_calls(tmp_path: Path) -> None:
    async def act(gateway: Gateway) -> None:
        await Device(persona(silent=True), (), gateway, Memory(tmp_path / "m"), SPEED).live()

    fake = FakeGateway()
    play(fake, act)
    assert fake.said == []


def test_a_server_that_is_not_there_is_unreachable() -> None:
    async def act(gateway: Gateway) -> None:
        await Gateway("http://127.0.0.1:9", gateway._session).check_in("s", {})

    with pytest.raises(Unreachable):
        play(FakeGateway(), act)


class Crowded(FakeGateway):
    """Holds the first calls until as many as may are there, and answers 503 to half of them."""

    def __init__(self) -> None:
        super().__init__()
        self.here = self.most = self.answered = 0
        self.full = asyncio.Event()

    async def check_in(self, request: web.Request) -> web.StreamResponse:
        self.here += 1
        self.most = max(self.most, self.here)
        if self.here == CALLS_AT_ONCE:
            self.full.set()
        await self.full.wait()
        self.here -= 1
        self.answered += 1
        if self.answered % 2:
            return web.Response(status=503, headers={"Retry-After": "0"})
        return await super().check_in(request)


def test_more_devices_than_connections_all_get_their_turn_whatever_the_server_answers() -> None:
    fake = Crowded()

    async def act(gateway: Gateway) -> list[Any]:
        calls = [gateway.check_in("s3cret", {}) for _ in range(3 * CALLS_AT_ONCE)]
        outcomes = await asyncio.gather(*calls, return_exceptions=True)
        return [gateway.in_hand, gateway.ended, sum(isinstance(o, Unreachable) for o in outcomes)]

    assert play(fake, act) == [0, 3 * CALLS_AT_ONCE, 3 * CALLS_AT_ONCE // 2]
    assert fake.most == CALLS_AT_ONCE


class Calls:
    """The counters of a link, as the watch reads them; `ended` grows at each look where `moving`."""

    def __init__(self, in_hand: int, *, moving: bool) -> None:
        self.in_hand, self.moving, self.looked = in_hand, moving, 0

    @property
    def ended(self) -> int:
        self.looked += 1
        return self.looked if self.moving else 0


@pytest.mark.parametrize(
    ("in_hand", "moving", "ends"), [(3, False, True), (3, True, False), (0, False, False), (0, True, False)]
)
def test_a_fleet_whose_calls_stand_still_notices(
    monkeypatch: pytest.MonkeyPatch, in_hand: int, moving: bool, ends: bool
) -> None:
    monkeypatch.setattr(fleet, "LOOK_SECONDS", 0.0)
    calls = Calls(in_hand, moving=moving)

    async def watched() -> None:
        watch = asyncio.ensure_future(fleet._notice_standstill(calls))  # type: ignore[arg-type]
        while not watch.done() and calls.looked < 10 * fleet.MOST_LOOKS:
            await asyncio.sleep(0)
        watch.cancel()
        await watch

    with pytest.raises(fleet.Standstill if ends else asyncio.CancelledError):
        asyncio.run(watched())


def test_a_size_that_does_not_fit_is_a_bad_image() -> None:
    async def act(gateway: Gateway) -> None:
        async def pause(seconds: float) -> None:
            await asyncio.sleep(0)

        order = install(size=100)
        who: dict[str, Any] = {"model": "Sill 400", "hardware": "B", "firmware": "5.1.4"}
        await gateway.fetch("s", order, random.Random(1), slow=False, spoil=False, pause=pause, **who)

    with pytest.raises(BadImage):
        play(FakeGateway(), act)


def test_memory_survives_a_line_cut_short_by_a_kill(tmp_path: Path) -> None:
    path = tmp_path / "memory.jsonl"
    Memory(path).keep("a", firmware="1")
    with path.open("a") as file:
        file.write('{"uid": "b", "firm')
    again = Memory(path)
    assert again.remembered == {"a": {"firmware": "1"}}
    again.keep("c", firmware="3")
    assert Memory(path).remembered["c"] == {"firmware": "3"}


def test_the_manifest_is_read(tmp_path: Path) -> None:
    path = tmp_path / "fleet.json"
    device = persona().__dict__
    path.write_text(json.dumps({"devices": [device], "faults": [{"version": "1", "chance": 0.5, "error": "x"}]}))
    personas, faults = load_manifest(path)
    assert personas[0].uid == "LG-1"
    assert faults[0].chance == 0.5


class _Answers:
    """A server that answers everything, and counts."""

    def __init__(self) -> None:
        self.calls: list[str] = []

    async def check_in(self, secret: str, body: dict[str, Any]) -> dict[str, Any]:
        self.calls.append("check_in")
        return {}

    async def fetch(self, secret: str, order: dict[str, Any], rng: random.Random, **_: Any) -> None:
        self.calls.append("fetch")

    async def send_output(self, secret: str, order_id: str, output: bytes) -> None:
        self.calls.append("send_output")

    async def enrol(self, body: dict[str, Any]) -> dict[str, Any] | None:
        self.calls.append("enrol")
        return None


@pytest.mark.parametrize("cut", [True, False])
def test_nothing_gets_through_from_a_site_that_is_cut_off(tmp_path: Path, cut: bool) -> None:
    file = tmp_path / "outages.json"
    file.write_text(json.dumps({"Here": time.time() + (60 if cut else -1), "There": time.time() + 60}))
    server = _Answers()
    line = Uplink(server, "Here", Outages(file))
    rng = random.Random(1)

    async def pause(seconds: float) -> None: ...

    calls: dict[str, Callable[[], Any]] = {
        "check_in": lambda: line.check_in("s", {}),
        "fetch": lambda: line.fetch(
            "s", {}, rng, slow=False, spoil=False, model="m", hardware="B", firmware=None, pause=pause
        ),
        "send_output": lambda: line.send_output("s", "7.1", b"x"),
        "enrol": lambda: line.enrol({}),
    }
    for call in calls.values():
        if cut:
            with pytest.raises(Unreachable):
                asyncio.run(call())
        else:
            asyncio.run(call())
    assert server.calls == ([] if cut else list(calls))


def test_a_file_of_outages_that_is_missing_or_half_written_cuts_nobody_off(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("herald_devices.outages.LOOK_SECONDS", 0.0)
    file = tmp_path / "outages.json"
    outages = Outages(file)
    assert not outages.is_cut("Here")
    file.write_text(json.dumps({"Here": time.time() + 60}))
    assert outages.is_cut("Here")
    file.write_text('{"Here": 17')
    assert outages.is_cut("Here")  # what was known holds
    file.unlink()
    assert not outages.is_cut("Here")
