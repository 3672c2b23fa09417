"""Run transfers in the threads of this process."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence

from willow_cart.errors import InternalError, Interrupted, TransientError, WillowCartError
from willow_cart.events import BugMet
from willow_cart.executors.executor import MAX_SMALL_FILE_BYTES, Executor, Outcome, ends_batch
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.segments import Assistance, SegmentJob
from willow_cart.transfer.transfers import Transfer


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
                and transfer.offer.size <= MAX_SMALL_FILE_BYTES
            ]
        )

    def carry(self, transfers: Sequence[Transfer], lane: int) -> Iterator[tuple[Transfer, Outcome]]:
        """Make one attempt at each transfer; see `Executor.carry`."""
        for transfer in transfers:
            outcome = self._attempt(transfer, lane)
            yield transfer, outcome
            if ends_batch(outcome):
                return

    def _attempt(self, transfer: Transfer, lane: int) -> Outcome:
        try:
            return self._file_transfer.attempt(transfer, lane)
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
        except Exception as error:  # its own lane will fetch it, or fail likewise
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
            Interrupted: it was; what had come is kept.
        """
        if self._stop.is_set() and isinstance(error, TransientError):
            raise Interrupted(error.thing, "interrupted") from error

    def abort(self) -> None:
        """End every exchange in progress; see `Executor.abort`."""
        self._file_transfer.downloader.access.abort()
