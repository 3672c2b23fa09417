"""The limits on the speed, time and size of transfers, enforced."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from willow_cart.errors import ProtocolError, TookTooLong, TooSlow
from willow_cart.options.hauling import PaceOptions
from willow_cart.units import format_duration, format_size

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
