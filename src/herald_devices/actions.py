"""What a simulated device does when it is told to: every action of the protocol, and some that its manufacturer named.

Devices differ and stay as they are: which ones fail at an action, answer oddly, or never answer, follows from their
uid.
"""

import random
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from herald_devices.manifest import Persona

#: seconds that an action takes, of the demo's time
SECONDS: Mapping[str, tuple[float, float]] = {
    "report": (1, 5),
    "logs": (5, 40),
    "health_check": (10, 90),
    "read": (1, 5),
    "clear_cache": (5, 60),
    "set_clock": (1, 5),
    "named": (5, 60),
}
#: what manufacturers named, by model
NAMED: Mapping[str, frozenset[str]] = {
    "Rill V2": frozenset({"exercise_valve"}),
    "Sill 400": frozenset({"rescan_radio"}),
    "Sill 400R": frozenset({"rescan_radio"}),
}
FAILS, NEVER_ANSWERS = 0.02, 0.006
_LEVELS = ("debug", "info", "warning", "error")
_LINES = (
    ("info", "check-in answered in {ms} ms"),
    ("info", "reading {n} stored, {k} waiting to be sent"),
    ("debug", "radio: {k} neighbours, noise {ms} dB under carrier"),
    ("warning", "uplink slow: {n} bytes in {ms} ms"),
    ("warning", "clock was {k} s behind and was set"),
    ("error", "sensor {k} did not answer within {ms} ms"),
)


@dataclass(frozen=True, kw_only=True)
class Done:
    """What came of an action: results, or an error word; `output` is text that is sent in pieces."""

    results: Mapping[str, Any] = field(default_factory=dict)
    error: str = ""
    error_text: str = ""
    output: str = ""


def is_mute(persona: Persona, action: str) -> bool:
    """Whether this device never says how this action ended."""
    return _nature(persona, action, "mute").random() < NEVER_ANSWERS


def act(persona: Persona, order: Mapping[str, Any], now: datetime) -> Done:
    """What comes of an order on this device."""
    action, given = order["action"], order.get("parameters") or {}
    rng = _nature(persona, action, "outcome")
    if action != "report" and rng.random() < FAILS:
        return Done(error="busy", error_text="was in the middle of something else and gave up waiting")
    if action == "report":
        return Done(results={"answer": "ok", "facts": len(persona.facts)})
    if action == "logs":
        return _logs(persona, given, now)
    if action == "health_check":
        return _health(rng, str(given.get("check", "all")))
    if action == "read":
        return _read(persona, rng, str(given.get("key", "")))
    if action == "clear_cache":
        return Done(results={"answer": "ok", "freed_mb": rng.randint(0, 240)})
    if action == "locate":
        return Done(results={"answer": "ok", "seconds": int(given.get("seconds", 60))})
    if action == "set_clock":
        return Done(results={"answer": round(rng.gauss(0, 1.5), 1), "unit": "s"})
    if action == "named" and order.get("action_name") in NAMED.get(persona.model, ()):
        return Done(results={"answer": rng.choices(("ok", "ok, was stiff", "did not move"), (90, 8, 2))[0]})
    name = order.get("action_name") or action
    return Done(error="unknown-action", error_text=f"this firmware does not know {name}")


def _nature(persona: Persona, *what: str) -> random.Random:
    return random.Random(" ".join((persona.uid, *what)))


def _health(rng: random.Random, check: str) -> Done:
    parts = ("storage", "network", "sensors") if check == "all" else (check,)
    found = {part: rng.choices(("ok", "stale", "worn"), (94, 5, 1))[0] for part in parts}
    worst = next((w for w in ("worn", "stale") if w in found.values()), "ok")
    lines = [f"{part}: {word}, looked at {rng.randint(3, 60)} values" for part, word in found.items()]
    return Done(results={"answer": worst, "parts": found, "output": "\n".join(lines)})


def _read(persona: Persona, rng: random.Random, key: str) -> Done:
    known = {
        **persona.facts,
        "firmware": persona.firmware,
        "hardware": persona.hardware,
        "uplink.apn": rng.choice(("field.larkfield", "field.larkfield", "field.larkfield", "legacy.larkfield")),
        "uplink.signal": rng.randint(-112, -60),
        "free_mb": rng.randint(40, 900),
    }
    if known.get(key) is None:
        return Done(error="unknown-key", error_text=f"has no value under {key}")
    return Done(results={"answer": known[key]})


def _logs(persona: Persona, given: Mapping[str, Any], now: datetime) -> Done:
    """A log of the last hours, a line every few minutes."""
    rng = random.Random(f"{persona.uid} {now:%Y%m%d%H}")
    least = _LEVELS.index(given.get("level", "info"))
    moment = now.astimezone(UTC) - timedelta(hours=int(given.get("hours", 24)))
    lines = [f"{moment:%Y-%m-%dT%H:%M:%SZ} info {persona.uid} firmware {persona.firmware}, boot "
             f"{persona.facts.get('boot_count', 0)}"]  # fmt: skip
    while moment < now:
        moment += timedelta(seconds=rng.randint(20, 400))
        level, text = rng.choices(_LINES, (40, 30, 15, 8, 4, 3))[0]
        if _LEVELS.index(level) >= least:
            words = text.format(ms=rng.randint(4, 900), n=rng.randint(1, 9000), k=rng.randint(1, 12))
            lines.append(f"{moment:%Y-%m-%dT%H:%M:%SZ} {level} {words}")
    return Done(results={"answer": "ok", "lines": len(lines)}, output="\n".join(lines) + "\n")
