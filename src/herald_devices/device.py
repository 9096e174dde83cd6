"""One simulated device: it sleeps, calls, does what it is told, and sometimes fails."""

import asyncio
import random
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any, Protocol

from herald_devices.actions import SECONDS, act, is_mute
from herald_devices.link import BadImage, Retired, Unreachable
from herald_devices.manifest import Fault, Persona, strikes

RESTART_SECONDS = (30.0, 90.0)  # of the demo's time
MIN_SLEEP_SECONDS = 0.05  # of real time
RESEND_FACTS_EVERY = 20  # check-ins
#: how often whoever reads a notice puts the install off, where that is allowed, and for how long (of the demo's time)
PUT_OFF_CHANCE, PUT_OFF_SECONDS = 0.4, (600.0, 1800.0)


class Server(Protocol):
    """What a device needs of the server; `herald_devices.link.Gateway` is one."""

    async def check_in(self, secret: str, body: dict[str, Any]) -> dict[str, Any]: ...

    async def fetch(
        self,
        secret: str,
        order: dict[str, Any],
        rng: random.Random,
        *,
        slow: bool,
        spoil: bool,
        model: str,
        hardware: str,
        firmware: str | None,
        pause: Callable[[float], Awaitable[None]],
    ) -> None: ...

    async def send_output(self, secret: str, order_id: str, output: bytes) -> None: ...

    async def enrol(self, body: dict[str, Any]) -> dict[str, Any] | None: ...


class Storage(Protocol):
    """What a device needs to remember by; `herald_devices.memory.Memory` is one."""

    @property
    def remembered(self) -> Mapping[str, Mapping[str, Any]]: ...

    def keep(self, uid: str, **change: Any) -> None: ...


