"""What a worker lends of the files that it carries, and what it fetches of those of others."""

from __future__ import annotations

import threading
from collections.abc import MutableMapping
from dataclasses import dataclass, replace

from willow_cart.addresses import host_of
from willow_cart.destination import Destination
from willow_cart.errors import WillowCartError
from willow_cart.executors.executor import Executor
from willow_cart.filing import Filed
from willow_cart.platform import disks
from willow_cart.redaction import without_secrets
from willow_cart.transfer.lent_segments import BorrowedFile, LentSegment
from willow_cart.transfer.partials import Segment
from willow_cart.transfer.segments import SegmentJob
from willow_cart.transfer.transfers import Transfer


@dataclass(frozen=True, slots=True)
class Fetched:
    """The result of fetching a segment.

    Attributes:
        at: the byte behind the last that was written of it.
        received: how many bytes came.
        served: whether the place serves parts of that version.
        failure: why it ended early; None if it did not.
        boot: tells the machine that has written it.
    """

    at: int
    received: int = 0
    served: bool = True
    failure: WillowCartError | None = None
    boot: str = ""


class Lending:
    """The segments that a worker has lent, and those that it has borrowed.

    Args:
        here: fetches segments.
        destination: where all workers have the partial files.

    Attributes:
        moving: the transfers in progress, by their numbers.
    """

    def __init__(self, here: Executor, destination: Destination) -> None:
        self.moving: MutableMapping[int, Transfer] = {}
        self._here = here
        self._destination = destination
        self._lent: dict[int, Segment] = {}
        self._count = 0
        self._borrowed: dict[int, BorrowedFile] = {}
        self._stopped: set[int] = set()
        self._lock = threading.Lock()

    def lend(self, number: int, share: int) -> LentSegment | None:
        """Return a segment of a file in progress that another worker may fetch; None if none.

        Args:
            number: of the file.
            share: how many bytes it should have.
        """
        transfer = self.moving.get(number)
        partial = transfer.partial if transfer is not None else None
        if transfer is None or partial is None or transfer.alone:
            return None
        partial.share = share
        try:
            segment = partial.lend()
        except OSError:
            return None  # its own lane will find out
        if segment is None:
            return None
        assert segment.end is not None, "what is lent has an end"
        with self._lock:
            self._count += 1
            self._lent[self._count] = segment
            facts = replace(partial.facts, address=without_secrets(partial.facts.address))
            return LentSegment(self._count, partial.name, facts, segment.start, segment.end)

    def take_back(self, number: int, fetched: Fetched) -> None:
        """Take back a segment with the result of fetching it."""
        with self._lock:
            segment = self._lent.pop(number, None)
        if segment is not None:
            try:
                segment.partial.take_back(
                    segment, fetched.at, is_elsewhere=fetched.boot != disks.boot_mark()
                )
            except OSError:
                segment.release()  # its own lane will find out

    def fetch(self, number: int, filed: Filed, lent: LentSegment, address: str) -> Fetched:
        """Fetch a segment of another worker's file.

        Args:
            number: of this task; tells its progress, and stops it.
            filed: the file.
            lent: the segment.
            address: where to ask for it.

        Raises:
            Interrupted: the haul is to end.
        """
        file = BorrowedFile(self._destination, lent)
        transfer = Transfer(number, filed)
        with self._lock:
            if number in self._stopped:
                return Fetched(lent.start)
            self._borrowed[number] = file
        job = SegmentJob(transfer, file.segment, address, host_of(address))
        try:
            done = self._here.assist(job, number)
        finally:
            with self._lock:
                del self._borrowed[number]
        return Fetched(
            file.segment.at, transfer.received, done.served, done.failure, disks.boot_mark()
        )

    def stop(self, number: int) -> None:
        """Stop fetching a segment, also one that has not begun."""
        with self._lock:
            self._stopped.add(number)
            if (file := self._borrowed.get(number)) is not None:
                file.abandon()
