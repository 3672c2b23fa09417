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


BRIEFLY = Patience(attempts=3)
"""For looking at places, which somebody waits for."""


ONCE_MORE = Patience(attempts=2, longest_wait=10.0)
"""For asking many places one thing each: a busy one gets a second chance, and no more."""


def persist(
    attempt: Callable[[], Answer],
    patience: Patience,
    *,
    sleep: Callable[[float], object] = time.sleep,
    chance: Callable[[], float] = random.random,
) -> Answer:
    """Make an attempt again until it succeeds or patience ends; for the few things done in line.

    Args:
        attempt: what to do.
        patience: when to do it again.
        sleep: waits for so many seconds.
        chance: gives random numbers from 0 to 1.

    Raises:
        TransferFailed: the last attempt's error.
    """
    vain = 0
    while True:
        try:
            return attempt()
        except TryAgain as error:
            vain += 1
            pause = patience.pause_after(vain, error.wait, chance())
            if pause is None:
                raise
            sleep(pause)
