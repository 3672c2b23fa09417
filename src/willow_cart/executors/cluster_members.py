"""The workers of a cluster that have a share in a haul: who joins, who is lost, and what is new."""

from __future__ import annotations

import threading
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import Any

from willow_cart.errors import ClusterLost, Interrupted, WillowCartError
from willow_cart.executors import cluster_worker
from willow_cart.executors.cluster_client import ClusterClient, Gone, Worker
from willow_cart.executors.cluster_files import FileOnItsWay
from willow_cart.executors.cluster_joining import MemberSetup, let_join
from willow_cart.executors.cluster_worker import Entries, Notes
from willow_cart.identity import AddressId
from willow_cart.ledger.entries import PartRecord
from willow_cart.transfer.commit import ForgetPart, KeepPart, LedgerWriter, Mark, Note
from willow_cart.transfer.observer import Observer

# How often a worker is asked what is new: for each of them the scheduler passes on one call.
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

# Likewise for a worker that was just joining.
_JOINING_SECONDS = 2.0


@dataclass(slots=True, eq=False)
class ClusterMember:
    """A worker that has a share in the haul.

    Attributes:
        address: how the scheduler calls it.
        name: how people call it.
        lanes: how many files it carries at a time.
        load: how many batches it has now.
        lost: set once it is given up.
        frozen: whether it may still be writing although it was given up.
        told: the files that it carries alone, and the segments of others, by number.
        made: the numbers of its entries that were made.
        entered: the number of its latest entry that was made.
        entering: held while its entries are made.
        wake: set when there is something to ask it.
        thread: asks it what is new.
    """

    address: str
    name: str
    lanes: int
    load: int = 0
    lost: threading.Event = field(default_factory=threading.Event)
    frozen: bool = False
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
        records: what is recorded of the partial files of this run.
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
        client: talks to the scheduler.
        given: what each worker gets.
        entries: makes their entries in the ledger.
        observer: is told of workers, and of files that one carries alone.
        speed_share: gives the bytes a second of each worker by their number; None for no limit.

    Raises:
        UnusableCluster: there are no workers, or one of them cannot be used.
    """

    def __init__(
        self,
        client: ClusterClient,
        given: MemberSetup,
        entries: WorkerEntries,
        observer: Observer,
        speed_share: Callable[[int], int | None],
    ) -> None:
        self._client = client
        self._given = given
        self._haul = given.haul
        self._entries = entries
        self._observer = observer
        self._speed_share = speed_share
        self._members: dict[str, ClusterMember] = {}
        self._known: set[str] = set()
        self._change = threading.Condition()
        self._failure: WillowCartError | None = None
        self._stopping = threading.Event()
        self._closed = threading.Event()
        for worker in client.wait_for_workers():
            with suppress(Gone):  # it has just ended
                let_join(client, worker, given)
                self._take_on(worker.address, worker.name, worker.lanes)
        self._joining: list[threading.Thread] = []
        self._roll_call = threading.Thread(
            target=self._call_roll, name="cluster roll call", daemon=True
        )
        self._roll_call.start()

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

    def call(self, address: str, function: Callable[..., Any], *args: Any) -> Any:
        """Have a worker run a short function at once, as long as it is not given up.

        Raises:
            Gone: it has no share any more.
            ClusterLost: the scheduler is gone.
            Interrupted: the haul is to end.
        """
        with self._change:
            member = self._members.get(address)
        if member is None:
            raise Gone(address, "is lost")
        try:
            return self._client.call(address, function, *args, is_lost=member.lost.is_set)
        except Gone:
            self.require_going_on()
            raise

    def _find_lost(self, member: ClusterMember) -> None:
        """Wait until it is known what became of a worker that has lost a batch.

        Raises:
            ClusterLost: the scheduler is gone, not the worker.
        """
        if not member.lost.wait(_SILENT_SECONDS):
            self.lose(member, "it has lost what it was given")
        self.require_going_on()

    def release(self, member: ClusterMember) -> None:
        """Count that a worker has a batch less."""
        with self._change:
            member.load -= 1
            self._change.notify_all()

    def choose(self) -> ClusterMember:
        """Return the worker with the least to do, and count what it is about to get.

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
                    member = min(self._members.values(), key=lambda each: each.load / each.lanes)
                    member.load += 1
                    return member
                if not self._change.wait(_NO_WORKER_SECONDS) and not self._members:
                    self._fail("has no workers left")

    def choose_idle(self, owner: str) -> ClusterMember | None:
        """Return a worker with an idle thread, if there is one, and count what it is about to get.

        What waits for a thread must not be what those in the threads wait for.

        Args:
            owner: the address of one that is the last choice.
        """
        with self._change:
            idle = [each for each in self._members.values() if each.load < each.lanes]
            if not idle or self._stopping.is_set():
                return None
            member = min(idle, key=lambda each: (each.address == owner, each.load / each.lanes))
            member.load += 1
            return member

    def _take_on(self, address: str, name: str, lanes: int) -> None:
        member = ClusterMember(address, name, max(1, lanes))
        with self._change:
            self._known.add(address)
            self._members[address] = member
            self._change.notify_all()
        self._observer.worker_joined(name, member.lanes)
        member.thread = threading.Thread(
            target=self._attend, args=(member,), name=f"cluster worker {name}", daemon=True
        )
        member.thread.start()

    def lose(self, member: ClusterMember, why: str, *, frozen: bool = False) -> None:
        """Give a worker up.

        Args:
            member: the worker.
            why: a clause for the user.
            frozen: whether it may come back and write on.
        """
        with self._change:
            if member.lost.is_set():
                return
            member.frozen = frozen
            member.lost.set()
            self._members.pop(member.address, None)
            self._known.discard(member.address)  # should it come back, it joins anew
            self._change.notify_all()
        member.wake.set()
        if not self._closed.is_set():
            self._observer.worker_lost(member.name, why)

    def _fail(self, reason: str) -> None:
        with self._change:
            self._failure = self._failure or ClusterLost(
                self._client.shown, reason, "run the same command to resume, with or without it"
            )
            self._change.notify_all()
        for member in list(self._members.values()):
            member.lost.set()

    def _call_roll(self) -> None:
        """Notice workers that join, end, or hang, and the end of the scheduler."""
        while not self._closed.wait(_ROLL_CALL_SECONDS):
            try:
                present = self._client.workers()
            except Gone as error:
                self._fail(error.reason)
                return
            for member in list(self._members.values()):
                worker = present.get(member.address)
                if worker is None:
                    self.lose(member, "its process ended")
                elif worker.silent_seconds > _SILENT_SECONDS:
                    self.lose(member, "it hangs, or its network is cut", frozen=True)
            for address in present.keys() - self._known:
                self._known.add(address)
                joining = threading.Thread(
                    target=self._let_in, args=(present[address],), daemon=True
                )
                self._joining = [each for each in self._joining if each.is_alive()] + [joining]
                joining.start()

    def _let_in(self, worker: Worker) -> None:
        """Let a worker join that has come late; one that does not answer yet is tried again."""
        try:
            let_join(self._client, worker, self._given)
        except WillowCartError as error:
            self._observer.worker_lost(worker.name, error.why)
        except Gone:
            self._closed.wait(_ROLL_CALL_SECONDS)
            self._known.discard(worker.address)
        else:
            if not self._stopping.is_set():
                self._take_on(worker.address, worker.name, worker.lanes)

    def _attend(self, member: ClusterMember) -> None:
        """Ask a worker what is new, as long as it is there."""
        while not (member.lost.is_set() or self._closed.is_set()):
            with member.entering:
                made, member.made = member.made, []
            try:
                entries = self._client.call(
                    member.address,
                    cluster_worker.report,
                    self._haul,
                    made,
                    self._speed_share(len(self._members)),
                    is_lost=member.lost.is_set,
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
                woken = member.wake.wait(pause if member.load else _IDLE_REPORT_SECONDS)
                self._closed.wait(pause if woken else 0)

    def _tell(self, member: ClusterMember, entries: Entries) -> None:
        """Tell how far the files are that a worker carries alone."""
        for number, told in list(member.told.items()):
            if number in entries.lengths and not told.begun:
                told.length, start = entries.lengths[number]
                self._observer.started(told.lane, told.filed, told.length, start)
                told.begun = True
            if told.begun and (new := told.received(entries.received.get(number, 0))):
                self._observer.received(told.lane, new)

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
        """Dismiss the workers, and enter what they still have to tell."""
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
        for joining in self._joining:
            joining.join(_JOINING_SECONDS)  # what proves that it shares the folder is deleted then

    def _dismiss(self, member: ClusterMember) -> None:
        with suppress(Gone):
            notes = self._client.call(member.address, cluster_worker.leave, self._haul)
            self._entries.enter(member, notes)
