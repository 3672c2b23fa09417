"""Run transfers in the workers of a Dask cluster.

The queue, the pace, the retries, the names and the ledger stay in this process, the coordinator.
It hands batches of small files, or one large file, to a worker; while that is fetched, a thread for
each worker collects what the ledger has to know and how much has come. This is also how a worker
knows that it is still wanted.
"""

from __future__ import annotations

import secrets
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager

from willow_cart.addresses import host_of, scheme_of
from willow_cart.destination import PARTIAL, Destination, cannot_store
from willow_cart.errors import CannotStore, ClusterLost, Interrupted
from willow_cart.events import CarriedBy, HandedOver, Received, Started
from willow_cart.executors import cluster_worker
from willow_cart.executors.cluster_client import ClusterClient, Gone
from willow_cart.executors.cluster_joining import (
    Admission,
    MemberSetup,
    SharedFolder,
    require_usable,
)
from willow_cart.executors.cluster_members import (
    ClusterMember,
    ClusterMembers,
    FileOnItsWay,
    WorkerEntries,
)
from willow_cart.executors.cluster_worker import Batch, Carried, Setup
from willow_cart.filing import Filed, Plan
from willow_cart.ledger.entries import PartRecord, Result
from willow_cart.model import Offer
from willow_cart.observer import Observer
from willow_cart.options.groups import PaceOptions
from willow_cart.protocols import Access
from willow_cart.protocols.base import MAX_SMALL_BYTES
from willow_cart.redaction import without_secrets
from willow_cart.structs import replace
from willow_cart.transfer.commit import LedgerWriter, VerifiedFile
from willow_cart.transfer.executor import BatchRule, Executor, Outcome
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.partials import PartialStore
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.segments import Assistance, SegmentJob
from willow_cart.transfer.transfers import Transfer
from willow_cart.units import count_of

# A task costs scheduler, worker and this process some milliseconds, whatever is in it. It counts in
# the time of its files, so that no file is too slow.
_BATCHES = BatchRule(256, seconds=1.5, slowest=float("inf"))


class ClusterExecutor(Executor):
    """Runs transfers in the workers of a cluster, and those that need this process here.

    Args:
        destination: where files are filed; workers have it under the same path.
        admission: finds out which workers can be used.
        make_access: creates the client for all protocols, there.
        make_access_openly: the same with names in place of secrets; None if that cannot be.
        reserve: reserves this process's next turn at the host of an address; returns the seconds
            until then.
        ledger_writer: makes entries in the ledger.
        partials: what earlier runs have left.
        here: carries what workers cannot: files that are here already, and their strands.
        holds: whether only this process can fetch an address.

    Raises:
        UnusableCluster: there are no workers, or one of them cannot be used.
    """

    def __init__(
        self,
        destination: Destination,
        policy: HaulPolicy,
        *,
        admission: Admission,
        make_access: Callable[[], Access],
        make_access_openly: Callable[[], Access] | None,
        reserve: Callable[[str], float],
        observer: Observer,
        ledger_writer: LedgerWriter,
        partials: PartialStore,
        here: Executor,
        holds: Callable[[str], bool] = lambda _: False,
    ) -> None:
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
        self._folder = SharedFolder(destination)
        given = MemberSetup(self._haul, setup, openly, self._folder)
        self._entries = WorkerEntries(ledger_writer)
        try:
            self._members = ClusterMembers(admission, given, self._entries, observer, policy)
        except BaseException:
            self._folder.close()
            raise
        self._turns = _HostTurns(policy.pace, reserve) if policy.pace.has_gaps else None
        self.batches = (
            _BATCHES if policy.pace.is_free and policy.pace.all_lanes > 1 else BatchRule()
        )
        self.lanes = max(1, min(policy.pace.all_lanes, self._members.lanes))

    # The seam

    def suited(self, transfers: Sequence[Transfer]) -> Sequence[Transfer]:
        """Return the files that are small and new, and may be carried with others."""
        return [transfer for transfer in transfers if self._suits(transfer)]

    def _suits(self, transfer: Transfer) -> bool:
        size = transfer.offer.size
        is_small = size <= MAX_SMALL_BYTES if size is not None else not self._large
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

    def carry(
        self,
        transfers: Sequence[Transfer],
        lane: int,
        at_once: int = 1,  # noqa: ARG002  # a worker decides
    ) -> Iterator[tuple[Transfer, Outcome]]:
        """Make one attempt at each transfer; see `Executor.carry`."""
        if len(transfers) == 1 and not self._is_for_workers(transfers[0]):
            with self._turn(transfers[0], ""):
                yield from self._here.carry(transfers, lane)
        elif len(transfers) == 1:
            yield transfers[0], self._carry_alone(transfers[0], lane)
        elif transfers:
            yield from self._carry_batch(transfers, lane)

    @contextmanager
    def _turn(self, transfer: Transfer, carrier: str) -> Iterator[None]:
        """Wait until the host of a file is a carrier's, if requests to it keep a gap."""
        if self._turns is None:
            yield
            return
        host = host_of(transfer.address)
        self._members.pause(self._turns.take(host, transfer.address, carrier))
        try:
            yield
        finally:
            self._turns.give_back(host)

    def _choose(self, transfer: Transfer) -> ClusterMember:
        """Return the worker for a file; where a gap is kept, a host has one worker at a time."""
        carrier = self._turns.carrier_of(host_of(transfer.address)) if self._turns else None
        return self._members.choose(carrier)

    def _carry_batch(
        self, transfers: Sequence[Transfer], lane: int
    ) -> Iterator[tuple[Transfer, Outcome]]:
        """Carry small files; of a worker that is lost, what it had was not begun."""
        by_number = {transfer.number: transfer for transfer in transfers}
        batch = [(transfer.number, transfer.filed) for transfer in transfers]
        member = self._choose(transfers[0])
        self._observer.note(HandedOver(lane, member.name))
        try:
            carried = self._hand_over(member, batch, None)
        except Gone:
            return
        self._large += sum(each.outcome is None for each in carried)
        for each in carried:
            if each.outcome is not None and self._stands(each.outcome, member):
                transfer = by_number[each.number]
                outcome = self._take_over(transfer, each, each.outcome, member)
                self._observer.note(Started(lane, transfer.filed, each.received, 0))
                self._observer.note(Received(lane, each.received))
                self._observer.note(CarriedBy(transfer.filed, member.name))
                yield transfer, outcome

    def _stands(self, outcome: Outcome, member: ClusterMember) -> bool:
        """Whether an outcome is the file's, and not the fault of the worker that had it."""
        if isinstance(outcome, CannotStore):
            return not self._members.doubt(member, outcome)
        if isinstance(outcome, VerifiedFile):
            self._members.vouch_for(member)
        return True

    def _carry_alone(self, transfer: Transfer, lane: int) -> Outcome:
        """Carry a file; if its worker is lost, another one resumes it at its byte."""
        # A file that many lost workers were fetching may be what they were lost by.
        for _ in range(self._attempts):
            member = self._choose(transfer)
            self._observer.note(HandedOver(lane, member.name))
            told = FileOnItsWay(lane, transfer.filed)
            member.told[transfer.number] = told
            try:
                with self._turn(transfer, member.address):
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
            assert carried.outcome is not None, "a file of its own is never refused"
            if new := told.received(carried.received):
                if not told.begun:
                    self._observer.note(Started(lane, transfer.filed, carried.received, 0))
                self._observer.note(Received(lane, new))
            self._observer.note(CarriedBy(transfer.filed, member.name))
            if self._stands(carried.outcome, member):
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
        """Return the received part of a file, in this run or an earlier one."""
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
        """Fetch a strand of a file that is carried here; see `Executor.assist`."""
        with self._turn(found.transfer, ""):
            return self._here.assist(found, lane)

    def abort(self) -> None:
        """End what runs here and in workers; see `Executor.abort`."""
        self._here.abort()
        self._members.abort()

    def close(self) -> None:
        """Dismiss the workers, and enter their remaining messages."""
        self._members.close()
        self._folder.close()
        self._here.close()


