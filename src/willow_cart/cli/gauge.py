"""Speed and time left, smoothed so that a person can read them."""

from __future__ import annotations

from collections import deque

_WINDOW = 8.0
"""Seconds that the speed is averaged over: long enough to be steady, short enough to follow."""


class Gauge:
    """Tell the speed of a growing count.

    Args:
        now: the time in seconds at which it begins.
    """

    def __init__(self, now: float) -> None:
        self._samples: deque[tuple[float, int]] = deque([(now, 0)])

    def measure(self, now: float, count: int) -> float:
        """Take a sample and return the speed per second over the window."""
        self._samples.append((now, count))
        while self._samples[1][0] < now - _WINDOW and len(self._samples) > 2:
            self._samples.popleft()
        then, before = self._samples[0]
        return (count - before) / (now - then) if now > then else 0.0


# Before so many seconds nothing is known of the pace.
_SECONDS_OF_NOTHING = 2.0

# A moment in which nothing comes says little about the rest: the pace of the window counts as no
# slower than this share of the pace since the beginning.
_SLOWEST_SHARE = 0.5

_LONGEST_LEFT = 7 * 86400.0
"""Seconds above which an estimate says nothing."""


# A request costs about as much time as so many bytes, on a line of 2 MB/s with 60 ms of latency.
_REQUEST_BYTES = 128 << 10


class TimeLeft:
    """Estimates the time left from files and bytes together.

    Small files cost what a request costs, and large ones what their bytes cost, so the work is
    counted in bytes with so many more for each file.

    Args:
        now: the time in seconds at which it begins.
    """

    def __init__(self, now: float) -> None:
        self._began = now
        # By what is counted: files alone, or bytes and files.
        self._gauges = (Gauge(now), Gauge(now))
        self._first: list[int | None] = [None, None]

    def measure(
        self, now: float, files: tuple[int, int], received: tuple[int, int | None]
    ) -> float | None:
        """Return the seconds left; None while it cannot be told.

        Args:
            now: the time in seconds.
            files: how many are done, of how many.
            received: how many bytes are here, of how many; None where that is not known.
        """
        have, total = received
        done_files = _REQUEST_BYTES * files[0]
        rest_of_files = _REQUEST_BYTES * (files[1] - files[0])
        by_files = self._left(0, now, done_files, rest_of_files)
        rest = 0 if total is None else max(0, total - have)
        by_both = self._left(1, now, have + done_files, rest + rest_of_files)
        return by_files if total is None else by_both

    def _left(self, by: int, now: float, done: int, rest: int) -> float | None:
        first = self._first[by]
        if first is None or done < first:
            self._first[by] = first = done  # what was here before did not come at any pace
        done -= first
        seconds = now - self._began
        in_window = self._gauges[by].measure(now, done)
        if seconds < _SECONDS_OF_NOTHING or done <= 0:
            return None
        left = rest / max(in_window, _SLOWEST_SHARE * done / seconds)
        return left if left <= _LONGEST_LEFT else None
