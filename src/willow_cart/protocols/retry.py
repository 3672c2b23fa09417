"""The retry policy for files, listings and sign-ins, without network or clock.

What is asked of it is a `Failure` with all that counts; what it says is `Retry` or `GiveUp`.
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from enum import Enum
from typing import Self, TypeVar

from willow_cart.errors import (
    ConnectionLost,
    HostUnknown,
    NotTrusted,
    ServerBusy,
    TooManyFiles,
    TransientError,
    WillowCartError,
)
from willow_cart.options.groups import PatienceOptions
from willow_cart.structs import Value, replace

Answer = TypeVar("Answer")

# Answers by which a host states that it is requested too much (RFC 6585, 4; RFC 9110, 15.6.4).
BUSY = frozenset({421, 429, 503})

# So often a file is not blamed for a busy host, or for a connection that it drops: one address that
# always fails must not slow down all others of its host.
_MAX_FREE_RETRIES = 20
_MAX_FREE_RETRIES_AFTER_LOSS = 2


class Cause(Enum):
    """What a failure is charged to."""

    FILE = "file"
    HOST = "host"
    CROWDING = "concurrency"
    """The host is overloaded; it gets fewer requests, and the file is not charged."""


class Failure(Value):
    """A failed attempt, with what the decision depends on.

    Attributes:
        error: what went wrong; a busy server's has its status and its Retry-After.
        consecutive: how many attempts in a row fetched nothing that can be resumed; 0
            for one that fetched something.
        excused: how often the file was not blamed.
        served: how often its host has answered well lately.
        has_company: whether other files are being fetched from its host.
    """

    error: WillowCartError
    consecutive: int = 1
    excused: int = 0
    served: int = 0
    has_company: bool = False

    @property
    def cause(self) -> Cause:
        """What it is charged to.

        A file that is not there, or not as promised, says nothing against its host, and neither
        does a line that breaks after it has fetched something.
        """
        if self._is_crowding:
            return Cause.CROWDING
        if isinstance(self.error, TooManyFiles):
            return Cause.FILE
        if isinstance(self.error, TransientError):
            return Cause.HOST if self.consecutive else Cause.FILE
        return Cause.HOST if isinstance(self.error, HostUnknown | NotTrusted) else Cause.FILE

    @property
    def _is_crowding(self) -> bool:
        """Whether the host is overloaded rather than broken.

        A host that says how long it wants to be left alone is not broken, and neither is one that
        drops one of several connections while the others are served.
        """
        error = self.error
        if isinstance(error, ServerBusy):
            says_so = error.wait is not None or error.most is not None
            return self.excused < _MAX_FREE_RETRIES and (
                says_so or (error.status in BUSY and self.served > 0)
            )
        # A file whose connection breaks every time is broken itself.
        lost = isinstance(error, ConnectionLost) and self.consecutive > 0
        return lost and self.excused < _MAX_FREE_RETRIES_AFTER_LOSS and self.has_company


class Retry(Value):
    """A decision to retry.

    Attributes:
        after: seconds.
    """

    after: float


class GiveUp(Enum):
    """A decision to give up, with the reason."""

    PERMANENT = "permanent"
    """Asking again the same way will not help."""
    ATTEMPTS = "attempts"
    """It was requested often enough."""
    WAIT = "wait"
    """The server wants to be left alone for longer than is waited."""


# A host that keeps failing is left alone for this many times the pause of a file.
_SUSPENSION_FACTOR = 30


class RetryPolicy(Value):
    """An immutable retry policy; it knows no network and no clock.

    An attempt that fetched bytes which the next can be joined to does not count as failed: a long
    file over a poor line needs many.

    Attributes:
        attempts: how many failed attempts in a row there are before a file is given up.
        pause: seconds after the first failed attempt.
        growth: by how much each following pause is longer.
        longest: seconds above which pauses no longer grow.
        longest_wait: the longest wait in seconds that a server may ask for.
    """

    attempts: int = 5
    pause: float = 1.0
    growth: float = 2.0
    longest: float = 60.0
    longest_wait: float = 300.0

    @classmethod
    def of(cls, options: PatienceOptions) -> Self:
        """Return the policy that options describe."""
        made = cls(attempts=options.attempts, longest_wait=options.longest_wait)
        if options.pause is None:
            return made
        return replace(made, pause=options.pause, growth=1.0, longest=options.pause)

    def decide(self, failure: Failure, random_value: float) -> Retry | GiveUp:
        """Decide what to do about a failure.

        Args:
            failure: what is known of it.
            random_value: a random number from 0 to 1; spreads the lanes.
        """
        error = failure.error
        if not isinstance(error, TransientError):
            return GiveUp.PERMANENT
        if error.wait is not None and error.wait > self.longest_wait:
            return GiveUp.WAIT
        pause = self.pause_after(failure.consecutive, error.wait, random_value)
        return GiveUp.ATTEMPTS if pause is None else Retry(pause)

    def pause_after(
        self, consecutive_failures: int, asked: float | None, random_value: float
    ) -> float | None:
        """Return the pause before the next attempt in seconds; None to give up.

        Args:
            consecutive_failures: how many attempts in a row failed; 0 after one that fetched
                bytes.
            asked: what the server requested (RFC 9110, 10.2.3), or None.
            random_value: a random number from 0 to 1; spreads the lanes, so that they do not all
                come back at once.
        """
        if consecutive_failures >= self.attempts:
            return None
        if asked is not None:
            return asked if asked <= self.longest_wait else None
        if self.growth == 1.0:
            return self.pause  # as the user gave it
        grown: float = self.pause * self.growth ** max(0, consecutive_failures - 1)
        return min(grown, self.longest) * (0.75 + 0.5 * random_value)

    def host_pause_after(self, times: int, random_value: float) -> float | None:
        """Return how long a host that keeps failing is left alone, in seconds; None to give up.

        A fixed pause is what the user wants, and holds for hosts as well.

        Args:
            times: how often in a row it has failed for many files.
            random_value: as for `pause_after`.
        """
        pause = self.pause_after(times, None, random_value)
        if pause is None:
            return None
        return pause if self.growth == 1.0 else pause * _SUSPENSION_FACTOR


def tell_nothing(*_: object) -> None:
    """Tell nothing; a named function, so that it can be pickled."""


class Retrier(Value):
    """Retries attempts until one succeeds or the policy gives up; used outside of lanes.

    Attributes:
        retry_policy: when to try again.
        wait: waits for a number of seconds, and returns whether the user wants to stop meanwhile.
        tell: notified of every wait: why, and for how many seconds.
        random_value: gives random numbers from 0 to 1.
    """

    retry_policy: RetryPolicy = RetryPolicy()
    wait: Callable[[float], bool | None] = time.sleep
    tell: Callable[[TransientError, float], object] = tell_nothing
    random_value: Callable[[], float] = random.random

    def run(self, attempt: Callable[[], Answer], retry_policy: RetryPolicy | None = None) -> Answer:
        """Call an attempt until it succeeds.

        Args:
            attempt: what to do.
            retry_policy: when to try again, where that is not as usual.

        Raises:
            TransferFailed: the last attempt's error.
        """
        failures = 0
        while True:
            try:
                return attempt()
            except TransientError as error:
                failures += 1
                retry_policy = retry_policy or self.retry_policy
                decision = retry_policy.decide(Failure(error, failures), self.random_value())
                if isinstance(decision, GiveUp):
                    raise
                self.tell(error, decision.after)
                if self.wait(decision.after):
                    raise
