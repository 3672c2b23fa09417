"""The controllers of a haul's speed: lanes at a host, lanes in all, limits, and the speed cap."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from statistics import median

from willow_cart.defaults import REQUEST_BYTES
from willow_cart.errors import ProtocolError, TookTooLong, TooSlow
from willow_cart.options.groups import PaceOptions
from willow_cart.units import format_duration, format_size

# A lane more must bring at least this share of what it would bring if none slowed down another;
# as many more as there are, each nearly all of it.
_MIN_SHARE_OF_GAIN = 0.5
_MIN_SHARE_WHEN_DOUBLED = 0.75

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
    """Opens lanes at a host while each makes it faster; a policy without a clock.

    It compares how long one lane takes for a file, with and without the lanes that were opened
    last. If that stays the same, a new lane brings as much as the others. If it grows in proportion
    to the number of lanes, the line or the host is at its limit, and they are closed. The number is
    doubled until that happens, and from then on changed by one.

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
        self._doubles = True
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
        """Begin the measurement again: not all lanes had something to do."""
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
        before = self.lanes if self._before is None else self._before[0]
        is_doubled = self._doubles and before < self.lanes
        # The first files of new lanes begin while these are still few.
        cost = self._cost(now, received, leaves_out=self.lanes if before < self.lanes else 0)
        if cost is None:
            return
        if self._has_gained(cost):
            self._before = (self.lanes, cost)
            self._begin(now, received)
            if may_grow:
                more = self.lanes if self._doubles else 1
                self.lanes = min(self._most, self.lanes + more)
        elif is_doubled or self._cost(now, received, _PATIENCE) is not None:
            self.lanes = before if is_doubled else self.lanes - 1
            self._doubles = False
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
        self._doubles = False
        self._rest(now, _REST_AFTER_STRAIN_SECONDS)

    def _rest(self, now: float, seconds: float) -> None:
        self._before = self._since = None
        self._not_before = now + seconds

    def _begin(self, now: float, received: int) -> None:
        self._since, self._bytes_at_start = now, received
        self._costs.clear()

    def _cost(self, now: float, received: int, times: int = 1, leaves_out: int = 0) -> float | None:
        """Return the seconds that a lane takes for a byte; None as long as that is uncertain.

        Args:
            now: the time in seconds.
            received: the bytes that have come from the host so far.
            times: how many times the least number of files or seconds is wanted.
            leaves_out: how many of the first files do not count.
        """
        assert self._since is not None, "a measurement has begun"
        seconds, came = now - self._since, received - self._bytes_at_start
        costs = self._costs[leaves_out:]
        if len(costs) >= times * self.lanes and seconds >= _MEASURE_SECONDS:
            return median(costs)
        if seconds >= times * _MEASURE_BYTES_SECONDS and came > self.lanes * REQUEST_BYTES:
            return self.lanes * seconds / came
        return None

    def _has_gained(self, cost: float) -> bool:
        """Whether the lanes that were opened last bring more; true if none have been."""
        if self._before is None or self._before[0] == self.lanes:
            return True
        lanes_before, cost_before = self._before
        speedup = (self.lanes / lanes_before) * (cost_before / cost)
        more = (self.lanes - lanes_before) / lanes_before
        share = _MIN_SHARE_WHEN_DOUBLED if self._doubles else _MIN_SHARE_OF_GAIN
        return speedup >= 1 + share * more


# The speed of the first seconds says nothing.
_GRACE_SECONDS = 10.0


def require_size(pace: PaceOptions, thing: str, size: int) -> None:
    """Refuse a file that is larger than allowed, by its announced or actual size.

    Raises:
        ProtocolError: it is.
    """
    if pace.largest is not None and size > pace.largest:
        raise ProtocolError(
            thing,
            f"is larger than {format_size(pace.largest)}",
            "use a larger --largest to accept it",
        )


def require_progress(pace: PaceOptions, thing: str, received: int, seconds: float) -> None:
    """Refuse a transfer that is too slow.

    Args:
        thing: the file.
        received: bytes that came in this attempt.
        seconds: how long that took, without what was waited for by our own wish.

    Raises:
        TookTooLong: it has had all the time that it may have.
        TooSlow: it is too slow; another attempt may be better served.
    """
    if pace.time_per_file is not None and seconds > pace.time_per_file:
        raise TookTooLong(
            thing,
            f"has taken longer than {format_duration(pace.time_per_file)}",
            "the part that arrived is kept; run the same command to resume",
        )
    if pace.slowest is not None and seconds > _GRACE_SECONDS and received < pace.slowest * seconds:
        raise TooSlow(thing, f"arrives at {format_size(int(received / seconds))}/s, too slowly")


