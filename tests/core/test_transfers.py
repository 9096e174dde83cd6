"""What uplinks are expected to carry: hours add up to the files, and no cap is passed."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from herald_core.capacity import Caps
from herald_core.forecast import forecast
from herald_core.forecast.devices import FETCH_FACTORS
from herald_core.forecast.transfers import SiteTransfers
from tests.core.test_forecast import DAY, fleet, situation

SITES = (3, 8, 20)
FILES = st.lists(st.tuples(st.sampled_from([*SITES, 99]), st.integers(0, 700), st.integers(0, 400)), max_size=12)


@given(FILES)
def test_each_hour_holds_its_part_of_each_file(files: list[tuple[int, int, int]]) -> None:
    """Against a count of every minute; site 99 has no narrow uplink."""
    found = SiteTransfers(SITES, horizon=6 * 3600.0)
    sites, begins, lasts = (np.array([f[i] for f in files], dtype=np.int64) for i in range(3))
    found.add(sites, 60.0 * begins, 60.0 * (begins + lasts), 0.5)
    plain = {site: np.zeros(24) for site in SITES}
    for site, begin, length in files:
        for minute in range(begin, begin + length):
            if site in plain:
                plain[site][minute // 60] += 0.5 / 60
    for site, at_once in found.by_site().items():
        assert at_once == pytest.approx(plain[site][: len(at_once)])


def test_a_narrow_uplink_is_full_while_files_wait_and_never_more_than_full() -> None:
    """Forty files of an hour each, two at once: at least sixteen hours of two, where one an hour is the mean; and a
    site without a cap is not told of."""
    devices = fleet(*[0] * 40)
    narrow = situation(devices, caps=Caps(max_concurrent=500, uplinks={0: 2}), fetch=3600.0)
    told = forecast(narrow, seed=4)
    at_once = told.transfers[0]
    assert at_once.max() <= 2 + 1e-9
    mean_file = sum(FETCH_FACTORS) / 2
    assert at_once.sum() == pytest.approx(40 * mean_file, rel=0.1)
    assert at_once[2:12].min() > 1.2
    assert not at_once[60:].any()
    assert forecast(situation(devices), seed=4).transfers == {}


def test_devices_that_stand_for_others_count_as_often_and_files_that_are_there_not_at_all() -> None:
    many = fleet(*[0] * 1200)
    told = forecast(situation(many, caps=Caps(max_concurrent=5000, uplinks={0: 60}), fetch=600.0), seed=4)
    assert told.transfers[0].sum() * 3600 == pytest.approx(1200 * 600, rel=0.1)
    there = many.__class__(**{**many.__dict__, "with_file": np.ones(1200, dtype=bool)})
    none = forecast(situation(there, caps=Caps(max_concurrent=5000, uplinks={0: 60}), horizon=3 * DAY), seed=4)
    assert not none.transfers[0].any()
