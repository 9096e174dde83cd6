"""Figures of the whole installation for a monitoring system, read from the database as they are asked for.

The web server tells them together with its own counts, in the OpenMetrics or the older text format, as it is asked.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from typing import Any

from django.db.models import Count, QuerySet
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from prometheus_client import REGISTRY, CollectorRegistry
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.exposition import choose_encoder
from prometheus_client.registry import Collector
from rest_framework.negotiation import BaseContentNegotiation
from rest_framework.parsers import BaseParser
from rest_framework.renderers import BaseRenderer
from rest_framework.request import Request
from rest_framework.views import APIView

from herald.attention.models import Item
from herald.clock.heartbeat import heartbeats
from herald.deliveries.models import Delivery
from herald.fleet.models import Device, MembershipQueueEntry
from herald.notifications.models import Message, SendState
from herald.now.troubles import waiting_jobs
from herald.rollouts.models import Rollout
from herald.time import clock

TEXT = "text/plain"
OPENMETRICS = "application/openmetrics-text"


class Installation(Collector):
    """Gauges of the installation; each is one count of the database."""

    def collect(self) -> Iterator[Metric]:
        real = datetime.now(UTC)
        beats = heartbeats()
        yield _gauge(
            "herald_part_silent_seconds",
            "Since when a part has given no sign of life.",
            "part",
            ((name, (real - beat.beat_at).total_seconds()) for name, beat in beats.items()),
        )
        yield _gauge(
            "herald_part_turn_seconds",
            "How long the last turn of a part took.",
            "part",
            ((name, beat.seconds) for name, beat in beats.items()),
        )
        yield _gauge("herald_devices", "Devices.", "admission", _counts(Device.objects.all(), "admission"))
        yield _gauge(
            "herald_deliveries_in_hand",
            "Deliveries that devices are at.",
            "phase",
            _counts(Delivery.objects.in_hand(), "phase"),
        )
        yield _gauge(
            "herald_rollouts", "Rollouts that are not over.", "state", _counts(Rollout.objects.moving(), "state")
        )
        yield _gauge(
            "herald_attention_items", "Attention items that are open.", "kind", _counts(Item.objects.open(), "kind")
        )
        yield _one(
            "herald_changed_devices_waiting",
            "Devices whose groups are not yet up to date.",
            MembershipQueueEntry.objects.count,
        )
        yield _one("herald_jobs_waiting", "Jobs that no worker has taken up.", lambda: waiting_jobs(real).count())
        yield _one(
            "herald_messages_due",
            "Messages that should have gone out.",
            lambda: Message.objects.filter(state=SendState.WAITING, due_at__lte=clock.now()).count(),
        )
        yield _one("herald_time_speed", "How many times faster than life time passes.", lambda: clock.speed)


def _counts(found: "QuerySet[Any]", field: str) -> Iterable[tuple[str, float]]:
    rows: Sequence[tuple[str, int]] = list(found.order_by().values_list(field).annotate(count=Count("pk")))
    return rows


def _gauge(name: str, words: str, label: str, values: Iterable[tuple[str, float]]) -> GaugeMetricFamily:
    gauge = GaugeMetricFamily(name, words, labels=[label])
    for key, value in values:
        gauge.add_metric([key], value)
    return gauge


def _one(name: str, words: str, value: Callable[[], float]) -> GaugeMetricFamily:
    return GaugeMetricFamily(name, words, value=value())


installation = CollectorRegistry(auto_describe=False)
installation.register(Installation())


class AnyText(BaseContentNegotiation):
    """Whatever is accepted, the answer is text; the view chooses between its two forms."""

    def select_parser(self, request: Request, parsers: Iterable[BaseParser]) -> BaseParser:
        return next(iter(parsers))

    def select_renderer(
        self, request: Request, renderers: Iterable[BaseRenderer], format_suffix: str | None = None
    ) -> tuple[BaseRenderer, str]:
        first = next(iter(renderers))
        return first, first.media_type


class MetricsView(APIView):
    """Counts of this web server and figures of the installation, for a monitoring system with a token."""

    content_negotiation_class = AnyText

    @extend_schema(operation_id="metrics", responses={(200, kind): OpenApiTypes.STR for kind in (TEXT, OPENMETRICS)})
    def get(self, request: Request) -> HttpResponse:
        encode, content_type = choose_encoder(request.headers.get("Accept", ""))
        text = encode(REGISTRY) + encode(installation)
        if content_type.startswith(OPENMETRICS):
            text = text.replace(b"# EOF\n", b"", 1)  # both end with it; one end is left
        return HttpResponse(text, content_type=content_type)
