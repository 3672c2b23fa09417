"""Run one haul from its plan to its summary, and record its timeline."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import chain, islice
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.destination import (
    PARTIAL,
    Destination,
    cannot_store,
    is_case_sensitive,
)
from willow_cart.errors import CannotStore, Exit, gravest
from willow_cart.events import (
    ClusterUsed,
    Freed,
    LedgerConverted,
    MovedAside,
    Planned,
    Postponed,
    Received,
    Requesting,
    Resuming,
    Settled,
    Started,
    StrandStarted,
)
from willow_cart.filing import Filed, Layout, Plan, make_plan
from willow_cart.hauling.refiling import end_moves
from willow_cart.hauling.room import require_room
from willow_cart.hauling.summary import HaulSummary
from willow_cart.identity import LedgerKey
from willow_cart.ledger.entries import Arrival, PartRecord, Result
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.ledger.timeline import Timeline, TimelineWait
from willow_cart.model import Offer, State
from willow_cart.observer import Hearers, Observer
from willow_cart.offer_store import OfferStore
from willow_cart.platform import disks
from willow_cart.protocols import Access
from willow_cart.structs import Record, Value, field, replace
from willow_cart.transfer.commit import CommitThread, Note
from willow_cart.transfer.downloader import Downloader
from willow_cart.transfer.executor import SmallFileExecutor, ThreadExecutor
from willow_cart.transfer.existing_files import give_own_files, settle_present
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.host_queue import HostQueue
from willow_cart.transfer.partials import PartialStore
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.transfers import Transfers
from willow_cart.transfer.worker_pool import WorkerPool

if TYPE_CHECKING:
    from willow_cart.executors.cluster import Cluster
    from willow_cart.hauling.handling import ArrivalHandler
    from willow_cart.transfer.executor import Executor


class _Lane(Record):
    """The current activity of a lane.

    Attributes:
        host: whom it has asked.
        since: up to when that has been entered.
        answered: whether it receives now.
    """

    host: str
    since: float
    answered: bool = False


class TimelineRecorder:
    """Records what each lane does when.

    Args:
        clock: monotonic, in seconds; the timeline begins now.
    """

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._began = clock()
        self._timeline = Timeline()
        self._lanes: dict[int, _Lane] = {}
        self._lock = threading.Lock()

    def note(self, event: object) -> None:
        """Record how long a lane waited for an answer, and received, and why files waited."""
        match event:
            case Received():
                self._enter(event.lane, event.count)
            case Started() | StrandStarted():
                self._enter(event.lane, None)
            case Requesting(lane, host):
                with self._lock:
                    self._lanes.setdefault(lane, _Lane(host, self._now()))
            case Postponed(lane, filed, error, pause):
                with self._lock:
                    self._timeline.add_wait(
                        TimelineWait(self._now(), lane, filed.path, error.reason, pause)
                    )
            case Freed(lane):
                with self._lock:
                    at = self._lanes.pop(lane, None)
                    if at is not None and not at.answered:
                        self._timeline.add(lane, at.host, at.since, self._now())

    def written(self) -> str:
        """Return the timeline so far, in the ledger's format."""
        with self._lock:
            self._timeline.reach(self._now())
            return self._timeline.as_text()

    def _enter(self, lane: int, count: int | None) -> None:
        with self._lock:
            at = self._lanes.get(lane)
            if at is not None:
                now = self._now()
                self._timeline.add(lane, at.host, at.since, now, count)
                at.since = now
                at.answered = True

    def _now(self) -> float:
        return round(self._clock() - self._began, 4)


# Large enough to make commits cheap, small enough to keep memory low.
_RESULTS_PER_TRANSACTION = 500


class MultiPassRun(Record):
    """Several passes, each based on what the earlier ones fetched; one run in the ledger.

    Attributes:
        run: its number; 0 before the first.
        timekeeper: writes the timeline of all of them.
        codes: what each came to.
    """

    run: int = 0
    timeline_recorder: TimelineRecorder = field(
        default_factory=lambda: TimelineRecorder(time.monotonic)
    )
    codes: list[Exit] = field(default_factory=list)