class _HostTurns:
    """Lets one carrier at a time send requests to a host, so that the gap is kept over all of them.

    Each keeps the gap between its own requests itself, redirects and retries included.

    Args:
        pace: of the requests.
        reserve: reserves this process's next turn at the host of an address; returns the seconds
            until then.
    """

    def __init__(self, pace: PaceOptions, reserve: Callable[[str], float]) -> None:
        self._longest = pace.gap_after(1.0)
        self._reserve = reserve
        self._change = threading.Condition()
        self._carriers: dict[str, str] = {}
        self._busy: Counter[str] = Counter()
        self._ended: dict[str, float] = {}

    def carrier_of(self, host: str) -> str | None:
        """Return the worker that has a host; None if it is any carrier's."""
        with self._change:
            return self._carriers.get(host)

    def take(self, host: str, address: str, carrier: str) -> float:
        """Wait until no other carrier has a host; return the seconds that are left to be waited.

        Args:
            address: at that host.
            carrier: the address of a worker; empty for this process.
        """
        with self._change:
            self._change.wait_for(lambda: not self._busy[host] or self._carriers[host] == carrier)
            self._busy[host] += 1
            before = self._carriers.get(host, "")
            self._carriers[host] = carrier
            if before == carrier:
                return 0.0
            pause = max(0.0, self._ended.get(host, 0.0) + self._longest - time.monotonic())
            return max(pause, self._reserve(address)) if carrier else pause

    def give_back(self, host: str) -> None:
        """Note that a carrier has ended a file of a host."""
        with self._change:
            self._busy[host] -= 1
            self._ended[host] = time.monotonic()
            self._change.notify_all()


def _has_secret(offer: Offer) -> bool:
    """Whether anything that a worker is sent of an offer holds a secret."""
    texts = (
        offer.address, *offer.mirrors, offer.source, offer.text, offer.title,
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
        self._admission = Admission(self.client)

    def require_usable(self, destination: Destination, observer: Observer) -> None:
        """Refuse a cluster before any work is done.

        Raises:
            UnusableCluster: it has no workers, or one that cannot be used.
            CannotStore: the destination cannot be written.
        """
        workers = self.client.wait_for_workers()
        with closing(SharedFolder(destination)) as folder:
            try:
                lacks = self._admission.lacks(workers, folder)
            except Gone as error:
                raise error.before_work() from None
            require_usable(self.client, workers, lacks, observer)

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
            file_transfer: carries files in this process.
            partials: what earlier runs have left.
            here: runs transfers in this process.

        Raises:
            UnusableCluster: there are no workers, or one of them cannot be used.
        """
        make_access = access.sharing.maker()
        assert make_access is not None, "hauls record no exchanges"
        has_secret = any(_has_secret(filed.offer) for filed in plan)
        openly = None if has_secret else access.sharing.open_maker({*plan.new, *plan.known})
        downloader = file_transfer.downloader
        return ClusterExecutor(
            file_transfer.destination, downloader.policy,
            admission=self._admission,
            make_access=make_access, make_access_openly=openly, reserve=access.sharing.reserve,
            observer=downloader.observer, ledger_writer=downloader.commit_thread,
            partials=partials, here=here,
            holds=access.sharing.holds,
        )  # fmt: skip

    def close(self) -> None:
        """End the connection, if it was made here."""
        self.client.close()
