"""The interface between the queue of a haul and the threads or processes that run transfers."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Sequence

from willow_cart.errors import ConnectionLost, ServerBusy, WillowCartError
from willow_cart.ledger.entries import Result
from willow_cart.structs import Value
from willow_cart.transfer.commit import VerifiedFile
from willow_cart.transfer.segments import Assistance, SegmentJob
from willow_cart.transfer.transfers import Transfer

Outcome = Result | VerifiedFile | WillowCartError
"""The result of an attempt: what is to be entered, a whole and checked file, or why it failed."""


MAX_SMALL_FILE_BYTES = 64 << 10
"""What comes in one piece. Of what does not, a part may have to be recorded, and only the process
that writes the ledger can do that."""


def ends_batch(outcome: Outcome | None) -> bool:
    """Whether an outcome ends a batch because the host should not be asked for the rest."""
    return isinstance(outcome, ServerBusy | ConnectionLost)


class BatchRule(Value):
    """How many files a batch has.

    Attributes:
        files: at most.
        seconds: how long it keeps its lane busy. In shorter ones the passing to and fro costs
            more; after longer ones a large file behind them, or a wish to stop, would wait.
        slowest: the seconds of a file beyond which it waits for its line: several at a time are
            faster than one by one.
    """

    files: int = 1
    seconds: float = 0.25
    slowest: float = 0.05


class Executor(ABC):
    """Runs attempts at transfers, one batch at a time for each lane.

    Queue, pace, retries, names, commit and ledger are its caller's. What an executor promises:

    - `carry` yields each transfer of the batch at most once. One that it does not yield was not
      begun, and can be given to any executor.
    - A busy or broken host ends a batch at once; the rest of it is not begun.
    - The counters of a transfer are up to date and its observer has been told when it is yielded;
      of the next one nothing is told before.
    - After `abort`, `carry` ends or raises `Interrupted` within seconds. After `close`, nothing
      that it started is left running.

    Attributes:
        batches: how many transfers a batch has.
        lanes: how many lanes should use it at a time.
    """

    batches: BatchRule = BatchRule()
    lanes: int = 1

    @property
    def is_open(self) -> bool:
        """Whether it accepts more batches."""
        return True

    @property
    def is_lost(self) -> bool:
        """Whether it ended by itself, and what it carried has to be carried by others."""
        return False

    def suits(self, transfer: Transfer) -> bool:  # noqa: ARG002  # most take anything
        """Whether a transfer can run here."""
        return True

    def files_ahead(self, address: str) -> int:  # noqa: ARG002  # most prepare nothing
        """Return how many files of a server should be prepared at a time."""
        return 0

    def prepare(self, transfers: Sequence[Transfer]) -> None:  # noqa: B027  # likewise
        """Request small files of one host that will be carried next, without waiting for them."""

    @abstractmethod
    def carry(self, transfers: Sequence[Transfer], lane: int) -> Iterable[tuple[Transfer, Outcome]]:
        """Make one attempt at each transfer of a batch, in order; yield the outcomes.

        Args:
            transfers: the transfers, all of one host.
            lane: the lane that waits for them.

        Raises:
            Interrupted: the haul is to end; what had come is kept.
        """

    def assist(
        self,
        found: SegmentJob,  # noqa: ARG002  # for those whose lanes share files
        lane: int,  # noqa: ARG002
    ) -> Assistance:
        """Fetch a strand of another lane's file; a failure is handled by that lane.

        Raises:
            Interrupted: the haul is to end.
        """
        return Assistance(served=False, progressed=False)

    def abort(self) -> None:  # noqa: B027  # threads end with their connections
        """End everything at once; data of running attempts may be lost."""

    def close(self) -> None:  # noqa: B027  # threads belong to the lanes
        """Stop everything that was started; may be called twice."""
