"""Preview of a rule on 100,000 devices: count and first page, beside the same asked in hand-written SQL."""

import statistics
from datetime import UTC, datetime

from django.db import connection

from bench.results import emit, p95, times_ms
from bench.world import DEVICES, ensure_world
from herald.groups.services import preview_rule

COLUMNS = "d.id, d.uid, d.name, m.name, d.firmware, s.name, d.tags, d.last_check_in"
JOINS = "JOIN fleet_devicemodel m ON m.id = d.model_id LEFT JOIN fleet_site s ON s.id = d.site_id"
#: A rule, and its condition as one would write it by hand.
CASES = {
    "tags and version": (
        'model = "Sill 400" and tag any of (frost-zone, high-terrace) and firmware < 5.2.0',
        "d.model_id = (SELECT id FROM fleet_devicemodel WHERE name = 'Sill 400') "
        "AND d.tags && '{frost-zone,high-terrace}' AND d.firmware_key < 'KEY'",
    ),
    "facts": (
        "power = solar and battery < 40",
        "d.facts @> '{\"power\":\"solar\"}' AND jsonb_typeof(d.facts->'battery') = 'number' "
        "AND (d.facts->>'battery')::numeric < 40",
    ),
    "attributes": (
        "cost_centre any of (C-110, C-120) and crop = olive",
        "d.attributes->>'cost_centre' IN ('C-110','C-120') AND d.attributes @> '{\"crop\":\"olive\"}'",
    ),
    "text": ('name contains ill-01 and site = "Oxbow Flats"', "d.name ILIKE '%%ill-01%%' AND s.name = 'Oxbow Flats'"),
    "negation": (
        "not tag = lab and not family = Sill",
        "NOT d.tags @> '{lab}' AND m.family <> 'Sill'",
    ),
    "presence": (
        'presence = "on time" and admission = admitted',
        "d.admission = 'admitted' AND d.last_check_in >= now() - d.check_in_interval_seconds * interval '2 s'",
    ),
}


def run() -> None:
    """Each case, and all together."""
    from herald_core.versions import version_key

    ensure_world()
    everything: list[float] = []
    ratios: list[float] = []
    for name, (rule, condition) in CASES.items():
        where = condition.replace("KEY", version_key("5.2.0"))

        def by_hand(where: str = where) -> None:
            with connection.cursor() as cursor:
                cursor.execute(f"SELECT count(*) FROM fleet_device d {JOINS} WHERE {where}")
                cursor.fetchall()
                cursor.execute(f"SELECT {COLUMNS} FROM fleet_device d {JOINS} WHERE {where} ORDER BY d.name LIMIT 50")
                cursor.fetchall()
                cursor.execute("SELECT count(*) FROM fleet_device")

        ours = times_ms(lambda rule=rule: preview_rule(rule, limit=50, now=datetime.now(UTC)))
        hand = times_ms(by_hand)
        everything += ours
        ratio = statistics.median(ours) / statistics.median(hand)
        ratios.append(ratio)
        emit(
            "preview",
            f"{name}: count and first page of {DEVICES} devices",
            statistics.median(ours),
            "ms",
            beside=f"hand-written SQL, {statistics.median(hand):.1f} ms",
            ratio=ratio,
            target="ratio <= 1.5",
            met=ratio <= 1.5,
        )
    emit("preview", "all cases, p95", p95(everything), "ms", beside="", target="<= 150 ms", met=p95(everything) <= 150)
    worst = max(ratios)
    emit(
        "preview",
        "largest ratio",
        worst,
        "ratio",
        beside="hand-written SQL",
        ratio=worst,
        target="<= 1.5",
        met=worst <= 1.5,
    )
