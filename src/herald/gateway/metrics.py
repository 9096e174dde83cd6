"""The gateway's counts for a monitoring system, at `/metrics` of its own port, without the database."""

from collections.abc import Iterator

from prometheus_client import CollectorRegistry, generate_latest
from prometheus_client.core import CounterMetricFamily, Metric
from prometheus_client.exposition import CONTENT_TYPE_LATEST
from prometheus_client.registry import Collector

from herald.gateway.flush import counters

METRICS_TYPE = CONTENT_TYPE_LATEST.encode()
_WORDS = {
    "check_ins": "Check-ins that were stored and answered.",
    "unknown_devices": "Check-ins of devices that are not known.",
    "ignored_reports": "Reports that were old, repeated or about another attempt.",
}


class _Counts(Collector):
    def collect(self) -> Iterator[Metric]:
        for name, count in vars(counters).items():
            yield CounterMetricFamily(f"herald_gateway_{name}", _WORDS[name], value=count)


_registry = CollectorRegistry(auto_describe=False)
_registry.register(_Counts())


def told_metrics() -> bytes:
    """The counts, in the text format."""
    return generate_latest(_registry)
