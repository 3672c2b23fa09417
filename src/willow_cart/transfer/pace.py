"""Policies for the pace of a haul and for its limits."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from willow_cart.errors import ProtocolError, TookTooLong, TooSlow
from willow_cart.structs import Value
from willow_cart.units import format_duration, format_size

# The speed of the first seconds says nothing.
_GRACE_SECONDS = 10.0


class Pace(Value):
    """The pace of requests.

    Attributes:
        gap: seconds between two starts at one host.
        jitter: by what share of it the gap is longer or shorter, by chance.
        speed_cap: bytes a second of the whole haul; None for as many as come.
    """

    gap: float = 0.0
    jitter: float = 0.0
    speed_cap: int | None = None

    @property
    def is_free(self) -> bool:
        """Whether requests follow each other as fast as they can."""
        return not (self.gap or self.speed_cap)

    def speed_share(self, count: int) -> int | None:
        """Return the share of one of several workers in bytes a second; None for no limit."""
        return self.speed_cap and max(1, self.speed_cap // max(1, count))

    def gap_after(self, random_value: float) -> float:
        """Return the gap after a request.

        Args:
            random_value: a random number from 0 to 1.
        """
        return self.gap * (1 + self.jitter * (2 * random_value - 1))


class Limits(Value):
    """The limits for a single file.

    Attributes:
        largest: bytes; a ceiling for bodies without an end.
        slowest: bytes a second on the average of an attempt.
        longest: seconds for one attempt.
    """

    largest: int | None = None
    slowest: int | None = None
    longest: float | None = None

    def require_size(self, thing: str, size: int) -> None:
        """Refuse a file that is larger than allowed, by its announced or actual size.

        Raises:
            ProtocolError: it is.
        """
        if self.largest is not None and size > self.largest:
            raise ProtocolError(
                thing,
                f"is larger than {format_size(self.largest)}",
                "use a larger --largest to accept it",
            )

    def require_progress(self, thing: str, received: int, seconds: float) -> None:
        """Refuse a transfer that is too slow.

        Args:
            thing: the file.
            received: bytes that came in this attempt.
            seconds: how long that took, without what was waited for by our own wish.

        Raises:
            TookTooLong: it has had all the time that it may have.
            TooSlow: it is too slow; another attempt may be better served.
        """
        if self.longest is not None and seconds > self.longest:
            raise TookTooLong(
                thing,
                f"has taken longer than {format_duration(self.longest)}",
                "the part that arrived is kept; run the same command to resume",
            )
        if (
            self.slowest is not None
            and seconds > _GRACE_SECONDS
            and received < self.slowest * seconds
        ):
            raise TooSlow(thing, f"arrives at {format_size(int(received / seconds))}/s, too slowly")


class Meter:
    """Meters one attempt: delays it for the speed cap, and enforces the limits.

    Args:
        thing: the file.
        limits: what it may not do.
        cap: what it shares with other lanes; None if it may be as fast as it is.
        wait: waits for a number of seconds, or until the user wants to stop.
        clock: monotonic, in seconds.
    """

    def __init__(
        self,
        thing: str,
        limits: Limits,
        cap: SpeedCap | None,
        wait: Callable[[float], object],
        clock: Callable[[], float],
    ) -> None:
        self._thing = thing
        self._limits = limits
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
        self._limits.require_size(self._thing, size)
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
        self._limits.require_progress(self._thing, self._received + uncounted, seconds)


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
