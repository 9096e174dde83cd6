"""What the uplinks of sites have to carry: in the calendar, and on a site's own page."""

from datetime import timedelta
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.fleet.models import Site
from herald.images.models import Image
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.models import Rollout, StoredForecast
from herald.rollouts.watch import forecast, stored_forecasts
from herald.rollouts.watch.stored_forecasts import store_forecasts
from tests.factories import NOW, launched, make_devices, make_draft, make_site, make_static

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
DAY = timedelta(days=1)
DEVICES = 24


@pytest.fixture
def narrow() -> tuple[Site, Rollout]:
    """A site whose uplink carries two files at once, and a rollout that wants them for twenty-four devices."""
    site = make_site("Narrow", "Europe/Lisbon", transfers_at_once=2)
    devices = make_devices(DEVICES, site=site)
    make_devices(1, site=make_site("Idle", "Europe/Lisbon"))
    rollout = launched(make_draft(make_static("Of it", devices)))
    tick_rollouts(now=NOW)
    return site, rollout


def image_of(rollout: Rollout) -> Image:
    image = rollout.changes.get().image
    assert image is not None
    return image


def calendar(client: APIClient, days: int = 1, rows: str = "zone") -> Any:
    given = {"from": NOW.isoformat(), "until": (NOW + days * DAY).isoformat(), "rows": rows}
    return client.get("/api/v1/calendar", given).json()


def uplink(client: APIClient, site: Site) -> Any:
    return client.get(f"/api/v1/sites/{site.pk}/uplink").json()


def test_a_narrow_site_stands_with_what_it_will_carry_by_the_hour(
    client: APIClient, narrow: tuple[Site, Rollout]
) -> None:
    site, rollout = narrow
    [before] = calendar(client)["sites"]
    assert not any(before["load"]), "nothing is expected of it before the first forecast"
    store_forecasts(now=NOW)
    found = calendar(client)
    [shown] = found["sites"]
    assert (shown["id"], shown["at_once"]) == (site.pk, 2)
    assert len(shown["load"]) == len(found["load"]), "a bar for each bar of the devices"
    assert 0 < max(shown["load"]) <= 2
    files = sum(shown["load"]) * 3600 / forecast.forecast_basis(rollout, now=NOW).situation.fetch
    assert files == pytest.approx(DEVICES, rel=0.35)
    # bars of more than an hour hold the mean of their hours
    longer = calendar(client, days=90)
    assert longer["bar_hours"] == 12
    assert sum(longer["sites"][0]["load"]) * 12 == pytest.approx(sum(shown["load"]), abs=0.2)
    lifecycle.pause(rollout, actor=None, now=NOW)
    assert not any(calendar(client)["sites"][0]["load"]), "while it is paused nothing is fetched"


def test_a_site_tells_its_own_uplink_also_where_two_rollouts_want_more_than_it_carries(
    client: APIClient, narrow: tuple[Site, Rollout]
) -> None:
    site, rollout = narrow
    store_forecasts(now=NOW)
    one = uplink(client, site)
    assert (one["at_once"], one["under_way"] + one["waiting"]) == (2, DEVICES)
    assert len(one["hours"]) == 7 * 24
    other = launched(make_draft(make_static("Again", make_devices(2, site=site)), image=image_of(rollout)))
    kept = StoredForecast.objects.get(rollout=rollout)
    StoredForecast.objects.create(rollout=other, at=kept.at, transfers=kept.transfers)
    both = uplink(client, site)
    assert max(h["at_once"] for h in both["hours"]) == pytest.approx(2 * max(h["at_once"] for h in one["hours"]))
    idle = uplink(client, Site.objects.get(name="Idle"))
    assert (idle["under_way"], idle["waiting"], any(h["at_once"] for h in idle["hours"])) == (0, 0, False)
    assert client.get("/api/v1/sites/999999/uplink").status_code == 404


def test_of_many_sites_the_fullest_are_kept(monkeypatch: pytest.MonkeyPatch, narrow: tuple[Site, Rollout]) -> None:
    site, rollout = narrow
    wide = make_site("Wide", "Europe/Lisbon", transfers_at_once=9)
    of_both = make_static("Of both", [*make_devices(8, site=wide), *make_devices(8, site=site)])
    launched(make_draft(of_both, image=image_of(rollout)))
    Rollout.objects.filter(pk=rollout.pk).update(state="stopped")
    monkeypatch.setattr(stored_forecasts, "MOST_SITES", 1)
    store_forecasts(now=NOW)
    [kept] = StoredForecast.objects.all()
    assert list(kept.transfers) == [str(site.pk)]


def test_one_site_is_read_by_itself(client: APIClient, narrow: tuple[Site, Rollout]) -> None:
    site, _ = narrow
    found = client.get(f"/api/v1/sites/{site.pk}").json()
    assert (found["name"], found["devices"], found["time_zone"]) == ("Narrow", DEVICES, "Europe/Lisbon")
    assert client.get("/api/v1/sites/999999").status_code == 404
