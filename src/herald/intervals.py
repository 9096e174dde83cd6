"""What is to be done now and then by a loop that comes by more often."""

import time


class Intervals:
    """Says of each of several things whether it is time for it again. It forgets all of them rather than remember more
    than `most`."""

    def __init__(self, most: int = 10_000) -> None:
        self._most = most
        self._done: dict[str, float] = {}

    def is_time(self, what: str, every: float) -> bool:
        """Whether it was never done, or `every` seconds of real time ago or more; it counts as done then."""
        moment = time.monotonic()
        if moment - self._done.get(what, float("-inf")) < every:
            return False
        if len(self._done) > self._most:
            self._done.clear()
        self._done[what] = moment
        return True
