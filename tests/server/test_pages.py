"""Lists in pages: they say how many there are, how to go on, and can be searched."""

from datetime import timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.deliveries.models import Delivery
from herald.record.models import Kind, RecordEntry
from herald.record.services import record
from herald.rollouts.models import Rollout, StoredForecast
from herald.rollouts.watch.stored_forecasts import FORECAST_AGE, store_forecasts
from herald_core.deliveries import Phase
from tests.factories import NOW, client_as, launched, make_devices, make_draft, make_image, make_static, make_user

pytestmark = pytest.mark.django_db
V1 = "/api/v1"


@pytest.fixture
def client() -> APIClient:
    return client_as("viewer")


def all_pages(client: APIClient, path: str, rows: str, cursor: str = "cursor", **asked: Any) -> list[Any]:
    found: list[Any] = []
    following: Any = None
    while True:
        page = client.get(f"{V1}/{path}", asked | ({cursor: following} if following else {})).json()
        found += page[rows]
        following = page["next"]
        if following is None:
            assert len(found) == page["count"]
            return found


def test_rollouts_come_in_pages_by_stage_and_by_words(client: APIClient) -> None:
    devices, image = make_devices(2), make_image("5.2.1")
    drafts = [make_draft(make_static(f"Orchard {n}", devices), image) for n in range(5)]
    launched(drafts[4])
    Rollout.objects.filter(pk=drafts[0].pk).update(launched_at=NOW, ended_at=NOW, state="stopped", reason="wrong file")

    listed = [r["id"] for r in all_pages(client, "rollouts", "rollouts", limit=2)]
    assert listed == sorted((d.pk for d in drafts), reverse=True)
    stages = {
        s: [r["id"] for r in all_pages(client, "rollouts", "rollouts", stage=s)] for s in ("draft", "open", "ended")
    }
    assert stages == {"draft": [d.pk for d in drafts[3:0:-1]], "open": [drafts[4].pk], "ended": [drafts[0].pk]}
    for words, wanted in (
        ("orchard 3", [drafts[3].pk]),
        ("WRONG", [drafts[0].pk]),
        (f"5.2.1 {drafts[2].pk}", [drafts[2].pk]),
        ("5.2.1 melon", []),
    ):
        found = [r["id"] for r in all_pages(client, "rollouts", "rollouts", q=words)]
        assert set(wanted) <= set(found) and ("melon" not in words or not found)
    assert client.get(f"{V1}/rollouts", {"stage": "asleep"}).status_code == 422


def test_devices_of_a_rollout_that_failed_come_first_on_the_first_page(client: APIClient) -> None:
    group = make_static("G", make_devices(6))
    rollout = launched(make_draft(group, make_image()))
    ids = list(Delivery.objects.of_rollout(rollout.pk).order_by("id").values_list("id", flat=True))
    Delivery.objects.filter(pk__in=[ids[2], ids[5]]).update(phase=Phase.FAILED.value)

    for limit in (1, 2, 3, 6):
        rows = all_pages(client, f"rollouts/{rollout.pk}/deliveries", "deliveries", limit=limit)
        assert [r["id"] for r in rows] == [ids[2], ids[5], ids[0], ids[1], ids[3], ids[4]]


def test_the_record_is_filtered_by_person_thing_words_and_time(client: APIClient) -> None:
    RecordEntry.objects.all().delete()
    who = make_user()
    for n, (actor, kind, sentence) in enumerate(
        ((who, "rollout", "Launched to 4 devices"), (None, "rollout", "Halted itself"), (who, "group", "Created “A”"))
    ):
        record(now=NOW + timedelta(hours=n), actor=actor, kind=kind, object_id=n + 1, sentence=sentence)

    def said(**asked: Any) -> list[str]:
        return [e["sentence"].split()[0] for e in all_pages(client, "record", "entries", "before", limit=1, **asked)]

    assert said() == ["Created", "Halted", "Launched"]
    assert said(person=who.pk) == ["Created", "Launched"]
    assert said(person="system") == ["Halted"]
    assert said(person="nobody") == []
    assert said(kind="rollout") == ["Halted", "Launched"]
    assert said(kind="rollout", object=1) == ["Launched"]
    assert said(q="devices LAUNCHED") == ["Launched"]
    assert said(since=(NOW + timedelta(hours=1)).isoformat(), until=(NOW + timedelta(hours=2)).isoformat()) == [
        "Halted"
    ]
    assert client.get(f"{V1}/record", {"kind": "weather"}).status_code == 422
    assert client.get(f"{V1}/record", {"since": "yesterday"}).status_code == 422
    exported = b"".join(client.get(f"{V1}/record/export", {"person": "system"}).streaming_content)  # type: ignore[attr-defined]
    assert exported.decode("utf-8-sig").splitlines()[1].split(",")[1:3] == ["system", "rollout"]
    choices = client.get(f"{V1}/record/choices").json()
    assert {"id": who.pk, "name": who.name} in choices["people"]
    assert {k["kind"] for k in choices["kinds"]} == set(Kind.values)


def test_running_rollouts_keep_their_last_forecast_for_the_lists(
    client: APIClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    group = make_static("G", make_devices(6))
    first, second = (launched(make_draft(group, make_image(v), max_concurrent=1)) for v in ("5.2.1", "5.2.2"))

    assert store_forecasts(now=NOW) == 2
    assert store_forecasts(now=NOW + FORECAST_AGE / 2) == 0
    rows = {r["id"]: r for r in client.get(f"{V1}/rollouts").json()["rollouts"]}
    assert rows[first.pk]["forecast"]["at"] == NOW.isoformat().replace("+00:00", "Z")
    assert set(rows[second.pk]["forecast"]) == {"at", "low", "median", "high"}

    # one that fails keeps the one before, and does not keep the other from a new one
    import herald.rollouts.watch.stored_forecasts as forecasting

    real = forecasting.forecast_rollout

    def broken(rollout: Rollout, **asked: Any) -> Any:
        if rollout.pk == first.pk:
            raise ZeroDivisionError
        return real(rollout, **asked)

    monkeypatch.setattr(forecasting, "forecast_rollout", broken)
    assert store_forecasts(now=NOW + FORECAST_AGE) == 1
    kept = dict(StoredForecast.objects.values_list("rollout_id", "at"))
    assert kept == {first.pk: NOW, second.pk: NOW + FORECAST_AGE}

    Rollout.objects.filter(pk=second.pk).update(state="paused")
    assert {r["id"]: r["forecast"] for r in client.get(f"{V1}/rollouts").json()["rollouts"]}[second.pk] is None
