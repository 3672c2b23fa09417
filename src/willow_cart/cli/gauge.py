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


def time_left(remaining: int, speed: float) -> float | None:
    """Seconds until the rest is done at this speed; None while nobody can say."""
    return remaining / speed if speed > 0 else None