def haul_offers(
    offers: Iterable[Offer],
    into: Path | str,
    access: Access,
    policy: HaulPolicy | None = None,
    *,
    command: str = "",
    note: str = "",
    observer: Observer | None = None,
    stop: threading.Event | None = None,
    passes: MultiPassRun | None = None,
    cluster: Cluster | None = None,
) -> HaulSummary:
    """Haul offers.

    A file appears under its name only whole and checked. What does not come is counted, entered
    in the ledger and told to the observer, and the others go on. Whatever ends the haul, the same
    call resumes.

    Args:
        offers: the wanted files; of offers with the same address the first counts.
        into: the destination; made if it is not there.
        policy: how to do it; None as `HaulPolicy()`.
        command: the command line, for the ledger; without secrets.
        note: the user's note, for the ledger.
        stop: set it to end the haul early.
        passes: those that this haul is one of; None for a haul of its own.
        cluster: whose workers fetch; None for this machine alone.

    Returns:
        The account: counts, bytes, and the exit code that follows from them.

    Raises:
        UnusableDestination: nothing can be hauled there.
        UnreadableLedger: the ledger there is damaged or of a later version.
        TooLittleRoom: there is not enough room for the files to come, as far as sizes are known.
        CannotStore: the ledger cannot be written any more.
        UnusableCluster: it has no workers, or one of them cannot be used.
        ClusterLost: it is gone; received bytes are kept.
    """
    began = time.monotonic()
    into = Path(into)
    observer = observer or Observer()
    stop = stop or threading.Event()
    policy = policy or HaulPolicy()
    passes = passes or MultiPassRun()
    store = offers if isinstance(offers, OfferStore) else OfferStore(offers)
    if not policy.handling.even_if_full:
        require_room(store, into)
    path = ledger_path(into)
    with (
        Destination(into) as destination,
        Ledger(path, create=True) as ledger,
        KnownFiles(path) as held,
    ):
        if (begun := ledger.cut_off()) is not None:
            observer.note(Resuming(begun))
        if cluster is not None:
            cluster.require_usable(destination, observer)
            observer.note(ClusterUsed(cluster.client.shown, cluster.client.dashboard))
        end_moves(ledger, destination)
        if passes.run:
            ledger.reopen_run(passes.run)
        else:
            passes.run = ledger.begin_run(command, note)
        run, timeline_recorder = passes.run, passes.timeline_recorder
        parts = _file_what_was_sealed(ledger, run, destination, observer)
        plan = make_plan(store, policy.layout, held or None, case_sensitive=is_case_sensitive(into))
        if policy.unpack is not None:
            policy.unpack.require_fields(plan)
        if unknown := held.without_keys():
            observer.note(LedgerConverted(unknown))
        observer.note(Planned(plan))
        partials = _open_partials(ledger, destination, parts)
        account = HaulSummary(run, len(plan))
        haul = _Haul(policy, destination, ledger, held, plan, account, observer, stop, cluster)
        try:
            haul.carry(access, partials, timeline_recorder)
            haul.unpack()
        finally:
            account.seconds = time.monotonic() - began
        passes.codes.append(account.exit_code)
        with ledger.transaction():
            ledger.keep_timeline(run, timeline_recorder.written())
            ledger.end_run(run, gravest(passes.codes))
        ledger.restore()
    return account


