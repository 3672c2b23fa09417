"""Find the number of lanes with which a host serves fastest."""

from __future__ import annotations

from statistics import median

from willow_cart.defaults import REQUEST_BYTES

# A lane more must bring at least this share of what it would bring if none slowed down another.
_MIN_SHARE_OF_GAIN = 0.5

# Over a shorter time, or with fewer files than lanes, chance counts for more than lanes.
_MEASURE_SECONDS = 0.2

# Large files take long to end: after this many seconds the bytes of all lanes are measured instead.
_MEASURE_BYTES_SECONDS = 1.0

# A lane is kept after one measurement, and given back only after one that is this many times as
# long.
_PATIENCE = 3

# One more lane is tried again after this many seconds: a machine can be busy for a moment, and
# lines change in a haul of hours. The time is doubled whenever that lane does not pay either.
_FIRST_REST_SECONDS = 2.0
_LONGEST_REST_SECONDS = 60.0
_REST_AFTER_STRAIN_SECONDS = 15.0


class LaneFinder:
    """Opens lanes at a host one by one while each makes it faster; a policy without a clock.

    It compares how long one lane takes for a file, with and without the lane that was opened last.
    If that stays the same, the new lane brings as much as the others. If it grows in proportion to
    the number of lanes, the line or the host is at its limit, and the lane is closed.

    Args:
        first: how many lanes a host has at first.
        most: how many it may have at most.

    Attributes:
        lanes: how many it may have now.
    """

    def __init__(self, first: int, most: int) -> None:
        self.lanes = first
        self._first, self._most = first, most
        # The number of lanes at the last measurement, and its result.
        self._before: tuple[int, float] | None = None
        self._costs: list[float] = []
        self._since: float | None = None
        self._bytes_at_start = 0
        self._not_before = 0.0
        self._rest_seconds = _FIRST_REST_SECONDS

    def finished(self, began: float, now: float, received: int) -> None:
        """Take the time of one file.

        Args:
            began: when a lane took it, in seconds.
            now: the time in seconds.
            received: the bytes that came.
        """
        if self._since is not None and began >= self._since:
            self._costs.append((now - began) / (received + REQUEST_BYTES))

    def interrupt(self) -> None:
        """Begin the measurement anew: not all lanes had something to do."""
        self._since = None

    def measure(self, now: float, received: int, *, may_grow: bool) -> None:
        """Judge the current number of lanes, all of which have been busy; change it if that pays.

        Args:
            now: the time in seconds.
            received: the bytes that have come from the host so far.
            may_grow: whether there is a lane for it.
        """
        if now < self._not_before:
            return
        if self._since is None:
            self._begin(now, received)
        cost = self._cost(now, received)
        if cost is None:
            return
        if self._has_gained(cost):
            self._before = (self.lanes, cost)
            self._begin(now, received)
            self.lanes += may_grow and self.lanes < self._most
        elif self._cost(now, received, _PATIENCE) is not None:
            self.lanes -= 1
            self._rest(now, self._rest_seconds)
            self._rest_seconds = min(2 * self._rest_seconds, _LONGEST_REST_SECONDS)

    def strained(self, now: float, at_most: int | None = None) -> None:
        """Go back to the first number of lanes; the current one is not tried again.

        Args:
            now: the time in seconds.
            at_most: how many the host allows, by its own account; None if it named no number.
        """
        most = self.lanes - 1 if at_most is None else min(self.lanes, at_most)
        if self.lanes > self._first or at_most is not None:
            self._most = max(self._first, most)
        self.lanes = self._first if at_most is None else self._most
        self._rest(now, _REST_AFTER_STRAIN_SECONDS)

    def _rest(self, now: float, seconds: float) -> None:
        self._before = self._since = None
        self._not_before = now + seconds

    def _begin(self, now: float, received: int) -> None:
        self._since, self._bytes_at_start = now, received
        self._costs.clear()

    def _cost(self, now: float, received: int, times: int = 1) -> float | None:
        """Return the seconds that a lane takes for a byte; None as long as that is uncertain.

        Args:
            now: the time in seconds.
            received: the bytes that have come from the host so far.
            times: how many times the least number of files or seconds is wanted.
        """
        assert self._since is not None, "a measurement has begun"
        seconds, came = now - self._since, received - self._bytes_at_start
        if len(self._costs) >= times * self.lanes and seconds >= _MEASURE_SECONDS:
            return median(self._costs)
        if seconds >= times * _MEASURE_BYTES_SECONDS and came > self.lanes * REQUEST_BYTES:
            return self.lanes * seconds / came
        return None

    def _has_gained(self, cost: float) -> bool:
        """Whether the lane that was opened last brings more; true if none has been."""
        if self._before is None or self._before[0] == self.lanes:
            return True
        lanes_before, cost_before = self._before
        speedup = (self.lanes / lanes_before) * (cost_before / cost)
        return speedup >= 1 + _MIN_SHARE_OF_GAIN / lanes_before
