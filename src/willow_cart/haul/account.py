"""The account of a haul: counts, and the exit code that follows from them."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

from willow_cart.exits import Exit
from willow_cart.model import State
from willow_cart.records import Result


@dataclass(slots=True)
class Account:
    """What came of a haul.

    Attributes:
        run: its number in the destination's ledger.
        planned: how many files there were to haul.
        seconds: how long it took.
        interrupted: whether it was stopped before its end.
        unsound: how many files arrived that are broken inside.
        counts: how many files there are in each state.
        received: bytes that came, those of files that are not whole yet included.
    """

    run: int
    planned: int
    seconds: float = 0.0
    interrupted: bool = False
    unsound: int = 0
    counts: Counter[State] = field(default_factory=Counter)
    received: int = 0

    def add(self, result: Result) -> None:
        """Count a file whose outcome is known."""
        self.counts[result.state] += 1
        self.unsound += result.is_unsound

    @property
    def remaining(self) -> int:
        """How many files have no outcome; none unless it was interrupted."""
        return self.planned - self.counts.total()

    @property
    def exit_code(self) -> Exit:
        """What the shell is told; the gravest of what happened.

        An interruption comes first, since the rest is not known yet; then a failed check, which
        means that something is wrong with the data and not only with the line.
        """
        if self.interrupted:
            return Exit.INTERRUPTED
        if self.counts[State.REFUSED] or self.unsound:
            return Exit.CHECK_FAILED
        if self.counts[State.FAILED]:
            return Exit.INCOMPLETE
        return Exit.GOOD
