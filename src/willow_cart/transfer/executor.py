"""The interface between the queue of a haul and the threads or processes that run transfers."""

from __future__ import annotations

import threading
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress

from willow_cart.addresses import host_of
from willow_cart.errors import (
    ConnectionLost,
    InternalError,
    Interrupted,
    ServerBusy,
    TransferFailed,
    TransientError,
    WillowCartError,
)
from willow_cart.events import BugMet
from willow_cart.ledger.entries import Result
from willow_cart.model import Validators
from willow_cart.protocols.base import MAX_SMALL_BYTES, Download, SmallRequest, Unchanged
from willow_cart.structs import Value
from willow_cart.transfer.commit import VerifiedFile
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.segments import Assistance, SegmentJob
from willow_cart.transfer.transfers import Transfer

Outcome = Result | VerifiedFile | WillowCartError
"""The result of an attempt: what is to be entered, a whole and checked file, or why it failed."""


# A batch of small files, which ends sooner if it takes longer than `BatchRule.seconds`, and how
# many hosts have one at a time.
_FILES_PER_LOOP = 256
_LOOPS = 2

# A host that takes longer for a file, one by one, may serve more lanes than a loop has requests.
_SLOWEST_IN_LOOP = 0.02


def ends_batch(outcome: Outcome | None) -> bool:
    """Whether an outcome ends a batch because the host should not be asked for the rest."""
    return isinstance(outcome, ServerBusy | ConnectionLost)


class BatchRule(Value):
    """How many files a batch has.

    Attributes:
        files: at most.
        seconds: how long it keeps its lane busy. In shorter ones the passing to and fro costs
            more; after longer ones a large file after them, or a wish to stop, would wait.
        slowest: the seconds of a file beyond which it waits for its line: several at a time are
            faster than one by one.
        lanes: how many of a host's lanes it takes.
        after_one: whether a file of the host must have come before, one by one.
    """

    files: int = 1
    seconds: float = 0.25
    slowest: float = 0.05
    lanes: int = 1
    after_one: bool = False


class Executor(ABC):
    """Runs attempts at transfers, one batch at a time for each lane.

    Queue, pace, retries, names, commit and ledger are its caller's. What an executor promises:

    - `carry` yields each transfer of the batch at most once. One that it does not yield was not
      begun, and can be given to any executor.
    - A busy or broken host ends a batch at once; what was requested together still comes, and the
      rest of it is not begun.
    - The counters of a transfer are up to date and its observer has been notified when it is
    yielded;
      nothing is reported of the next one before.
    - After `abort`, `carry` ends or raises `Interrupted` within seconds. After `close`, nothing
      that it started is left running.

    Attributes:
        batches: how many transfers a batch has.
        lanes: how many lanes should use it at a time.
    """

    batches: BatchRule = BatchRule()
    lanes: int = 1

    def serves(self, transfers: Sequence[Transfer]) -> bool:  # noqa: ARG002  # most serve any
        """Whether files of this host, some of which are given, can run here at all."""
        return True

    def suited(self, transfers: Sequence[Transfer]) -> Sequence[Transfer]:
        """Return the transfers of a batch that can run here."""
        return transfers

    def files_ahead(self, address: str) -> int:  # noqa: ARG002  # most prepare nothing
        """Return how many files of a server should be prepared at a time."""
        return 0

    def prepare(self, transfers: Sequence[Transfer]) -> None:  # noqa: B027  # as above
        """Request small files of one host that will be carried next, without waiting for them."""

    @abstractmethod
    def carry(
        self, transfers: Sequence[Transfer], lane: int, at_once: int = 1
    ) -> Iterable[tuple[Transfer, Outcome]]:
        """Make one attempt at each transfer of a batch; yield the outcomes as they come.

        Args:
            transfers: the transfers, all of one host.
            lane: the lane that waits for them.
            at_once: how many requests to their host may be in flight at a time.

        Raises:
            Interrupted: the haul is to end; received bytes are kept.
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


class ThreadExecutor(Executor):
    """Runs transfers in the thread of the lane that calls.

    Args:
        file_transfer: makes the attempts.
        stop: set when the haul is to end.
    """

    def __init__(self, file_transfer: FileTransfer, stop: threading.Event) -> None:
        self._file_transfer = file_transfer
        self._stop = stop

    def files_ahead(self, address: str) -> int:
        """Return how many files should be opened ahead; see `Executor.files_ahead`."""
        downloader = self._file_transfer.downloader
        return downloader.access.files_ahead(address) if downloader.policy.pace.may_hurry else 0

    def prepare(self, transfers: Sequence[Transfer]) -> None:
        """Open small files ahead that are certain to be requested; see `Executor.prepare`."""
        self._file_transfer.downloader.access.open_ahead(
            [
                transfer.address
                for transfer in transfers
                if not (transfer.attempts or transfer.offer.checksums)
                and transfer.offer.size is not None
                and transfer.offer.size <= MAX_SMALL_BYTES
            ]
        )

    def carry(
        self,
        transfers: Sequence[Transfer],
        lane: int,
        at_once: int = 1,  # noqa: ARG002  # one after the other
    ) -> Iterator[tuple[Transfer, Outcome]]:
        """Make one attempt at each transfer; see `Executor.carry`."""
        for transfer in transfers:
            outcome = self._attempt(transfer, lane)
            yield transfer, outcome
            if ends_batch(outcome):
                return

    def _attempt(
        self, transfer: Transfer, lane: int, came: Download | TransferFailed | None = None
    ) -> Outcome:
        try:
            return self._file_transfer.attempt(transfer, lane, came)
        except Interrupted:
            raise
        except WillowCartError as error:
            self._require_going_on(error)
            return error
        except Exception as error:  # one odd file must not end the haul
            return self._unforeseen(transfer, error)

    def assist(self, found: SegmentJob, lane: int) -> Assistance:
        """Fetch a strand of another lane's file; see `Executor.assist`."""
        strand = found.strand
        failure: WillowCartError | None = None
        served = True
        try:
            served = self._file_transfer.assist(found.transfer, strand, found.address, lane)
        except Interrupted:
            raise
        except WillowCartError as error:
            self._require_going_on(error)
            failure = error
        except Exception as error:  # its own lane will fetch it, or fail as above
            failure = self._unforeseen(found.transfer, error)
        return Assistance(served, strand.at > strand.start, failure)

    def _unforeseen(self, transfer: Transfer, error: Exception) -> InternalError:
        """Return the failure for an unexpected exception, and log it."""
        failure = InternalError.of(transfer.shown, error)
        self._file_transfer.downloader.observer.note(BugMet(transfer.filed.path, failure))
        self._file_transfer.downloader.discard(transfer)
        return failure

    def _require_going_on(self, error: WillowCartError) -> None:
        """Raise Interrupted if the connection was closed because the haul is stopping.

        Raises:
            Interrupted: it was; received bytes are kept.
        """
        if self._stop.is_set() and isinstance(error, TransientError):
            raise Interrupted(error.thing, "interrupted") from error

    def abort(self) -> None:
        """End every exchange in progress; see `Executor.abort`."""
        self._file_transfer.downloader.access.abort()


