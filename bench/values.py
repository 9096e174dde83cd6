"""Looking around 100,000 devices: the sieve, values that exist, a grid, why one device is in."""

from datetime import UTC, datetime

from bench.results import emit, p95, times_ms
from bench.world import DEVICES, ensure_world
from herald.find.queries import grid_of
from herald.fleet.models import Device
from herald.fleet.vocabulary import load_vocabulary
from herald.groups.rule_queries import matching
from herald.groups.rules import read_rule
from herald.groups.services import explain_rule
from herald.groups.sieve import compute_sieve
from herald.groups.values import value_counts

EIGHT = (
    'model = "Sill 400" and tag any of (frost-zone, high-terrace) and firmware < 5.2.0 and battery > 20 '
    'and site != "Oxbow Flats" and not tag = lab and presence = "on time" and uplink = cellular'
)


def run() -> None:
    """Each beside one count of the same rule, or by itself."""
    ensure_world()
    now = datetime.now(UTC)
    vocabulary = load_vocabulary()
    rule = matching(read_rule(EIGHT, vocabulary), vocabulary, now)
    count = p95(times_ms(rule.count, 9))
    sieve = p95(times_ms(lambda: compute_sieve(EIGHT, limit=0, now=now), 9))
    emit(
        "values",
        f"sieve of eight lines on {DEVICES} devices, p95",
        sieve,
        "ms",
        beside=f"one count of the rule, {count:.0f} ms",
        ratio=sieve / count,
        target="<= 3 x one count",
        met=sieve <= 3 * count,
    )
    for key in ("model", "tag", "uplink", "crop", "presence"):
        spec = vocabulary.fields[key]
        value = p95(times_ms(lambda spec=spec: value_counts(spec, now=now), 9))
        emit("values", f"values of {key}, p95", value, "ms", beside="", target="<= 100 ms", met=value <= 100)
    site, firmware = vocabulary.fields["site"], vocabulary.fields["firmware"]
    grid = p95(times_ms(lambda: grid_of(Device.objects.all(), site, firmware, now=now), 9))
    emit("values", "grid of site by firmware, p95", grid, "ms", beside="", target="<= 150 ms", met=grid <= 150)
    device = Device.objects.order_by("?")[0]
    why = p95(times_ms(lambda: explain_rule(EIGHT, device, now=now), 20))
    emit("values", "why one device is in, p95", why, "ms", beside="", target="<= 20 ms", met=why <= 20)
