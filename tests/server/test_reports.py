"""Reports of rollouts and counts by site and the like: they add up to the audience and say what happened."""

import csv
import io
from datetime import timedelta

import pytest
from openpyxl import load_workbook
from rest_framework.test import APIClient

from herald.deliveries import services as deliveries
from herald.deliveries.durations import seen_spans
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import Rollout
from herald.rollouts.watch import report
from herald.rollouts.watch.forecast import forecast_rollout
from herald_core.deliveries import Event, Report
from tests.factories import NOW, launched, make_device, make_draft, make_site, make_static, make_user, ring

pytestmark = pytest.mark.django_db
MINUTE = timedelta(minutes=1)


def says(delivery: Delivery, phase: str, minutes: int, firmware: str = "5.1.0", **report_of: str) -> None:
    delivery.refresh_from_db()
    said = Report(attempt=delivery.attempt, counter=delivery.report_counter + 1, phase=phase, **report_of)
    now = NOW + minutes * MINUTE
    deliveries.apply_changes(
        [deliveries.evaluate_report(delivery, said, firmware=firmware, healthy=True, now=now)], now=now
    )


def installed(delivery: Delivery, *, begun: int = 1) -> None:
    """Fetched in 4 minutes, installed in 10, confirmed."""
    says(delivery, "fetching", begun)
    says(delivery, "staged", begun + 4)
    says(delivery, "installing", begun + 5)
    says(delivery, "confirming", begun + 15, firmware="5.2.1")


def a_rollout() -> Rollout:
    """Six devices at two sites and at none: three confirmed, one failed at its second attempt, two not begun."""
    here = [make_device() for _ in range(3)]
    there = [make_device(site=make_site("=There", "Asia/Kolkata")) for _ in range(2)]
    nowhere = make_device()
    Device.objects.filter(pk=nowhere.pk).update(site=None, admission="waiting")
    away = make_device()
    Device.objects.filter(pk=away.pk).update(site=None)
    rollout = launched(
        make_draft(
            make_static("G", [*here, *there, nowhere, away]), max_concurrent=5, failure_limit_pct=90, rings=[ring()]
        )
    )
    tick_rollouts(now=NOW)
    rows = {d.device_id: d for d in Delivery.objects.of_rollout(rollout.pk)}
    for number, device in enumerate((*here[:2], there[0])):
        installed(rows[device.pk], begun=1 + 10 * number)
    bad = rows[there[1].pk]
    says(bad, "accepted", 2)
    says(bad, "failed", 3, error="flash-verify", error_text="read back other bytes")
    deliveries.move(Delivery.objects.filter(pk=bad.pk), Event.OFFER, now=NOW + 20 * MINUTE, cause="offered")
    says(bad, "accepted", 29)
    says(bad, "failed", 30, error="flash-verify", error_text="read back other bytes")
    return rollout


def test_a_report_adds_up_and_says_what_happened() -> None:
    rollout = a_rollout()
    lifecycle.stop(rollout, actor=make_user(), now=NOW + 40 * MINUTE)
    rollout.refresh_from_db()
    told = report.report(rollout, now=NOW + timedelta(hours=1))
    shown = told["rollout"]
    assert sum(shown["phases"].values()) == shown["total"] == 6
    assert shown["phases"]["confirmed"] == 3 and shown["phases"]["failed"] == 1
    assert told["left_out"] == [{"words": "left out: not admitted", "devices": 1}]
    assert told["failures"] == [{"cause": "flash-verify", "attempts": 2}]
    assert [(d["error"], d["site"], d["text"]) for d in told["failed_devices"]] == [
        ("flash-verify", "=There", "read back other bytes")
    ]
    (only_ring,) = told["rings"]
    assert (only_ring["devices"], only_ring["confirmed"], only_ring["failed"]) == (6, 3, 1)
    assert (only_ring["tried"], shown["tried"]) == (4, 4)  # the two that were withdrawn say nothing
    assert (only_ring["first_at"], only_ring["last_at"]) == (NOW + 16 * MINUTE, NOW + 36 * MINUTE)
    assert [(m["share"], m["devices"], m["seconds"]) for m in told["milestones"]] == [
        (0.5, 2, 26 * 60.0),
        (0.9, 3, 36 * 60.0),
        (1.0, 3, 36 * 60.0),
    ]
    assert (told["installs"].count, told["installs"].median) == (3, 600.0)
    assert (told["fetches"].count, told["fetches"].longest) == (3, 240.0)
    assert [a["what"].split(" ")[0] for a in told["acts"][:2]] == ["Saved", "Launched"]
    assert told["acts"][-1]["who"] == "U. Ser"