class Device:
    """Plays one device for ever. `speed` is how fast the demo's time passes."""

    def __init__(
        self, persona: Persona, faults: Sequence[Fault], gateway: Server, memory: Storage, speed: float
    ) -> None:
        self.persona = persona
        self._faults = faults
        self._gateway = gateway
        self._memory = memory
        self._speed = speed
        self._rng = random.Random(persona.uid)
        self._done: str = ""  # the order whose work is done, waiting for the server to agree
        self._final: dict[str, Any] = {}
        self._mute: str = ""  # the order of which it will never say how it ended
        self._facts_due = 0
        self._counter = 0
        self._kept = ""  # the hash of a file that was fetched ahead
        self._recall()

    def _recall(self) -> None:
        """What was remembered from before a loss of power."""
        kept = self._memory.remembered.get(self.persona.uid, {})
        self.persona.firmware = kept.get("firmware", self.persona.firmware)
        self._kept = kept.get("kept", "")
        self.persona.secret = kept.get("secret", self.persona.secret)
        if "boot_count" in kept:
            self.persona.facts["boot_count"] = kept["boot_count"]

    async def live(self) -> None:
        """Call now and then until retired."""
        if self.persona.silent:
            return
        await self._pause(self._rng.random() * self.persona.interval_seconds)
        while True:
            try:
                wait = await self._call()
            except Retired:
                return
            except Unreachable as trouble:
                await asyncio.sleep(trouble.wait * self._rng.uniform(0.5, 1.5))
                continue
            await self._pause(wait * self._rng.uniform(0.9, 1.1))

    async def _call(self) -> float:
        """One check-in and what follows from it; seconds until the next one."""
        answer = await self._say()
        while order := answer.get("order"):
            if order["id"] == self._done:
                answer = await self._say(**self._final)  # still waiting for the server to agree
                break
            if order["id"] == self._mute:
                break
            self._done = ""
            answer = await self._carry_out(order)
        if "order" not in answer:
            self._done, self._final = "", {}
        return float(answer["next_check_in_seconds"])

    async def _say(self, **report: Any) -> dict[str, Any]:
        """Check in, with a report if there is one."""
        # kept over restarts of this process, which are none of the device
        boot = str(self.persona.facts.get("boot_count", 0))
        body: dict[str, Any] = {"health": {"ok": True, "fault": ""}, "boot": boot}
        if self.persona.firmware is not None:
            body["firmware"] = self.persona.firmware
        self._facts_due -= 1
        if self._facts_due < 0:
            self._drift()
            body["facts"], self._facts_due = self.persona.facts, RESEND_FACTS_EVERY
        if report:
            # the counter grows over restarts too, so that an old report is never taken for a new one
            self._counter = max(self._counter + 1, time.time_ns() // 1_000_000)
            body["report"] = {"counter": self._counter, **report}
        answer = await self._gateway.check_in(self.persona.secret, body)
        if answer.get("report"):
            self._facts_due = 0
        return answer

    def _drift(self) -> None:
        """Facts change a little."""
        facts = self.persona.facts
        if "battery" in facts and self._rng.random() < 0.2:
            facts["battery"] = max(4, min(100, facts["battery"] + self._rng.choice((-1, 1))))

    async def _carry_out(self, order: dict[str, Any]) -> dict[str, Any]:
        until = self._time() + order["not_after_seconds"] / self._speed
        answer = await self._say(order=order["id"], phase="accepted")
        if not self._still(answer, order):
            return answer
        if order["kind"] == "command":
            return await self._command(order)
        return await self._install(order, until)

    def _still(self, answer: dict[str, Any], order: dict[str, Any]) -> bool:
        """Whether the server still wants this order done."""
        return bool(answer.get("order", {}).get("id") == order["id"])

    async def _finish(self, order: dict[str, Any], **report: Any) -> dict[str, Any]:
        """Report an end, and keep reporting it at later check-ins until the server agrees."""
        self._done, self._final = order["id"], {"order": order["id"], **report}
        while True:
            try:
                answer = await self._say(**self._final)
            except Unreachable as trouble:
                await asyncio.sleep(trouble.wait)
                continue
            return answer

    async def _install(self, order: dict[str, Any], until: float) -> dict[str, Any]:
        error = self._fault(order["version"], order["id"])
        slow = self.persona.facts.get("uplink") == "satellite"
        if self._kept != order["sha256"]:
            await self._say(order=order["id"], phase="fetching")
            try:
                await self._gateway.fetch(
                    self.persona.secret,
                    order,
                    self._rng,
                    slow=slow,
                    spoil=error == "bad-hash",
                    model=self.persona.model,
                    hardware=self.persona.hardware,
                    firmware=self.persona.firmware,
                    pause=self._pause,
                )
            except BadImage as bad:
                return await self._finish(order, phase="failed", error=bad.word, error_text=str(bad))
        if order.get("fetch_only"):
            self._keep_file(order["sha256"])
            return await self._finish(order, phase="staged", progress=100)
        answer = await self._say(order=order["id"], phase="staged", progress=100)
        if not self._still(answer, order):
            return answer
        if order.get("notice") and self.persona.shows_notices:
            answer = await self._show_notice(order, until)
            if self._done == order["id"] or not self._still(answer, order):
                return answer
        if self._time() > until:
            text = "the window closed before the file was here"
            return await self._finish(order, phase="failed", error="too-late", error_text=text)
        await self._say(order=order["id"], phase="installing")
        self._keep_file("")
        await self._pause(order["expected_minutes"] * 60 * self._rng.uniform(0.5, 1.2))
        if error in ("flash-verify", "boots-twice"):
            texts = {
                "flash-verify": "read back other bytes than were written",
                "boots-twice": "came up, fell over, came up on the old image",
            }
            return await self._finish(order, phase="failed", error=error, error_text=texts[error])
        if error != "returns-old":
            self._memory.keep(self.persona.uid, firmware=order["version"])
            self.persona.firmware = order["version"]
        return await self._finish(order, phase="confirming", progress=100)

    async def _show_notice(self, order: dict[str, Any], until: float) -> dict[str, Any]:
        """Show the notice, and wait where somebody puts the install off; the last answer."""
        report = {"order": order["id"], "phase": "staged", "progress": 100}
        answer = await self._say(**report, notice_shown=True)
        while self._still(answer, order) and answer["order"].get("may_defer") and self._rng.random() < PUT_OFF_CHANCE:
            await self._say(**report, deferred=True)
            await self._pause(self._rng.uniform(*PUT_OFF_SECONDS))
            if self._time() > until:
                text = "the hours ended while it was put off"
                return await self._finish(order, phase="failed", error="deferred", error_text=text)
            answer = await self._say(**report)
        return answer

    def _keep_file(self, sha256: str) -> None:
        """Keep the file of this hash for a later order, or none."""
        if self._kept != sha256:
            self._kept = sha256
            self._memory.keep(self.persona.uid, kept=sha256)

    async def _command(self, order: dict[str, Any]) -> dict[str, Any]:
        action = order["action"]
        if action == "restart":
            return await self._restart(order)
        answer = await self._say(order=order["id"], phase="running")
        if self._is_mute(action):
            self._mute = order["id"]  # it calls as before
        if self._mute == order["id"] or not self._still(answer, order):
            return answer
        if action == "re_enrol":
            return await self._enrol_again(order)
        if action == "report":
            self._facts_due = 0
        await self._pause(self._seconds_of(order))
        done = act(self.persona, order, datetime.now(UTC))
        if done.error:
            return await self._finish(order, phase="failed", error=done.error, error_text=done.error_text)
        if done.output:
            await self._gateway.send_output(self.persona.secret, order["id"], done.output.encode())
        return await self._finish(order, phase="done", progress=100, results=dict(done.results))

    def _is_mute(self, action: str) -> bool:
        return is_mute(self.persona, action)

    def _seconds_of(self, order: dict[str, Any]) -> float:
        if order["action"] == "locate":
            return float(order.get("parameters", {}).get("seconds", 60))
        return self._rng.uniform(*SECONDS.get(order["action"], (1.0, 5.0)))

    async def _enrol_again(self, order: dict[str, Any]) -> dict[str, Any]:
        """Show the code that came with the order; the old secret is forgotten once there is a new one."""
        body = {
            "uid": self.persona.uid,
            "model": self.persona.model,
            "hardware_revision": self.persona.hardware,
            "code": order["parameters"].get("code", ""),
        }
        taken = await self._gateway.enrol(body)
        if taken is None:
            text = "the server did not take the code; the old secret was kept"
            return await self._finish(order, phase="failed", error="bad-code", error_text=text)
        self._memory.keep(self.persona.uid, secret=taken["secret"])
        self.persona.secret = taken["secret"]
        return await self._finish(order, phase="done", progress=100, results={"answer": "ok"})

    async def _restart(self, order: dict[str, Any]) -> dict[str, Any]:
        """Go silent, come back, and say so."""
        await self._say(order=order["id"], phase="running")
        seconds = self._rng.uniform(*RESTART_SECONDS)
        boots = int(self.persona.facts.get("boot_count", 0)) + 1
        self._memory.keep(self.persona.uid, boot_count=boots)
        self.persona.facts["boot_count"], self._facts_due = boots, 0
        await self._pause(seconds)
        return await self._finish(
            order, phase="done", progress=100, results={"answer": "ok", "seconds": round(seconds), "boot_count": boots}
        )

    def _fault(self, version: str, order_id: str) -> str:
        """The error this attempt will end in; empty for none. The same device and version fail alike,
        but a later attempt may go well."""
        for fault in self._faults:
            if strikes(fault, self.persona, version):
                chance = random.Random(f"{self.persona.uid} {version} {fault.error} {order_id}").random()
                if chance < fault.chance:
                    return fault.error
        return ""

    def _time(self) -> float:
        """Seconds of the clock by which it sleeps."""
        return time.monotonic()

    async def _pause(self, seconds: float) -> None:
        """Sleep for so many seconds of the demo's time."""
        await asyncio.sleep(max(MIN_SLEEP_SECONDS, seconds / self._speed))
