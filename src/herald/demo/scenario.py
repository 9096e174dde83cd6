"""Larkfield Growers' Cooperative: the made-up fleet of the demo, as plain data."""

from dataclasses import dataclass
from datetime import time

from herald_core.capabilities import Capability
from herald_devices.manifest import Fault

DEVICES = 2431
SEED = 20_261
PASSWORD = "larkfield-demo"


@dataclass(frozen=True, kw_only=True)
class Account:
    email: str
    name: str
    role: str
    time_zone: str = "Europe/Lisbon"
    #: what they are limited to, by name; neither is nothing
    folders: tuple[str, ...] = ()
    sites: tuple[str, ...] = ()


ACCOUNTS = (
    Account(email="engineer@larkfield.example", name="M. Okafor", role="operator"),
    Account(email="approver@larkfield.example", name="T. Brandt", role="approver"),
    Account(email="admin@larkfield.example", name="R. Nasser", role="administrator"),
    Account(email="reader@larkfield.example", name="S. Iyer", role="viewer", time_zone="Asia/Kolkata"),
    Account(
        email="crew@larkfield.example",
        name="L. Duarte",
        role="operator",
        folders=("Hand-picked",),
        sites=("Amber Fold",),
    ),
)


#: of what the demo's rules tell people, by kinds of attention items
URGENT_KINDS = ("halted", "stuck", "approval", "stopped-part", "fleet-silent", "site-silent", "quarantined")
DAILY_KINDS = ("silent", "low-battery", "awaiting-admission", "late-joiners", "missed")


@dataclass(frozen=True, kw_only=True)
class Estate:
    name: str
    region: str
    zone: str
    share: int
    uplinks: tuple[tuple[str, int], ...]
    transfers: int


ESTATES = (
    Estate(
        name="Amber Fold",
        region="South",
        zone="Australia/Adelaide",
        share=388,
        uplinks=(("cellular", 9), ("ethernet", 1)),
        transfers=40,
    ),
    Estate(
        name="Juniper Shelf",
        region="East",
        zone="Asia/Kolkata",
        share=291,
        uplinks=(("cellular", 6), ("ethernet", 4)),
        transfers=40,
    ),
    Estate(
        name="Kestrel Rise",
        region="Middle",
        zone="Africa/Nairobi",
        share=402,
        uplinks=(("ethernet", 9), ("cellular", 1)),
        transfers=80,
    ),
    Estate(
        name="Marrow Bay",
        region="West",
        zone="Europe/Lisbon",
        share=236,
        uplinks=(("satellite", 6), ("cellular", 4)),
        transfers=26,
    ),
    Estate(
        name="Oxbow Flats",
        region="Far west",
        zone="America/Santiago",
        share=621,
        uplinks=(("cellular", 8), ("satellite", 2)),
        transfers=60,
    ),
    Estate(
        name="Thistle Bank", region="West", zone="Europe/Lisbon", share=493, uplinks=(("cellular", 1),), transfers=60
    ),
)


@dataclass(frozen=True, kw_only=True)
class Line:
    """A model: its share of the fleet, how often it calls, and its hardware revisions."""

    model: str
    family: str
    share: int
    interval_seconds: int
    revisions: tuple[str, ...] = ("A", "B", "C")
    power: tuple[tuple[str, int], ...] = (("mains", 1),)


LINES = (
    Line(model="Sill 400", family="Sill", share=25, interval_seconds=600, power=(("mains", 7), ("solar", 3))),
    Line(model="Sill 400R", family="Sill", share=8, interval_seconds=600, power=(("mains", 5), ("solar", 5))),
    Line(model="Sill 380", family="Sill", share=5, interval_seconds=900, power=(("solar", 9), ("battery", 1))),
    Line(model="Rill V2", family="Rill", share=15, interval_seconds=900, power=(("mains", 6), ("solar", 4))),
    Line(model="Rill V3", family="Rill", share=14, interval_seconds=900, power=(("mains", 8), ("solar", 2))),
    Line(model="Drum P7", family="Drum", share=9, interval_seconds=900),
    Line(model="Vane M1", family="Vane", share=7, interval_seconds=1200, power=(("solar", 1),)),
    Line(model="Lumen G5", family="Lumen", share=9, interval_seconds=600),
    Line(model="Burrow S1", family="Burrow", share=8, interval_seconds=1800, power=(("battery", 1),)),
)


@dataclass(frozen=True, kw_only=True)
class Release:
    """An image. `share` is how much of its models' fleet ran it eight weeks ago."""

    family: str
    version: str
    share: int
    models: tuple[str, ...] = ()
    revisions: tuple[str, ...] = ()
    min_version: str = ""
    minutes: int = 8
    soak: int = 0
    space_mb: float | None = 32
    battery_pct: float | None = 25
    status: str = "approved"
    notes: str = ""
    days_ago: int = 30


