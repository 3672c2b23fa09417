"""Patience: how often and after which pauses a file is asked for again."""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from willow_cart.errors import TryAgain

Answer = TypeVar("Answer")


@dataclass(frozen=True, slots=True)
class Patience:
    """A policy for what may pass by itself; it knows nothing of networks and clocks.

    An attempt that brought bytes which the next can be joined to does not count as vain: a long
    file over a poor line needs many.

    Attributes:
        attempts: how many vain attempts in a row there are before a file is given up.
        pause: seconds after the first vain attempt.
        growth: by how much each following pause is longer.
        longest: seconds above which pauses no longer grow.
        longest_wait: the longest wait in seconds that a server may ask for.
    """

    attempts: int = 5
    pause: float = 1.0
    growth: float = 2.0
    longest: float = 60.0
    longest_wait: float = 300.0

    def pause_after(self, vain: int, asked: float | None, chance: float) -> float | None:
        """How long to pause before the next attempt, in seconds; None to give up.

        Args:
            vain: how many attempts in a row were vain; 0 after one that brought bytes.
            asked: what the server asked for (RFC 9110, 10.2.3), or None.
            chance: a random number from 0 to 1; spreads the lanes, so that they do not all come
                back at once.
        """
        if vain >= self.attempts:
            return None
        if asked is not None:
            return asked if asked <= self.longest_wait else None
        grown: float = self.pause * self.growth ** max(0, vain - 1)
        return min(grown, self.longest) * (0.75 + 0.5 * chance)


ONCE_MORE = Patience(attempts=2, longest_wait=10.0)
"""For asking many places one thing each: a busy one gets a second chance, and no more."""


@dataclass(frozen=True, slots=True)
class Retrier:
    """Makes attempts again until one succeeds or patience ends; outside of lanes.

    Attributes:
        patience: when to try again.
        wait: waits for so many seconds, and says whether the person wants to stop meanwhile.
        tell: told of every wait: why, and for how many seconds.
        random_value: gives random numbers from 0 to 1.
    """

    patience: Patience = Patience()
    wait: Callable[[float], bool | None] = time.sleep
    tell: Callable[[TryAgain, float], object] = lambda error, pause: None  # noqa: ARG005
    random_value: Callable[[], float] = random.random

    def run(self, attempt: Callable[[], Answer], patience: Patience | None = None) -> Answer:
        """Make an attempt until it succeeds.

        Args:
            attempt: what to do.
            patience: when to try again, where that is not as usual.

        Raises:
            TransferFailed: the last attempt's error.
        """
        failures = 0
        while True:
            try:
                return attempt()
            except TryAgain as error:
                failures += 1
                patience = patience or self.patience
                pause = patience.pause_after(failures, error.wait, self.random_value())
                if pause is None:
                    raise
                self.tell(error, pause)
                if self.wait(pause):
                    raise


@dataclass(frozen=True, slots=True)
class RequestRules:
    """How requests are made, whatever they are for.

    Attributes:
        patience: when to try again.
        gap_after: gives the seconds between a request to a host and the next; None for no gaps.
        stall_after: seconds without a byte after which a connection counts as broken.
        longest: seconds that one attempt may take; None for no limit.
    """

    patience: Patience = Patience()
    gap_after: Callable[[], float] | None = None
    stall_after: float = 60.0
    longest: float | None = None
