"""Have several workers of a cluster fetch one large file.

The worker that carries the file lends segments of it; the coordinator passes each to another
worker, which writes into the same partial file, and gives it back with what came. Before a file is
carried anew, or given its name, no other worker writes into it any more.
"""

from __future__ import annotations

import itertools
from contextlib import suppress

from willow_cart.executors import cluster_worker
from willow_cart.executors.cluster_client import Gone
from willow_cart.executors.cluster_files import FileOnItsWay
from willow_cart.executors.cluster_lending import Fetched
from willow_cart.executors.cluster_members import ClusterMember, ClusterMembers
from willow_cart.transfer.lent_segments import LentSegment
from willow_cart.transfer.observer import Observer
from willow_cart.transfer.segments import Assistance, SegmentJob


class ClusterSegments:
    """Passes segments of files between workers.

    Args:
        members: the workers.
        haul: the name of the haul.
        observer: receives the progress.
    """

    def __init__(self, members: ClusterMembers, haul: str, observer: Observer) -> None:
        self._members = members
        self._haul = haul
        self._observer = observer
        # Files have positive numbers; where both are counted, segments have negative ones.
        self._numbers = itertools.count(-1, -1)

    def fetch(self, found: SegmentJob, lane: int) -> Assistance:
        """Have a worker fetch a segment of another worker's file.

        Raises:
            ClusterLost: no worker is left, or no scheduler.
            Interrupted: the haul is to end.
        """
        file = found.transfer.elsewhere
        assert isinstance(file, FileOnItsWay), "files of this process have strands"
        helper = self._members.choose_idle(file.worker)
        lent = None if helper is None else self._borrow(found.transfer.number, file)
        if helper is None or lent is None:
            if helper is not None:
                self._members.release(helper)
            file.rest()
            return Assistance(served=True, progressed=False)
        fetched = Fetched(lent.start)
        try:
            fetched = self._fetch(helper, file, found, lent, lane)
        finally:
            with suppress(Gone, cluster_worker.NoShare):
                self._members.call(
                    file.worker, cluster_worker.take_back, self._haul, lent.number, fetched
                )
        found.transfer.count(fetched.received)
        progressed = fetched.at > lent.start
        if progressed:
            found.transfer.note_ranges_served()
        return Assistance(fetched.served, progressed, fetched.failure)

    def end(self, file: FileOnItsWay) -> None:
        """Wait until no worker fetches a segment of a file any more."""
        for number, worker in file.end().items():
            with suppress(Gone, cluster_worker.NoShare):
                self._members.call(worker, cluster_worker.stop_fetching, self._haul, number)
        file.wait_for_segments()

    def _borrow(self, number: int, file: FileOnItsWay) -> LentSegment | None:
        try:
            lent: LentSegment | None = self._members.call(
                file.worker, cluster_worker.lend, self._haul, number, file.segment_bytes
            )
        except (Gone, cluster_worker.NoShare):
            return None  # who waits for the file finds out
        return lent

    def _fetch(
        self,
        helper: ClusterMember,
        file: FileOnItsWay,
        found: SegmentJob,
        lent: LentSegment,
        lane: int,
    ) -> Fetched:
        number = next(self._numbers)
        filed = found.transfer.filed
        if not file.begin_segment(number, helper.address):
            self._members.release(helper)
            return Fetched(lent.start)
        told = FileOnItsWay(lane, filed, helper.address, begun=True, whole=file)
        helper.told[number] = told
        self._observer.handed_over(lane, helper.name)
        self._observer.joined(lane, filed, lent.start, lent.end)
        try:
            fetched: Fetched = self._members.run(
                helper, cluster_worker.fetch, self._haul, number, filed, lent, found.address
            )
            self._observer.received(lane, told.received(fetched.received))
            return fetched
        except Gone:
            file.may_be_written |= helper.frozen
            return Fetched(lent.start)
        finally:
            helper.told.pop(number, None)
            file.end_segment(number)