class Meter:
    """Meters one attempt: delays it for the speed cap, and enforces the limits.

    Args:
        thing: the file.
        pace: what it may not do.
        cap: what it shares with other lanes; None if it may be as fast as it is.
        wait: waits for a number of seconds, or until the user wants to stop.
        clock: monotonic, in seconds.
    """

    def __init__(
        self,
        thing: str,
        pace: PaceOptions,
        cap: SpeedCap | None,
        wait: Callable[[float], object],
        clock: Callable[[], float],
    ) -> None:
        self._thing = thing
        self._pace = pace
        self._cap = cap
        self._wait = wait
        self._clock = clock
        self._began = clock()
        self._paused = 0.0
        self._received = 0

    def count(self, received: int, size: int, *, is_whole: bool) -> None:
        """Count received bytes.

        Args:
            received: how many.
            size: how many there are of the file now.
            is_whole: whether that is all; what is here was not too slow.

        Raises:
            ProtocolError, TookTooLong, TooSlow: it goes beyond a limit.
        """
        require_size(self._pace, self._thing, size)
        self._received += received
        if self._cap is not None:
            pause = self._cap.pause_after(received)
            self._paused += pause
            self._wait(pause)
        if not is_whole:
            self.check(0)

    def check(self, uncounted: int) -> None:
        """Enforce the limits of time and speed.

        Args:
            uncounted: how many bytes came that are not counted yet.

        Raises:
            TookTooLong, TooSlow: it goes beyond one.
        """
        seconds = self._clock() - self._began - self._paused
        require_progress(self._pace, self._thing, self._received + uncounted, seconds)


class SpeedCap:
    """Shares a number of bytes per second among lanes, first come, first served.

    Args:
        speed: bytes a second.
        clock: monotonic, in seconds.
    """

    def __init__(self, speed: int, clock: Callable[[], float] = time.monotonic) -> None:
        self._speed = speed
        self._clock = clock
        self._lock = threading.Lock()
        self._free_at = clock()

    def change(self, speed: int) -> None:
        """Allow another number of bytes a second from now on."""
        with self._lock:
            self._speed = speed

    def pause_after(self, count: int) -> float:
        """Return how many seconds a lane must pause after receiving some bytes."""
        with self._lock:
            now = self._clock()
            # What was not used is gone: a line that was idle has no right to a burst.
            self._free_at = max(self._free_at, now) + count / self._speed
            return self._free_at - now


# Shares of one processor. Above the first, lanes wait for the interpreter and not for the line;
# below the second, another one finds it idle.
_CROWDED_SHARE = 0.9

_IDLE_SHARE = 0.5

# Above this share of all processors, lanes with large files wait for processors and not for the
# line.
_FULL_SHARE = 0.65

# Up to this size, files cost more processor time than transfer time.
_MAX_SMALL_FILE_BYTES = 256 * 1024


class ConcurrencyController:
    """Watches how busy the interpreter is, and computes how many lanes should be open.

    Python runs one thread at a time between waits. On a fast line, lanes that all have something to
    do hand the interpreter to and fro: two spend a third more processor time on the same small
    files than one. While the line or the disk makes them wait, more lanes are a gain; they are
    doubled from measurement to measurement, so that a slow line has all of them at once. Large
    files are received and hashed without the interpreter, by as many lanes as there are processors.

    Args:
        most: the lanes that the user allows.
        processors: how many this process may use.
        now: the time in seconds.
        used: processor time that this process has used, in seconds.

    Attributes:
        lanes: how many should be open.
    """

    def __init__(self, most: int, processors: int, now: float, used: float) -> None:
        self._most = most
        self._processors = processors
        self._last = (now, used, 0, 0)
        self.lanes = 1

    def measure(self, now: float, used: float, files: int, received: int) -> int:
        """Return how many lanes should be open from now on.

        Args:
            now: the time in seconds.
            used: processor time that this process has used, in seconds.
            files: how many have come so far.
            received: how many bytes they were.
        """
        then, used_then, files_then, received_then = self._last
        self._last = (now, used, files, received)
        came = files - files_then
        share = (used - used_then) / (now - then) if now > then else 0.0
        is_large = came == 0 or received - received_then > came * _MAX_SMALL_FILE_BYTES
        if is_large and share > _FULL_SHARE * self._processors:
            self.lanes = max(min(self._processors, self.lanes), self.lanes // 2)
        elif is_large or share <= _IDLE_SHARE:
            self.lanes = min(self._most, 2 * self.lanes)
        elif share >= _CROWDED_SHARE:
            self.lanes = max(1, self.lanes // 2)
        return self.lanes