class _Haul(Value):
    """One haul and the objects that it uses."""

    policy: HaulPolicy
    destination: Destination
    ledger: Ledger
    held: KnownFiles
    plan: Plan
    account: HaulSummary
    observer: Observer
    stop: threading.Event
    cluster: Cluster | None = None

    def carry(
        self, access: Access, partials: PartialStore, timeline_recorder: TimelineRecorder
    ) -> None:
        """Fetch everything, and run the user's command for files that arrive."""
        policy, destination, account = self.policy, self.destination, self.account
        transfers = Transfers(self.plan)

        def settled(result: Result) -> None:
            account.add(result)
            filed = transfers.settle(result.number)
            if result.arrival is not None and result.path != filed.path and not result.twin:
                self.plan.move(filed, result.path)
                filed = replace(filed, path=result.path)
            self.observer.note(Settled(filed, result))
            if handler is not None and result.state is State.ARRIVED and result.arrival:
                handler.take(filed, result.arrival)

        present = settle_present(policy.handling.if_present, self.plan, destination)
        waiting = _enter_what_is_here(present, self.plan, self.ledger, account, self.observer)
        pace = policy.pace
        queue = HostQueue(waiting, pace.first_host_lanes, pace.most_host_lanes, pace.all_lanes)
        commit_thread = CommitThread(
            self.ledger,
            account.run,
            destination,
            settled,
            timeline_recorder.written,
            moved_aside=lambda path, kept: self.observer.note(MovedAside(path, kept)),
            twins=policy.handling.twins,
            handles=policy.handling.on_arrival is not None,
            is_planned=self.plan.has_path if isinstance(policy.layout, Layout) else None,
        )
        handler = self._make_handler(commit_thread)
        observer = Hearers(timeline_recorder, self.observer)
        downloader = Downloader(
            access, partials, commit_thread, observer, self.stop, policy, destination.room
        )
        file_transfer = FileTransfer(downloader, destination, self.held or None)

        try:
            executor = None
            if self.cluster is not None:
                here = ThreadExecutor(file_transfer, self.stop)
                executor = self.cluster.make_executor(
                    access, self.plan, file_transfer, partials=partials, here=here
                )
            further: list[Executor] = []
            if executor is None and pace.is_free:
                at_once = min(pace.all_lanes, pace.first_host_lanes)
                further = [SmallFileExecutor(file_transfer, self.stop, at_once)]
            pool = WorkerPool(
                file_transfer, queue, transfers, commit_thread, further, executor=executor
            )
            pool.work()
            if handler is not None:
                commit_thread.flush()
                handler.close()
                account.unhandled = handler.failed
        finally:
            commit_thread.close()
        destination.sync_folders()
        account.received = transfers.received
        account.interrupted = account.remaining > 0 or (handler is not None and handler.broken_off)

    def unpack(self) -> None:
        """Unpack the archives that arrived and are not unpacked yet."""
        wish = self.policy.unpack
        if wish is None or self.account.interrupted:
            return
        from willow_cart.hauling.unpacking import Unpacker, unharmed_archives

        unpacker = Unpacker(
            wish,
            self.ledger,
            self.destination,
            self.account.run,
            observer=self.observer,
            stop=self.stop,
        )
        archives = unharmed_archives(wish.wanted(self.plan), self.held, self.destination)
        for unpacked in unpacker.unpack_all(archives):
            self.account.add_unpacked(unpacked)
        self.account.interrupted = unpacker.broken_off

    def _make_handler(self, commit_thread: CommitThread) -> ArrivalHandler | None:
        """Return the handler that runs the user's command, also for files of an interrupted haul.

        None for none.
        """
        command = self.policy.handling.on_arrival
        if command is None:
            return None

        def ended_well(filed: Filed, arrival: Arrival) -> None:
            key = arrival.key or self.ledger.key_of(filed.offer.id)
            commit_thread.take(Note(lambda ledger: ledger.forget_unhandled(key)))

        stamp = self.destination.stamp
        left = [each for each in self.ledger.unhandled() if stamp(each.lies_at) == each.stamp]
        from willow_cart.hauling.handling import ArrivalHandler

        handler = ArrivalHandler(
            command, self.destination.full_path, self.observer, self.stop, ended_well
        )
        for arrival in left:
            handler.take(
                Filed(Offer(arrival.address, digest=arrival.digest), arrival.path), arrival
            )
        return handler


def _enter_what_is_here(
    results: Iterator[Result], plan: Plan, ledger: Ledger, account: HaulSummary, observer: Observer
) -> Iterable[tuple[str, int]]:
    """Record results that are known before the lanes start.

    Returns:
        The other files by number, each with its host.
    """
    is_here = bytearray(len(plan) + 1)
    while some := list(islice(results, _RESULTS_PER_TRANSACTION)):
        with ledger.transaction():
            for result in some:
                ledger.record(account.run, result)
        for result in some:
            is_here[result.number] = True
            account.add(result)
            observer.note(Settled(plan[result.number], result))
    hosts = chain(plan.new.items(), plan.known.items())
    return ((host, number) for host, those in hosts for number in those if not is_here[number])


def _open_partials(
    ledger: Ledger, destination: Destination, parts: Mapping[LedgerKey, PartRecord]
) -> PartialStore:
    """Return the partial files; those that cannot be resumed are deleted."""
    boot = disks.boot_mark()
    partials = PartialStore(destination, parts, boot, ledger.key_of)
    try:
        partials.delete_unusable()
    except OSError as error:
        raise cannot_store(str(destination.full_path(PARTIAL)), error) from None
    with ledger.transaction():
        ledger.adopt_parts(boot)
    return partials


def _file_what_was_sealed(
    ledger: Ledger, run: int, destination: Destination, observer: Observer
) -> dict[LedgerKey, PartRecord]:
    """Name the files that an interrupted run had already checked.

    Args:
        ledger: where they are entered.
        run: the run that they are entered under.
        destination: where they get their names.
        observer: receives the existing file and was not of a haul.

    Returns:
        The partial files that are left to go on with, by key.
    """
    left = {}
    for key, part in ledger.parts().items():
        if part.sealed is None:
            left[key] = part
            continue
        with ledger.transaction():
            file, sealed = f"{PARTIAL}/{part.file}", part.sealed
            try:
                if destination.stamp(file) == sealed.stamp:
                    earlier = ledger.latest_at(sealed.path)
                    replaces = None if earlier is None else earlier.own_stamp
                    give_own_files(ledger, destination, sealed.path)
                    if kept := destination.place(file, sealed.path, replaces=replaces):
                        observer.note(MovedAside(sealed.path, kept))
            except CannotStore:
                # It is whole; the haul itself reports what prevents it.
                left[key] = part
                continue
            if destination.stamp(sealed.path) == sealed.stamp:
                ledger.record_arrival(run, sealed)
            else:
                ledger.forget_keys([key])
    return left
