"""The summary of a haul: counts, and the resulting exit code."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from willow_cart.errors import Exit
from willow_cart.events import Ended, Unpacked
from willow_cart.ledger.entries import Arrival, Result
from willow_cart.model import State
from willow_cart.structs import Record, field


class HaulSummary(Record):
    """The result of a haul.

    Attributes:
        run: its number in the destination's ledger.
        planned: how many files there were to haul.
        seconds: how long it took.
        interrupted: whether it was stopped before its end.
        unsound: how many files arrived that are broken inside, or not as listed.
        counts: how many files there are in each state.
        received: bytes that came, those of files that are not whole yet included.
        twins: how many of them have the same bytes as another file here.
        twin: the paths of one of these and of the other file.
        unpacked: how many archives were unpacked.
        unpacked_before: how many had been in an earlier run.
        members: how many files came out of them.
        left_out: how many members were not taken, in earlier runs included.
        not_unpacked: how many archives could not be unpacked.
        unhandled: of how many files the command on arrival failed.
        archives: each archive to be unpacked, with its destination.
    """

    run: int
    planned: int
    seconds: float = 0.0
    interrupted: bool = False
    unsound: int = 0
    counts: Counter[State] = field(default_factory=Counter)
    received: int = 0
    twins: int = 0
    twin: tuple[str, str] = ("", "")
    unpacked: int = 0
    unpacked_before: int = 0
    members: int = 0
    left_out: int = 0
    not_unpacked: int = 0
    unhandled: int = 0
    archives: list[tuple[Path, Arrival]] = field(default_factory=list)

    def add(self, result: Result) -> None:
        """Count a settled file."""
        self.counts[result.state] += 1
        self.unsound += result.is_unsound
        if result.twin:
            self.twins += 1
            self.twin = self.twin if self.twins > 1 else (result.path, result.twin)

    def ended(self) -> Ended:
        """Return the event of its end."""
        counts = {str(state): files for state, files in self.counts.items()}
        return Ended(
            self.run, self.planned, counts, self.received, self.seconds, int(self.exit_code)
        )

    def add_unpacked(self, unpacked: Unpacked) -> None:
        """Count an archive."""
        self.unpacked += unpacked.is_new
        self.unpacked_before += not (unpacked.is_new or unpacked.failed)
        self.members += unpacked.files
        self.left_out += len(unpacked.left_out) + unpacked.left_out_before
        self.not_unpacked += bool(unpacked.failed)

    @property
    def remaining(self) -> int:
        """Return how many files are not settled; 0 unless the haul was interrupted."""
        return self.planned - self.counts.total()

    @property
    def exit_code(self) -> Exit:
        """Return the exit code: the most serious of what happened.

        An interruption comes first, since the rest is not known yet; then a failed check, which
        means that something is wrong with the data and not only with the line.
        """
        if self.interrupted:
            return Exit.INTERRUPTED
        if self.counts[State.REFUSED] or self.unsound or self.not_unpacked:
            return Exit.CHECK_FAILED
        if self.counts[State.FAILED] or self.left_out or self.unhandled:
            return Exit.INCOMPLETE
        return Exit.GOOD
