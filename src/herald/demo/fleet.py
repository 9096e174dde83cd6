"""Making the demo's devices: always the same ones for the same number."""

import hashlib
import hmac
import random
from datetime import date, datetime, timedelta
from typing import Any

from herald.demo.scenario import CUSTODIANS, ESTATES, LIMITS, LINES, RELEASES, SEED, Estate, Line
from herald.fleet.models import Custodian, Device, DeviceModel, Site
from herald.fleet.secrets import hash_secret
from herald_core.capabilities import Capability
from herald_core.versions import version_key, version_key_or_none
from herald_devices.manifest import Persona

_SECRET_KEY = b"larkfield growers' cooperative, demo devices only"
#: One in so many devices is odd in some way.
SILENT_EVERY, NO_FIRMWARE_EVERY, LOW_BATTERY_EVERY, WAITING_EVERY, FULL_EVERY = 78, 128, 29, 173, 140


def secret_of(uid: str) -> str:
    """The demo device's secret. Real devices get random ones when they enrol."""
    return hmac.new(_SECRET_KEY, uid.encode(), hashlib.sha256).hexdigest()


def make_devices(count: int, now: datetime) -> tuple[list[Device], list[Persona]]:
    """`count` devices as rows, and as the fleet process plays them."""
    rng = random.Random(SEED)
    models = {m.name: m for m in DeviceModel.objects.all()}
    sites = {s.name: s for s in Site.objects.all()}
    custodians = {c.name: c for c in Custodian.objects.all()}
    numbers: dict[str, int] = {}
    rows, simulated = [], []
    estates = rng.choices(ESTATES, [e.share for e in ESTATES], k=count)
    for index, estate in enumerate(estates):
        line = rng.choices(LINES, [x.share for x in LINES])[0]
        numbers[line.family] = numbers.get(line.family, 0) + 1
        name = f"{line.family.lower()}-{numbers[line.family]:04d}"
        row, sim = _make(rng, index, name, estate, line, now)
        row.model, row.site = models[line.model], sites[estate.name]
        row.custodian = custodians[_custodian(rng, line)]
        rows.append(row)
        simulated.append(sim)
    return rows, simulated


def _make(
    rng: random.Random, index: int, name: str, estate: Estate, line: Line, now: datetime
) -> tuple[Device, Persona]:
    uid = f"LG-{rng.getrandbits(40):010X}"
    firmware = None if index % NO_FIRMWARE_EVERY == 7 else _firmware(rng, line)
    silent, waiting = index % SILENT_EVERY == 11, index % WAITING_EVERY == 5
    facts = _facts(rng, index, estate, line)
    bootloader = rng.choice(("1.0.0", "1.1.0", "1.2.0-rc.2", "1.2.0"))
    called = now - (
        timedelta(days=rng.uniform(2, 20)) if silent else timedelta(seconds=rng.uniform(5, line.interval_seconds))
    )
    secret = secret_of(uid)
    hardware = rng.choices(line.revisions, (2, 5, 3))[0]
    device = Device(
        uid=uid,
        name=name,
        serial=f"{line.model[:1]}{rng.randrange(10**8):08d}",
        hardware_revision=hardware,
        firmware=firmware,
        firmware_key=version_key_or_none(firmware),
        time_zone=estate.zone,
        tags=_tags(rng, line),
        attributes=_attributes(rng, line, bootloader, now.date()),
        version_keys={"bootloader": version_key(bootloader)},
        facts=facts,
        admission="waiting" if waiting else "admitted",
        check_in_interval_seconds=line.interval_seconds,
        last_check_in=called,
        first_seen=now - timedelta(days=rng.uniform(60, 900)),
        secret_hash=hash_secret(secret),
    )
    device.facts_since = _facts_since(device)
    return device, Persona(
        uid=uid,
        secret=secret,
        model=line.model,
        hardware=hardware,
        firmware=firmware,
        site=estate.name,
        interval_seconds=line.interval_seconds,
        facts=facts,
        silent=silent,
        shows_notices=(line.model, Capability.NOTICE, None) not in LIMITS,
    )


def _firmware(rng: random.Random, line: Line) -> str:
    releases = [r for r in RELEASES if r.family == line.family and r.share]
    return rng.choices([r.version for r in releases], [r.share for r in releases])[0]


def _facts(rng: random.Random, index: int, estate: Estate, line: Line) -> dict[str, Any]:
    power = rng.choices([p for p, _ in line.power], [w for _, w in line.power])[0]
    uplink = rng.choices([u for u, _ in estate.uplinks], [w for _, w in estate.uplinks])[0]
    facts: dict[str, Any] = {
        "power": power,
        "uplink": uplink,
        "free_space_mb": rng.randrange(4, 28) if index % FULL_EVERY == 3 else rng.randrange(64, 900),
        "boot_count": rng.randrange(2, 400),
    }
    if power != "mains":
        facts["battery"] = rng.randrange(5, 20) if index % LOW_BATTERY_EVERY == 4 else rng.randrange(28, 100)
    if uplink != "ethernet":
        facts["signal_dbm"] = -rng.randrange(55, 112)
    return facts


def _facts_since(device: Device) -> dict[str, str]:
    """What a device was built with since it was first seen; what drifts, since its last call."""
    built = device.first_seen or device.last_check_in
    drifting = device.last_check_in or built
    moments = {k: built if k in ("power", "uplink") else drifting for k in device.facts}
    return {k: at.isoformat() for k, at in moments.items() if at is not None}


def _tags(rng: random.Random, line: Line) -> list[str]:
    tags = set()
    if line.family in ("Sill", "Vane") and rng.random() < 0.24:
        tags.add("frost_zone" if rng.random() < 0.02 else "frost-zone")
    for tag, share in (("high-terrace", 0.08), ("flood-risk", 0.06), ("pilot", 0.02), ("lab", 0.006), ("spare", 0.01)):
        if rng.random() < share:
            tags.add(tag)
    if line.family == "Rill" and rng.random() < 0.45:
        tags.add("night-irrigation")
    return sorted(tags)


def _attributes(rng: random.Random, line: Line, bootloader: str, today: date) -> dict[str, Any]:
    attributes: dict[str, Any] = {
        "cost_centre": rng.choice(("C-110", "C-120", "C-130", "C-210", "C-300")),
        "block": f"{rng.choice('ABCDEFGH')}{rng.randrange(1, 30)}",
        "mounting": rng.choice(("pole", "wall", "pit", "cabinet")),
        "commissioned_on": (today - timedelta(days=rng.randrange(60, 2200))).isoformat(),
        "bootloader": bootloader,
    }
    if rng.random() < 0.8:
        attributes["crop"] = rng.choice(("almond", "apricot", "barley", "grape", "olive", "tomato"))
    if rng.random() < 0.9:
        attributes["maintenance_class"] = rng.randrange(1, 5)
    if rng.random() < 0.3:
        attributes["leased"] = rng.random() < 0.5
    return attributes


def _custodian(rng: random.Random, line: Line) -> str:
    fixed = {"Rill": "irrigation", "Drum": "irrigation", "Lumen": "greenhouses", "Vane": "weather-desk"}
    return fixed.get(line.family) or rng.choice([c[0] for c in CUSTODIANS[:2]])
