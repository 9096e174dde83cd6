"""What the uplinks of sites are expected to carry, hour by hour, over all futures."""

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from herald_core.forecast.inputs import DAY, Floats

HOUR = 3600.0
#: so far ahead files are told apart by hours
MOST = 100 * DAY
#: a file that takes longer than so many hours is counted for these only
LONGEST = 48


class SiteTransfers:
    """How many files each of some sites has coming at once, in the mean of each hour from now on.

    Files that are fetched ahead of their hours are not among them: they come at any time between.
    """

    def __init__(self, sites: Iterable[int], horizon: float) -> None:
        self._sites = np.array(sorted(sites), dtype=np.int64)
        self._hours = int(np.ceil(min(horizon, MOST) / HOUR)) + 1
        self._at_once: Floats = np.zeros(len(self._sites) * self._hours)

    def add(self, sites: NDArray[np.int64], begins: Floats, ends: Floats, weight: float) -> None:
        """Files that come from `begins` to `ends`, in seconds from now, each counted `weight` times."""
        mine = np.isin(sites, self._sites)
        if not mine.any():
            return
        row = np.searchsorted(self._sites, sites[mine]) * self._hours
        begins, ends = begins[mine] / HOUR, ends[mine] / HOUR
        first = np.floor(begins).astype(np.int64)
        for later in range(min(LONGEST, int(np.max(np.ceil(ends) - first)))):
            hour = first + later
            share = np.minimum(ends, hour + 1) - np.maximum(begins, hour)
            counts = (share > 0) & (hour < self._hours)
            self._at_once += np.bincount(
                row[counts] + hour[counts], weights=weight * share[counts], minlength=len(self._at_once)
            )

    def by_site(self) -> dict[int, Floats]:
        """For each site the means of its hours."""
        return dict(zip(self._sites.tolist(), self._at_once.reshape(len(self._sites), self._hours), strict=True))
