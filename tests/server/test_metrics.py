"""Figures for a monitoring system, and the id of each request."""

import re
from typing import Any

import pytest
import structlog
from prometheus_client.openmetrics import parser as openmetrics
from prometheus_client.parser import text_string_to_metric_families
from rest_framework.test import APIClient
from structlog.contextvars import merge_contextvars
from structlog.testing import capture_logs

from herald.attention.models import ItemKind
from herald.attention.services import open_item
from herald.clock.heartbeat import TURN, beat
from herald.gateway.flush import counters
from herald.gateway.metrics import told_metrics
from tests.factories import NOW, client_as, make_devices

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]


def figures(text: str) -> dict[tuple[str, tuple[str, ...]], float]:
    return {
        (s.name, tuple(s.labels.values())): s.value for f in text_string_to_metric_families(text) for s in f.samples
    }


def test_the_installation_is_told_in_figures() -> None:
    make_devices(5)
    beat(TURN, now=NOW, seconds=0.25)
    open_item(ItemKind.SILENT, cause="Silent", now=NOW, count=3)
    client = client_as("viewer")
    client.get("/api/v1/groups")
    told = figures(client.get("/metrics").content.decode())
    assert told["herald_devices", ("admitted",)] == 5
    assert told["herald_part_turn_seconds", ("turn",)] == 0.25
    assert told["herald_attention_items", ("silent",)] == 1
    assert told["herald_changed_devices_waiting", ()] >= 0 and told["herald_jobs_waiting", ()] == 0
    assert told["herald_requests_total", ("GET", "api/v1/groups", "200")] >= 1
    assert told["herald_request_seconds_count", ("GET", "api/v1/groups")] >= 1


def test_it_is_openmetrics_where_that_is_asked_for() -> None:
    answer = client_as("viewer").get("/metrics", HTTP_ACCEPT="application/openmetrics-text; version=1.0.0")
    assert answer["Content-Type"].startswith("application/openmetrics-text")
    names = {f.name for f in openmetrics.text_string_to_metric_families(answer.content.decode())}
    assert {"herald_requests", "herald_devices"} <= names


def test_nobody_reads_them_without_signing_in() -> None:
    answer = APIClient().get("/metrics")
    assert answer.status_code == 401 and answer["Content-Type"] == "application/problem+json"


def test_addresses_and_what_is_in_them_are_no_labels() -> None:
    client = client_as("viewer")
    client.get("/api/v1/welcome/a-secret-of-a-link")
    client.get("/api/v1/devices/sill-0007")
    client.get("/api/v1/nothing-of-the-kind")
    text = client.get("/metrics").content.decode()
    assert "a-secret" not in text and "sill-0007" not in text and "nothing-of-the-kind" not in text


def test_the_gateway_tells_its_own_counts() -> None:
    told = figures(told_metrics().decode())
    assert told["herald_gateway_check_ins_total", ()] == counters.check_ins
    assert len(told) == len(vars(counters))


@pytest.mark.parametrize(
    ("given", "kept"),
    [("job-42:7", True), ("", False), ("x" * 81, False), ("two words", False), ("ü", False), ("a\\b", False)],
)
def test_a_request_has_an_id_of_the_callers_or_of_ours(given: str, kept: bool) -> None:
    answer = client_as("viewer").get("/api/v1/groups", HTTP_X_REQUEST_ID=given)
    assert (answer["X-Request-ID"] == given) == kept
    assert re.fullmatch(r"[\w.:-]{1,80}", answer["X-Request-ID"])


def test_a_refusal_and_a_failure_have_it_too_and_the_log_names_it(monkeypatch: pytest.MonkeyPatch) -> None:
    client = client_as("viewer")
    assert client.get("/api/v1/groups/987654", HTTP_X_REQUEST_ID="r1")["X-Request-ID"] == "r1"

    def fails(*_: Any, **__: Any) -> None:
        raise RuntimeError("broken")

    monkeypatch.setattr("herald.groups.api.views.GroupListView.get", fails)
    client.raise_request_exception = False
    with capture_logs(processors=[merge_contextvars]) as logs:
        answer = client.get("/api/v1/groups", HTTP_X_REQUEST_ID="r2")
    assert (answer.status_code, answer["X-Request-ID"]) == (500, "r2")
    assert [(e["request"], e["route"], e["status"]) for e in logs if e["event"] == "request"] == [
        ("r2", "api/v1/groups", 500)
    ]


def test_what_is_logged_never_stands_among_what_a_command_prints(capfd: pytest.CaptureFixture[str]) -> None:
    structlog.get_logger().warning("it took long")
    written = capfd.readouterr()
    assert "it took long" in written.err and written.out == ""
