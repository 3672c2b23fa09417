"""The workers of a cluster that share a haul: joining, losses, and news from them."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any

from willow_cart.errors import (
    CannotStore,
    ClusterLost,
    InternalError,
    Interrupted,
    WillowCartError,
)
from willow_cart.events import Received, Started, WorkerJoined, WorkerLost
from willow_cart.executors import cluster_worker
from willow_cart.executors.cluster_client import Gone, Worker
from willow_cart.executors.cluster_joining import (
    Admission,
    MemberSetup,
    name_unusable,
    require_usable,
)
from willow_cart.executors.cluster_worker import Entries, Notes
from willow_cart.filing import Filed
from willow_cart.identity import AddressId
from willow_cart.ledger.entries import PartRecord
from willow_cart.observer import Observer
from willow_cart.structs import Record, field, replace
from willow_cart.transfer.commit import ForgetPart, KeepPart, LedgerWriter, Note
from willow_cart.transfer.partials import Mark
from willow_cart.transfer.policy import HaulPolicy

# How often a worker is polled for news: for each of them the scheduler passes on one call.
_REPORT_SECONDS = 0.2
_SECONDS_PER_WORKER = 0.02

# A worker with nothing to do is asked so often, so that it knows that it is still wanted.
_IDLE_REPORT_SECONDS = 3.0

_ROLL_CALL_SECONDS = 0.5

# A worker from which the scheduler has heard nothing for so long is given up. Its heartbeats are
# half a second to a few seconds apart.
_SILENT_SECONDS = 30.0

# With no worker left, one that is being started is waited for.
_NO_WORKER_SECONDS = 60.0

_END_SECONDS = 10.0


class FileOnItsWay(Record, eq=False):
    """What is known here of a file that a worker carries alone.

    Attributes:
        lane: waits for it.
        filed: the file.
        begun: whether the observer was notified of it.
        bytes: that the observer was notified of.
    """

    lane: int
    filed: Filed
    begun: bool = False
    bytes: int = 0

    def received(self, came: int) -> int:
        """Record how many bytes have come; return how many of them are new."""
        new = max(0, came - self.bytes)
        self.bytes += new
        return new


class ClusterMember(Record, eq=False):
    """A worker that has a share in the haul.

    Attributes:
        address: how the scheduler calls it.
        name: how people call it.
        lanes: how many files it carries at a time.
        load: how many batches it has now.
        lost: set once it is given up.
        told: the files that it carries alone, by number.
        made: the numbers of its entries that were made.
        entered: the number of its latest entry that was made.
        entering: held while its entries are made.
        wake: set when there is something to ask it.
        thread: polls it for news.
    """

    address: str
    name: str
    lanes: int
    load: int = 0
    lost: threading.Event = field(default_factory=threading.Event)
    told: dict[int, FileOnItsWay] = field(default_factory=dict)
    made: list[int] = field(default_factory=list)
    entered: int = 0
    entering: threading.Lock = field(default_factory=threading.Lock)
    wake: threading.Event = field(default_factory=threading.Event)
    thread: threading.Thread | None = None


class WorkerEntries:
    """Makes the entries in the ledger that workers ask for.

    Args:
        ledger_writer: writes the ledger.

    Attributes:
        records: the records of the partial files of this run.
    """

    def __init__(self, ledger_writer: LedgerWriter) -> None:
        self._ledger_writer = ledger_writer
        self.records: dict[AddressId, PartRecord] = {}

    def enter(self, member: ClusterMember, notes: Notes) -> None:
        """Enter in the ledger what a worker asks for, each once and in its order."""
        with member.entering:
            for number, entry in notes:
                if number <= member.entered:
                    continue
                match entry:
                    case KeepPart(identifier, part):
                        self.records[identifier] = part
                        self._ledger_writer.take_at_once(Note(entry))
                    case ForgetPart(identifier):
                        self.records.pop(identifier, None)
                        self._ledger_writer.take(Note(entry))
                    case Mark(identifier, name, spans, digests):
                        known = self.records.get(identifier)
                        if known is not None and known.file == name:
                            self.records[identifier] = replace(known, synced=spans, digests=digests)
                        self._ledger_writer.take(entry)
                member.entered = number
                member.made.append(number)


class ClusterMembers:
    """The workers that have a share in a haul.

    Args:
        admission: finds out which workers can be used.
        given: what each worker gets.
        entries: makes their entries in the ledger.
        observer: is notified of workers, and of files that one carries alone.
        policy: how many lanes there are, and how fast they may be.

    Raises:
        UnusableCluster: there are no workers, or one of them cannot be used.
    """

    def __init__(
        self,
        admission: Admission,
        given: MemberSetup,
        entries: WorkerEntries,
        observer: Observer,
        policy: HaulPolicy,
    ) -> None:
        self._client = admission.client
        self._admission = admission
        self._given = given
        self._haul = given.haul
        self._entries = entries
        self._observer = observer
        self._policy = policy
        self._members: dict[str, ClusterMember] = {}
        self._known: set[str] = set()
        self._doubts: dict[str, CannotStore] = {}
        self._change = threading.Condition()
        self._failure: WillowCartError | None = None
        self._stopping = threading.Event()
        self._closed = threading.Event()
        workers = [
            worker
            for worker in self._client.wait_for_workers()
            if worker.address not in admission.late  # the roll call asks these
        ]
        try:
            self._take_on_all(workers, is_start=True)
        except Gone as error:
            raise error.before_work() from None
        self._roll_call = threading.Thread(
            target=self._guard, args=(self._call_roll,), name="cluster roll call", daemon=True
        )
        self._roll_call.start()

    def _take_on_all(self, workers: Sequence[Worker], *, is_start: bool) -> None:
        """Give a share to each worker that can be used, and name the others.

        Raises:
            UnusableCluster: at the start, if one cannot be used, or none answers.
            Gone: the scheduler does not answer.
        """
        by_address = {worker.address: worker for worker in workers}
        self._known |= by_address.keys()
        lacks = self._admission.lacks(workers, self._given.folder)
        usable = [address for address, lack in lacks.items() if lack is None]
        lacks |= self._admission.join(self._given, usable)
        if is_start:
            require_usable(self._client, workers, lacks, self._observer)
        else:
            name_unusable(workers, lacks, self._observer)
        self._known -= by_address.keys() - lacks.keys()  # the next roll call asks these again
        joined = [by_address[each] for each, lack in lacks.items() if lack is None]
        for worker in joined:
            if not self._stopping.is_set():
                self._take_on(worker.address, worker.name, worker.lanes)

    @property
    def lanes(self) -> int:
        """How many files the workers carry at a time."""
        with self._change:
            return sum(each.lanes for each in self._members.values())

    def require_going_on(self) -> None:
        """Raise what ends the haul.

        Raises:
            ClusterLost: the scheduler, or the last worker, is gone.
            Interrupted: the haul is to end.
        """
        if self._failure is not None:
            raise self._failure
        if self._closed.is_set():
            raise Interrupted("a file", "interrupted")

    def run(self, member: ClusterMember, function: Callable[..., Any], *args: Any) -> Any:
        """Have a worker that was chosen run a function, and return what it returns.

        Raises:
            Gone: the worker was lost.
            ClusterLost: the scheduler was.
            Interrupted: the haul is to end.
        """
        member.wake.set()
        try:
            task = self._client.submit(member.address, function, *args)
            while not task.done.wait(_ROLL_CALL_SECONDS):
                if member.lost.is_set():
                    task.cancel()
                    break
            self.require_going_on()
            if member.lost.is_set():
                raise Gone(member.address, "is lost")
            return task.result()
        except Gone:
            self._find_lost(member)
            raise
        except cluster_worker.NoShare:
            self.require_going_on()
            self.lose(member, "it has given up its share")
            raise Gone(member.address, "gave up") from None
        finally:
            self.release(member)

    def _find_lost(self, member: ClusterMember) -> None:
        """Wait until it is known what became of a worker that has lost a batch.

        Raises:
            ClusterLost: the scheduler is gone, not the worker.
        """
        if not member.lost.wait(_SILENT_SECONDS):
            self.lose(member, "it has lost what it was given")
        self.require_going_on()

    def pause(self, seconds: float) -> None:
        """Wait, unless the haul is to end."""
        if seconds > 0:
            self._stopping.wait(seconds)

    def release(self, member: ClusterMember) -> None:
        """Count that a worker has a batch less."""
        with self._change:
            member.load -= 1
            self._change.notify_all()

    def choose(self, wanted: str | None = None) -> ClusterMember:
        """Return the worker with the least to do, and count the files it is about to get.

        Args:
            wanted: the address of a worker that is taken as long as it is there.

        Raises:
            ClusterLost: no worker is left.
            Interrupted: the haul is to end.
        """
        with self._change:
            while True:
                self.require_going_on()
                if self._stopping.is_set():
                    raise Interrupted("a file", "interrupted")
                if self._members:
                    member = self._members.get(wanted or "") or min(
                        self._members.values(),
                        key=lambda each: (each.address in self._doubts, each.load / each.lanes),
                    )
                    member.load += 1
                    return member
                if not self._change.wait(_NO_WORKER_SECONDS) and not self._members:
                    self._fail(self._lost("has no workers left"))

    def _take_on(self, address: str, name: str, lanes: int) -> None:
        member = ClusterMember(address, name, max(1, lanes))
        with self._change:
            self._known.add(address)
            self._members[address] = member
            self._change.notify_all()
        self._observer.note(WorkerJoined(name, member.lanes))
        member.thread = threading.Thread(
            target=self._guard,
            args=(self._attend, member),
            name=f"cluster worker {name}",
            daemon=True,
        )
        member.thread.start()

    def lose(self, member: ClusterMember, why: str, *, is_known: bool = False) -> None:
        """Give a worker up.

        Args:
            why: a clause for the user.
            is_known: whether it is still there, and is not to join again.
        """
        with self._change:
            if member.lost.is_set():
                return
            member.lost.set()
            self._members.pop(member.address, None)
            if not is_known:
                self._known.discard(member.address)  # should it come back, it joins again
            self._change.notify_all()
        member.wake.set()
        if not self._stopping.is_set():
            self._observer.note(WorkerLost(member.name, why))

    def _lost(self, reason: str) -> ClusterLost:
        advice = "run the same command to resume, with or without it"
        return ClusterLost(self._client.shown, reason, advice)

    def _fail(self, failure: WillowCartError) -> None:
        with self._change:
            self._failure = self._failure or failure
            self._change.notify_all()
        for member in list(self._members.values()):
            member.lost.set()

    def doubt(self, member: ClusterMember, error: CannotStore) -> bool:
        """Note that a worker could not write; return whether another one is to try.

        Only once another has written is it known that the fault is that worker's.
        """
        with self._change:
            self._doubts[member.address] = error
            return bool(self._members.keys() - self._doubts.keys())

    def vouch_for(self, member: ClusterMember) -> None:
        """Note that a worker has written, and do without those that could not."""
        if not self._doubts:  # as for nearly every file
            return
        with self._change:
            self._doubts.pop(member.address, None)
            doubted, self._doubts = self._doubts, {}
            losses = [
                (self._members[each], doubted[each]) for each in self._members.keys() & doubted
            ]
        for each, error in losses:
            self.lose(each, f"it cannot write there: {error.why}", is_known=True)

    def _guard(self, work: Callable[..., None], *args: Any) -> None:
        """Run a thread of this haul; an unforeseen error ends the haul in order."""
        try:
            work(*args)
        except Exception as error:
            self._fail(InternalError.of(self._client.shown, error))

    def _call_roll(self) -> None:
        """Notice workers that join, end, or hang, and the end of the scheduler."""
        while not self._closed.wait(_ROLL_CALL_SECONDS):
            try:
                present = self._client.workers()
            except Gone as error:
                self._fail(self._lost(error.reason))
                return
            for member in list(self._members.values()):
                worker = present.get(member.address)
                if worker is None:
                    self.lose(member, "its process ended")
                elif worker.silent_seconds > _SILENT_SECONDS:
                    self.lose(member, "it hangs, or its network is cut")
            new = [present[address] for address in present.keys() - self._known]
            if new:
                self._known |= {each.address for each in new}
                threading.Thread(target=self._guard, args=(self._let_in, new), daemon=True).start()

    def _let_in(self, workers: Sequence[Worker]) -> None:
        """Let workers join that have come late."""
        with suppress(Gone, CannotStore):  # the roll call, or the haul, finds out
            self._take_on_all(workers, is_start=False)

    def _attend(self, member: ClusterMember) -> None:
        """Poll a worker for news, as long as it is there."""
        while not (member.lost.is_set() or self._closed.is_set()):
            with member.entering:
                made, member.made = member.made, []
            speed, strands = self._shares()
            try:
                entries = self._client.call(
                    member.address, cluster_worker.report, self._haul, made, speed, strands
                )
            except Gone:
                with member.entering:
                    member.made[:0] = made  # it may not have heard that these were made
                # The roll call finds out whether the worker is gone, or the scheduler.
                member.lost.wait(_ROLL_CALL_SECONDS)
                continue
            except cluster_worker.NoShare:
                self.lose(member, "it has given up its share")
                return
            if not member.lost.is_set():
                self._entries.enter(member, entries.notes)
                self._tell(member, entries)
            pause = max(_REPORT_SECONDS, _SECONDS_PER_WORKER * len(self._members))
            member.wake.clear()
            if not member.made:
                # What becomes of a batch comes with its end; it has nothing to tell before.
                woken = member.wake.wait(pause if member.told else _IDLE_REPORT_SECONDS)
                self._closed.wait(pause if woken else 0)

    def _shares(self) -> tuple[int | None, int]:
        """Return a worker's bytes a second, and the threads that each of its large files may have.

        All files together have as many as there are lanes at a host.
        """
        with self._change:
            files = sum(len(each.told) for each in self._members.values())
            workers = len(self._members)
        lanes = min(self._policy.pace.all_lanes, self._policy.pace.most_host_lanes)
        return self._policy.pace.speed_share(workers), max(1, lanes // max(1, files))

    def _tell(self, member: ClusterMember, entries: Entries) -> None:
        """Report the progress of the files that a worker carries alone."""
        for number, told in list(member.told.items()):
            if number in entries.lengths and not told.begun:
                self._observer.note(Started(told.lane, told.filed, *entries.lengths[number]))
                told.begun = True
            if told.begun and (new := told.received(entries.received.get(number, 0))):
                self._observer.note(Received(told.lane, new))

    def abort(self) -> None:
        """End what runs in the workers; each attempt ends with what it has."""
        if self._stopping.is_set():
            return
        self._stopping.set()
        for member in list(self._members.values()):
            threading.Thread(target=self._stop_member, args=(member,), daemon=True).start()
        with self._change:
            self._change.notify_all()

    def _stop_member(self, member: ClusterMember) -> None:
        with suppress(Gone):
            self._client.call(member.address, cluster_worker.stop, self._haul)

    def close(self) -> None:
        """Dismiss the workers, and enter their remaining messages."""
        if self._closed.is_set():
            return
        self._stopping.set()
        leaving = [
            threading.Thread(target=self._dismiss, args=(member,), daemon=True)
            for member in list(self._members.values())
        ]
        for thread in leaving:
            thread.start()
        for thread in leaving:
            thread.join(_END_SECONDS)
        self._closed.set()
        with self._change:
            self._change.notify_all()
        for member in list(self._members.values()):
            member.wake.set()
            if member.thread is not None:
                member.thread.join(_END_SECONDS)
        self._roll_call.join(_END_SECONDS)

    def _dismiss(self, member: ClusterMember) -> None:
        with suppress(Gone):
            notes = self._client.call(member.address, cluster_worker.leave, self._haul)
            self._entries.enter(member, notes)
