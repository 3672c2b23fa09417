"""Run transfers in the workers of a Dask cluster.

The queue, the pace, the retries, the names and the ledger stay in this process, the coordinator.
It hands batches of small files, or one large file, to a worker; while that is fetched, a thread for
each worker collects what the ledger has to know and how much has come. This is also how a worker
knows that it is still wanted.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import replace

from willow_cart.addresses import scheme_of
from willow_cart.destination import PARTIAL, Destination, cannot_store
from willow_cart.errors import CannotStore, ClusterLost, Interrupted
from willow_cart.executors import cluster_worker
from willow_cart.executors.cluster_client import ClusterClient, Gone
from willow_cart.executors.cluster_files import FileOnItsWay
from willow_cart.executors.cluster_joining import MemberSetup, require_usable_workers
from willow_cart.executors.cluster_members import ClusterMember, ClusterMembers, WorkerEntries
from willow_cart.executors.cluster_segments import ClusterSegments
from willow_cart.executors.cluster_worker import Batch
from willow_cart.executors.executor import MAX_SMALL_FILE_BYTES, Executor, Outcome
from willow_cart.executors.worker import Carried, Setup
from willow_cart.filing import Filed, Plan
from willow_cart.ledger.entries import PartRecord, Result
from willow_cart.model import Offer
from willow_cart.platform import disks
from willow_cart.protocols import Access
from willow_cart.redaction import without_secrets
from willow_cart.transfer.commit import LedgerWriter, VerifiedFile
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.observer import Observer
from willow_cart.transfer.partial_store import PartialStore
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.segments import Assistance, SegmentJob
from willow_cart.transfer.transfers import Transfer
from willow_cart.units import count_of

# A task costs the scheduler some milliseconds, whatever is in it.
_FILES_PER_BATCH = 64


class ClusterExecutor(Executor):
    """Runs transfers in the workers of a cluster, and those that need this process here.

    Args:
        client: talks to the scheduler.
        destination: where files are filed; workers have it under the same path.
        policy: how to do it.
        make_access: makes what talks to places, there.
        make_access_openly: the same with names in place of secrets; None if that cannot be.
        observer: receives the progress.
        ledger_writer: makes entries in the ledger.
        partials: what earlier runs have left.
        here: carries what workers cannot: files that are here already, and their strands.
        holds: whether an answer is kept in this process that is the file's.
        proved: the addresses of workers that need not be tested again.

    Raises:
        UnusableCluster: there are no workers, or one of them cannot be used.
    """

    def __init__(
        self,
        client: ClusterClient,
        destination: Destination,
        policy: HaulPolicy,
        *,
        make_access: Callable[[], Access],
        make_access_openly: Callable[[], Access] | None,
        observer: Observer,
        ledger_writer: LedgerWriter,
        partials: PartialStore,
        here: Executor,
        holds: Callable[[str], bool] = lambda _: False,
        proved: Collection[str] = (),
    ) -> None:
        self._client = client
        self._destination = destination
        self._observer = observer
        self._partials = partials
        self._here = here
        self._holds = holds
        self._attempts = policy.retry_policy.attempts
        self._haul = secrets.token_hex(8)
        self._large = 0
        setup = Setup.of(make_access, destination.root.absolute(), policy)
        openly = make_access_openly and replace(setup, make_access=make_access_openly)
        given = MemberSetup(self._haul, setup, openly, disks.boot_mark(), destination, proved)
        self._entries = WorkerEntries(ledger_writer)
        self._members = ClusterMembers(
            client, given, self._entries, observer, policy.pace.speed_share
        )
        self._segments = ClusterSegments(self._members, self._haul, observer)
        self.at_once = _FILES_PER_BATCH if policy.pace.is_free and policy.lanes > 1 else 1
        self.lanes = max(1, min(policy.lanes, self._members.lanes))

    # The seam

    def suits(self, transfer: Transfer) -> bool:
        """Whether a file is small and new, and may be carried with others."""
        size = transfer.offer.size
        is_small = size <= MAX_SMALL_FILE_BYTES if size is not None else not self._large
        is_new = not transfer.attempts and self._record_of(transfer) is None
        return is_small and is_new and self._is_for_workers(transfer)

    def _is_for_workers(self, transfer: Transfer) -> bool:
        """Whether a file can be fetched elsewhere: nothing of it is here but a partial file."""
        return (
            transfer.address == transfer.offer.address
            and scheme_of(transfer.address) != "file"  # of this machine
            and transfer.partial is None
            and self._destination.status(transfer.filed.path) is None
            and not self._holds(transfer.address)
        )

    def carry(self, transfers: Sequence[Transfer], lane: int) -> Iterator[tuple[Transfer, Outcome]]:
        """Make one attempt at each transfer; see `Executor.carry`."""
        if len(transfers) == 1 and not self._is_for_workers(transfers[0]):
            yield from self._here.carry(transfers, lane)
        elif len(transfers) == 1:
            yield transfers[0], self._carry_alone(transfers[0], lane)
        elif transfers:
            yield from self._carry_batch(transfers, lane)

    def _carry_batch(
        self, transfers: Sequence[Transfer], lane: int
    ) -> Iterator[tuple[Transfer, Outcome]]:
        """Carry small files; of a worker that is lost, what it had was not begun."""
        by_number = {transfer.number: transfer for transfer in transfers}
        batch = [(transfer.number, transfer.filed) for transfer in transfers]
        member = self._members.choose()
        self._observer.handed_over(lane, member.name)
        try:
            carried = self._hand_over(member, batch, None)
        except Gone:
            return
        self._large += sum(each.outcome is None for each in carried)
        for each in carried:
            if each.outcome is not None:
                transfer = by_number[each.number]
                outcome = self._take_over(transfer, each, each.outcome, member)
                self._observer.started(lane, transfer.filed, each.received, 0)
                self._observer.received(lane, each.received)
                self._observer.carried_by(transfer.filed, member.name)
                yield transfer, outcome

    def _carry_alone(self, transfer: Transfer, lane: int) -> Outcome:
        """Carry a file; if its worker is lost, another one resumes it at its byte."""
        # A file on its way in many workers that were lost may be what they were lost by.
        for _ in range(self._attempts):
            member = self._members.choose()
            self._observer.handed_over(lane, member.name)
            told = FileOnItsWay(lane, transfer.filed, member.address)
            member.told[transfer.number] = told
            transfer.leave_to(told)
            try:
                (carried,) = self._hand_over(
                    member, [(transfer.number, transfer.filed)], self._record_of(transfer)
                )
            except Gone:
                # It may still run, cut off from the scheduler only, and write.
                if failure := self._replace_by_copy(transfer):
                    return failure
                continue
            finally:
                member.told.pop(transfer.number, None)
                self._segments.end(told)
                transfer.leave_to(None)
            if told.may_be_written and (failure := self._replace_by_copy(transfer)):
                return failure
            assert carried.outcome is not None, "a file of its own is never refused"
            if new := told.received(carried.received):
                if not told.begun:
                    self._observer.started(lane, transfer.filed, carried.received, 0)
                self._observer.received(lane, new)
            self._observer.carried_by(transfer.filed, member.name)
            return self._take_over(transfer, carried, carried.outcome, member)
        return ClusterLost(
            transfer.shown,
            f"{count_of(self._attempts, 'worker')} were lost while they fetched it",
            "look into the workers' logs; haul it without --cluster",
        )

    def _take_over(
        self, transfer: Transfer, carried: Carried, outcome: Outcome, member: ClusterMember
    ) -> Outcome:
        """Update a transfer with the outcome in a worker.

        Raises:
            Interrupted: the haul is to end.
        """
        if isinstance(outcome, Interrupted):
            raise outcome
        failures = transfer.consecutive_failures + 1 if carried.consecutive_failures else 0
        transfer.take_over(carried.received, failures, carried.seconds, member.name)
        if isinstance(outcome, VerifiedFile):
            return replace(outcome, result=transfer.counted(outcome.result))
        return transfer.counted(outcome) if isinstance(outcome, Result) else outcome

    def _hand_over(
        self, member: ClusterMember, batch: list[tuple[int, Filed]], record: PartRecord | None
    ) -> list[Carried]:
        """Have a worker carry a batch, and wait for what became of it.

        Raises:
            Gone: the worker was lost.
            ClusterLost: the scheduler was.
            Interrupted: the haul is to end.
        """
        ended: Batch = self._members.run(member, cluster_worker.carry, self._haul, batch, record)
        self._entries.enter(member, ended.notes)
        return ended.carried

    def _record_of(self, transfer: Transfer) -> PartRecord | None:
        """Return what has come of a file, in this run or an earlier one."""
        known = self._entries.records.get(transfer.id)
        return known or (None if transfer.attempts else self._partials.record_of(transfer.id))

    def _replace_by_copy(self, transfer: Transfer) -> CannotStore | None:
        """Go on with a copy of a partial file that a lost worker may write to.

        Returns:
            The error if that is impossible; None if the copy, or nothing, is there now.
        """
        record = self._entries.records.get(transfer.id)
        if record is not None:
            try:
                self._destination.replace_by_copy(f"{PARTIAL}/{record.file}")
            except FileNotFoundError:
                pass
            except OSError as error:
                return cannot_store(transfer.filed.path, error)
        return None

    def assist(self, found: SegmentJob, lane: int) -> Assistance:
        """Fetch a strand here, or in a worker; see `Executor.assist`."""
        if found.strand is not None:
            return self._here.assist(found, lane)
        return self._segments.fetch(found, lane)

    def abort(self) -> None:
        """End what runs here and in workers; see `Executor.abort`."""
        self._here.abort()
        self._members.abort()

    def close(self) -> None:
        """Dismiss the workers, and enter what they still have to tell."""
        self._members.close()
        self._here.close()


def _has_secret(offer: Offer) -> bool:
    """Whether anything that a worker is sent of an offer holds a secret."""
    texts = (
        offer.address, *offer.mirrors, offer.source, offer.text, offer.title, offer.heading,
        *offer.headings, offer.licence, offer.citation,
    )  # fmt: skip
    return any(without_secrets(each) != each for each in texts)


class Cluster:
    """A Dask cluster that a haul can run on.

    Args:
        scheduler: its address, the file that it has written, or a client of Dask's.

    Attributes:
        client: talks to the scheduler.

    Raises:
        UnusableCluster: nothing answers there.
    """

    def __init__(self, scheduler: object) -> None:
        self.client = ClusterClient(scheduler)
        self._proved: frozenset[str] = frozenset()

    def require_usable(self, destination: Destination) -> None:
        """Refuse a cluster before any work is done.

        Raises:
            UnusableCluster: it has no workers, or one that cannot be used.
        """
        self._proved = require_usable_workers(self.client, destination)

    def make_executor(
        self,
        access: Access,
        plan: Plan,
        file_transfer: FileTransfer,
        *,
        partials: PartialStore,
        here: Executor,
    ) -> ClusterExecutor:
        """Return what passes the files of a haul to workers.

        Args:
            access: how places are talked to.
            plan: what is hauled.
            file_transfer: carries files in this process.
            partials: what earlier runs have left.
            here: runs transfers in this process.

        Raises:
            UnusableCluster: as for `require_usable`.
        """
        make_access = access.maker()
        assert make_access is not None, "hauls record no exchanges"
        has_secret = any(_has_secret(filed.offer) for filed in plan)
        openly = None if has_secret else access.open_maker({*plan.new, *plan.known})
        downloader = file_transfer.downloader
        return ClusterExecutor(
            self.client, file_transfer.destination, downloader.policy,
            make_access=make_access, make_access_openly=openly,
            observer=downloader.observer, ledger_writer=downloader.commit_thread,
            partials=partials, here=here,
            holds=access.holds, proved=self._proved,
        )  # fmt: skip

    def close(self) -> None:
        """End the connection, if it was made here."""
        self.client.close()