RELEASES = (
    Release(family="Sill", version="4.2.0", share=0, days_ago=1300, notes="Nobody runs it any more."),
    Release(family="Sill", version="4.6.0", share=1, days_ago=900, notes="First of the 4 line still in the field."),
    Release(family="Sill", version="4.8.0", share=6, days_ago=640),
    Release(family="Sill", version="4.9.2", share=9, days_ago=420, min_version="4.6.0"),
    Release(
        family="Sill",
        version="5.0.1",
        share=16,
        days_ago=300,
        min_version="4.8.0",
        minutes=14,
        notes="Stepping stone: moves the settings store. Older ones must pass it.",
    ),
    Release(family="Sill", version="5.1.0", share=22, days_ago=180, min_version="5.0.0"),
    Release(family="Sill", version="5.1.4", share=46, days_ago=70, min_version="5.0.0"),
    Release(
        family="Sill",
        version="5.2.0",
        share=0,
        days_ago=20,
        min_version="5.0.0",
        notes="Faster joining of the mesh.",
    ),
    Release(
        family="Sill",
        version="5.2.1",
        share=0,
        days_ago=6,
        min_version="5.0.0",
        minutes=10,
        notes="Frost alarms react within a second.",
    ),
    Release(family="Rill", version="2.5.0", share=8, days_ago=500),
    Release(family="Rill", version="2.6.1", share=24, days_ago=260),
    Release(family="Rill", version="2.7.0", share=20, days_ago=150, min_version="2.5.0"),
    Release(family="Rill", version="2.7.3", share=48, days_ago=60, min_version="2.5.0"),
    Release(
        family="Rill",
        version="2.8.0",
        share=0,
        days_ago=9,
        min_version="2.6.0",
        revisions=("B", "C"),
        notes="Only for hardware revisions B and C.",
    ),
    Release(family="Drum", version="3.0.2", share=30, days_ago=330),
    Release(family="Drum", version="3.0.3", share=70, days_ago=120, min_version="3.0.0"),
    Release(
        family="Drum", version="3.0.4", share=0, days_ago=12, min_version="3.0.0", minutes=6, notes="New flash driver."
    ),
    Release(family="Drum", version="3.1.0", share=0, days_ago=3, min_version="3.0.0", status="new"),
    Release(family="Vane", version="1.12.0", share=100, days_ago=400),
    Release(family="Vane", version="1.13.0", share=0, days_ago=40),
    Release(family="Vane", version="1.14.0", share=0, days_ago=15, min_version="1.12.0"),
    Release(family="Vane", version="1.15.0-rc.1", share=0, days_ago=4, min_version="1.13.0", status="new"),
    Release(family="Lumen", version="7.1.0", share=15, days_ago=350),
    Release(family="Lumen", version="7.2.0", share=25, days_ago=210),
    Release(family="Lumen", version="7.2.5", share=60, days_ago=90),
    Release(family="Lumen", version="7.3.0", share=0, days_ago=8, min_version="7.1.0", minutes=6),
    Release(family="Burrow", version="0.8.0", share=10, days_ago=380),
    Release(family="Burrow", version="0.9.0", share=35, days_ago=220),
    Release(family="Burrow", version="0.9.4", share=55, days_ago=100),
    Release(family="Burrow", version="0.10.0", share=0, days_ago=10, min_version="0.9.0", battery_pct=35),
)

#: What not every firmware can: model, function, from version (none for no firmware at all).
LIMITS = (
    ("Burrow S1", Capability.NOTICE, None),
    ("Vane M1", Capability.NOTICE, None),
    ("Sill 400", Capability.FILES_AHEAD, "4.8.0"),
    ("Sill 400R", Capability.FILES_AHEAD, "4.8.0"),
    ("Rill V2", Capability.FILES_AHEAD, "2.6.0"),
    ("Rill V2", Capability.RESTART, "2.6.0"),
)

#: How simulated devices fail: of those that fit, this share, with this word. The fleet process alone
#: knows them; the server must find out.
FAULTS = (
    Fault(version="3.0.4", chance=0.7, error="flash-verify"),
    Fault(version="5.2.1", uplink="satellite", below="5.1.0", chance=0.4, error="bad-hash"),
    Fault(version="5.2.1", chance=0.004, error="returns-old"),
    Fault(version="2.8.0", hardware="B", chance=0.03, error="boots-twice"),
    Fault(version="7.3.0", chance=0.01, error="returns-old"),
    Fault(version="1.14.0", chance=0.005, error="flash-verify"),
    Fault(version="2.7.3", chance=0.005, error="flash-verify"),
)