class SmallFileExecutor(ThreadExecutor):
    """Runs transfers of small files in the thread of the lane, with several requests in flight.

    Args:
        file_transfer: makes the attempts.
        stop: set when the haul is to end.
        at_once: how many requests to a host are in flight.
    """

    lanes = _LOOPS

    def __init__(self, file_transfer: FileTransfer, stop: threading.Event, at_once: int) -> None:
        super().__init__(file_transfer, stop)
        self.batches = BatchRule(
            _FILES_PER_LOOP, slowest=_SLOWEST_IN_LOOP, lanes=at_once, after_one=True
        )
        self._unfit: set[str] = set()  # hosts with files that were not small
        self._held: dict[int, Validators | None] = {}

    def serves(self, transfers: Sequence[Transfer]) -> bool:
        """Whether the host can be asked for several files."""
        return any(map(self._can_fetch, transfers))

    def _can_fetch(self, transfer: Transfer) -> bool:
        return self._file_transfer.downloader.access.fetches_small(transfer.address)

    def suited(self, transfers: Sequence[Transfer]) -> Sequence[Transfer]:
        """Return the files that are small and new, or known, where a server takes several."""
        with self._file_transfer.destination.holding_folders():
            return [transfer for transfer in transfers if self._suits(transfer)]

    def _suits(self, transfer: Transfer) -> bool:
        partials = self._file_transfer.downloader.partials
        is_begun = transfer.attempts or partials.record_of(transfer.id) is not None
        if is_begun or not self._can_fetch(transfer):
            return False
        size = transfer.offer.size
        if size is None:
            is_small = host_of(transfer.address) not in self._unfit
        else:
            is_small = size <= MAX_SMALL_BYTES
        held = None
        if not (is_small and self._file_transfer.is_new(transfer)):
            held = self._file_transfer.version_here(transfer)
            if held is None:
                return False
        self._held[transfer.number] = held
        return True

    def carry(
        self, transfers: Sequence[Transfer], lane: int, at_once: int = 1
    ) -> Iterator[tuple[Transfer, Outcome]]:
        """Make one attempt at each transfer, in the order in which they come."""
        if not transfers:
            return
        asked = [
            SmallRequest(transfer.address, self._held.pop(transfer.number, None))
            for transfer in transfers
        ]
        coming = self._file_transfer.downloader.access.fetch_small(
            asked, at_once, lambda: not self._stop.is_set()
        )
        with self._file_transfer.destination.holding_folders():
            for place, came in coming:
                transfer, is_new = transfers[place], asked[place].held is None
                if came is None and is_new:
                    self._unfit.add(host_of(transfer.address))
                elif came is None:
                    pass  # it has changed, and is requested again
                elif isinstance(came, Unchanged):
                    yield transfer, self._file_transfer.unchanged(transfer)
                else:
                    yield transfer, self._take(transfer, lane, came, is_new=is_new)

    def _take(
        self, transfer: Transfer, lane: int, came: Download | TransferFailed, *, is_new: bool
    ) -> Outcome:
        outcome = None
        if is_new and not isinstance(came, TransferFailed):
            with suppress(Exception):  # an odd one; an attempt says why
                outcome = self._file_transfer.take_small(transfer, lane, came)
        return self._attempt(transfer, lane, came) if outcome is None else outcome