def test_a_rollout_in_which_nothing_happened_yet_reports_nothing() -> None:
    rollout = launched(make_draft(make_static("G", [make_device()])))
    told = report.report(rollout, now=NOW)
    assert [m["at"] for m in told["milestones"]] == [None, None, None]
    assert told["installs"].count == 0 and told["failures"] == [] and told["shared"] == []


def test_counts_by_a_field_add_up_to_the_audience_and_filter_the_devices(client: APIClient) -> None:
    rollout = a_rollout()
    rows = client.get(f"/api/v1/rollouts/{rollout.pk}/breakdown").json()
    assert [(r["value"], r["total"]) for r in rows] == [("Here", 3), ("=There", 2), ("", 1)]
    assert sum(n for r in rows for n in r["phases"].values()) == 6
    there = rows[1]
    assert there["phases"] == {"confirmed": 1, "failed": 1}
    path = f"/api/v1/rollouts/{rollout.pk}/deliveries"
    for row in rows:
        for phase, count in row["phases"].items():
            assert client.get(path, {"site": row["value"], "phase": phase}).json()["count"] == count
    assert client.get(path, {"from_version": "5.1.0", "model": "Sill 400"}).json()["count"] == 6
    assert client.get(path, {"hardware": "Z"}).json()["count"] == 0
    errors = client.get(f"/api/v1/rollouts/{rollout.pk}/breakdown?by=last_error").json()
    assert {r["value"]: r["total"] for r in errors} == {"": 5, "flash-verify": 1}
    refused = client.get(f"/api/v1/rollouts/{rollout.pk}/breakdown?by=colour")
    assert refused.status_code == 422 and "one of site, model" in refused.json()["errors"][0]["message"]


def test_the_report_as_a_file(client: APIClient) -> None:
    rollout = a_rollout()
    Delivery.objects.of_rollout(rollout.pk).filter(phase="failed").update(notice_shown_at=NOW, times_deferred=2)
    path = f"/api/v1/rollouts/{rollout.pk}/report"
    assert client.get(path).json()["rings"][0]["devices"] == 6
    answer = client.get(f"{path}/table")
    lines = list(csv.DictReader(io.StringIO(b"".join(answer.streaming_content).decode("utf-8-sig"))))  # type: ignore[attr-defined]
    assert len(lines) == 6 and f"rollout-{rollout.pk}.csv" in answer["Content-Disposition"]
    failed = next(line for line in lines if line["phase"] == "failed")
    assert (failed["site"], failed["error"], failed["attempts"]) == ("'=There", "flash-verify", "2")
    assert (failed["notice shown"], failed["times put off"]) == (NOW.isoformat(timespec="seconds"), "2")
    assert {line["notice shown"] for line in lines if line is not failed} == {""}
    book = load_workbook(io.BytesIO(client.get(f"{path}/table?format=xlsx").content))
    assert book.sheetnames == ["Summary", "Rings", "Failures", "Acts", "Devices"]
    assert book["Devices"].max_row == 7 and book["Failures"]["B2"].value == 2
    summary = {row[0].value: row[1].value for row in book["Summary"].iter_rows(min_row=2)}
    assert summary["devices confirmed"] == 3 and summary["left out: not admitted"] == 1


def test_a_draft_has_no_report(client: APIClient) -> None:
    draft = make_draft(make_static("G", [make_device()]))
    for end in ("report", "report/table"):
        refused = client.get(f"/api/v1/rollouts/{draft.pk}/{end}")
        assert refused.status_code == 409 and "not launched yet" in refused.json()["detail"]


def test_how_long_installs_took_is_what_the_forecast_goes_by() -> None:
    devices = [make_device() for _ in range(30)]
    rollout = launched(make_draft(make_static("G", devices), max_concurrent=20, rings=[ring()], failure_limit_pct=90))
    tick_rollouts(now=NOW)
    for delivery in Delivery.objects.of_rollout(rollout.pk).filter(phase="offered")[:14]:
        says(delivery, "fetching", 1)
        says(delivery, "staged", 2)
        says(delivery, "installing", 2)
        says(delivery, "confirming", 120, firmware="5.2.1")
    seen = seen_spans(rollout.pk)
    assert seen.installs == [118 * 60.0] * 14 and seen.fetches == [60.0] * 14
    assert seen_spans(rollout.pk, most=3).installs == [118 * 60.0] * 3
    told = forecast_rollout(rollout, now=NOW + 121 * MINUTE, failure_rate=0.0)
    assert told.forecast.end.low > 118 * 60  # the image's own minutes would say ten