TAGS = (
    ("frost-zone", "Sites where frost alarms matter", 1),
    ("high-terrace", "Above the second wall", 2),
    ("night-irrigation", "Waters between 22:00 and 04:00", 3),
    ("lab", "On the bench", 4),
    ("spare", "In a box", 5),
    ("pilot", "First to get anything", 6),
    ("flood-risk", "Below the flood line", 7),
    ("frost_zone", "", 0),
)

CUSTODIANS = (
    ("north-agronomy", "north@larkfield.example", ("agronomy", "on-call")),
    ("south-agronomy", "south@larkfield.example", ("agronomy",)),
    ("irrigation", "water@larkfield.example", ("water", "on-call")),
    ("greenhouses", "glass@larkfield.example", ("indoors",)),
    ("weather-desk", "weather@larkfield.example", ("data",)),
    ("workshop", "workshop@larkfield.example", ("repair",)),
)

ATTRIBUTES = (
    {
        "key": "cost_centre",
        "label": "Cost centre",
        "type": "choice",
        "choices": ["C-110", "C-120", "C-130", "C-210", "C-300"],
    },
    {"key": "block", "label": "Block", "type": "text", "note": "Field block, as on the estate map"},
    {
        "key": "crop",
        "label": "Crop",
        "type": "choice",
        "choices": ["almond", "apricot", "barley", "grape", "olive", "tomato"],
    },
    {"key": "mounting", "label": "Mounting", "type": "choice", "choices": ["pole", "wall", "pit", "cabinet"]},
    {"key": "commissioned_on", "label": "Commissioned on", "type": "date"},
    {"key": "maintenance_class", "label": "Maintenance class", "type": "number", "note": "1 is looked at monthly"},
    {"key": "leased", "label": "Leased", "type": "yes/no"},
    {"key": "bootloader", "label": "Bootloader", "type": "version"},
)

FACTS = (
    {"key": "battery", "label": "Battery", "type": "number", "unit": "%"},
    {"key": "power", "label": "Power", "type": "text"},
    {"key": "uplink", "label": "Uplink", "type": "text"},
    {"key": "free_space_mb", "label": "Free space", "type": "number", "unit": "MB"},
    {"key": "signal_dbm", "label": "Signal", "type": "number", "unit": "dBm"},
    {"key": "boot_count", "label": "Boots", "type": "number"},
)

#: Folder, name, rule, note.
#: Each with the folder it is in; none is at the top.
FOLDERS = (
    ("Estates", ""),
    ("Field hardware", ""),
    ("Needs a look", "Field hardware"),
    ("Hand-picked", ""),
    ("People", ""),
    ("Update pace", ""),
)
RULE_GROUPS = (
    *(("Estates", e.name, f'site = "{e.name}"', f"Everything at {e.name}.") for e in ESTATES),
    ("Field hardware", "Field gateways", "family = Sill", "All gateways of the Sill family."),
    ("Field hardware", "Valve controllers", "family = Rill", ""),
    ("Field hardware", "Pump drives", "family = Drum", ""),
    ("Field hardware", "Weather masts", "family = Vane", ""),
    ("Field hardware", "Greenhouse controllers", "family = Lumen", ""),
    ("Field hardware", "Soil probe hubs", "family = Burrow", ""),
    (
        "Needs a look",
        "Frost-zone gateways behind 5.2",
        'model = "Sill 400"\nand tag any of (frost-zone, high-terrace)\nand firmware < 5.2.0\n'
        'and not group = "Bench and spares"',
        "Gateways that still miss the fast frost alarm.",
    ),
    ("Needs a look", "Solar, below 30% charge", "power = solar and battery < 30", ""),
    ("Field hardware", "Satellite uplinks", "uplink = satellite", "Slow and capped: keep downloads apart."),
    (
        "Field hardware",
        "Gateways on time",
        'group = "Field gateways" and presence = "on time"',
        "Follows presence, minute by minute.",
    ),
    ("People", "On-call custodians", "custodian_tag = on-call", ""),
    ("People", "Agronomy", "custodian_tag = agronomy", ""),
)
STATIC_GROUPS = (
    ("Hand-picked", "Bench and spares", 41, "Never part of a rollout unless named."),
    ("Hand-picked", "Field-day pilot", 12, "Shown to visitors; keep them tidy."),
    ("Hand-picked", "Board demo", 8, ""),
)
#: Groups of one family exclude each other.
PACES = ("Pace: early", "Pace: normal", "Pace: late")

RESTART_AT = time(5, 30)
CHECK_AT = time(2, 30)
