"""The lanes of a haul: how many there are, and what they take from the queue and pass on."""

from __future__ import annotations

import random
import threading
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Sequence
from functools import partial
from typing import Generic

from willow_cart.addresses import host_of
from willow_cart.errors import (
    CannotStore,
    HostUnknown,
    Interrupted,
    NotTrusted,
    ServerBusy,
    TransientError,
    VerificationError,
    WillowCartError,
)
from willow_cart.events import (
    Freed,
    HostGivenUp,
    HostSuspended,
    LanesChanged,
    Postponed,
    Requesting,
    SwitchedMirror,
)
from willow_cart.ledger.entries import Result
from willow_cart.model import State
from willow_cart.platform import processes
from willow_cart.protocols import BUSY, Cause, Failure, GiveUp, Retry
from willow_cart.redaction import without_secrets
from willow_cart.structs import replace
from willow_cart.transfer.commit import CommitThread
from willow_cart.transfer.executor import BatchRule, Executor, Outcome, ThreadExecutor
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.host_queue import HostQueue, Item, QueueWait
from willow_cart.transfer.rates import ConcurrencyController
from willow_cart.transfer.segments import SegmentJob, SegmentScheduler
from willow_cart.transfer.transfers import Transfer, Transfers


class Lookahead(Generic[Item]):
    """Chooses the next files of a host in groups; `choose` is not thread-safe.

    A group is half of what should be requested ahead: while it is worked through, the other half
        comes.

    Args:
        queue: what comes next.
        files_ahead: how many files of a host should be requested ahead; 0 for none.
    """

    def __init__(self, queue: HostQueue[Item], files_ahead: Callable[[str], int]) -> None:
        self._queue = queue
        self._files_ahead = files_ahead
        self._most: dict[str, int] = {}
        self._until_next: Counter[str] = Counter()
        self._chosen: defaultdict[str, set[Item]] = defaultdict(set)

    def files_ahead(self, host: str, address: str) -> int:
        """Return how many files of a host should be requested ahead, which is looked up once.

        Args:
            address: of a file there.
        """
        most = self._most.get(host)
        if most is None:
            most = self._most[host] = self._files_ahead(address)
        return most

    def choose(self, host: str, now: float) -> list[Item]:
        """Return the files to request now, when a lane has taken one of a host.

        Args:
            host: the host, for which `files_ahead` was not 0.
            now: the time in seconds.
        """
        if self._until_next[host] > 1:
            self._until_next[host] -= 1
            return []
        most = self._most[host]
        self._until_next[host] = max(1, most // 2)
        upcoming = self._queue.upcoming(host, now, most)
        chosen = [item for item in upcoming if item not in self._chosen[host]]
        self._chosen[host] = set(upcoming)
        return chosen


# How long lanes that wait for bytes are waited for once the user wants to stop; after that their
# connections are ended. Then they have as long as a name may take to be looked up.
_STOP_GRACE_SECONDS = 0.5

_ABORT_GRACE_SECONDS = 30.0

# After this number of batches in a row without a file for it, the rest is not for an executor
# either: the files that are here already come last.
_MAX_UNSUITED_BATCHES = 3

# How often the number of lanes is thought about, and an ended wait or a wish to stop noticed.
_TICK_SECONDS = 0.05


class WorkerPool:
    """A pool of lanes for the transfers of a haul.

    Args:
        file_transfer: carries one file.
        queue: which file is carried next, by its number.
        transfers: the files that are in progress.
        commit_thread: takes what the lanes have brought.
        further: what carries batches of small files instead of the lanes.
        executor: fetches the files of the lanes; None for this process. One that carries several
            files at once gets lanes for batches besides.
        random_value: gives random numbers from 0 to 1.
        clock: monotonic, in seconds.
        processor_time: that this process has used, in seconds.
    """

    def __init__(
        self,
        file_transfer: FileTransfer,
        queue: HostQueue[int],
        transfers: Transfers,
        commit_thread: CommitThread,
        further: Sequence[Executor] = (),
        *,
        executor: Executor | None = None,
        random_value: Callable[[], float] = random.random,
        clock: Callable[[], float] = time.monotonic,
        processor_time: Callable[[], float] = time.process_time,
    ) -> None:
        downloader = file_transfer.downloader
        self._file_transfer = file_transfer
        self._commit_thread = commit_thread
        self._policy = downloader.policy
        self._retry_policy = downloader.policy.retry_policy
        self._random_value = random_value
        self._observer = downloader.observer
        self._stop = downloader.stop
        self._change = threading.Condition()
        self._queue = queue
        self._transfers = transfers
        self._executor = executor or ThreadExecutor(file_transfer, downloader.stop)
        self._further = further
        self._clock = clock
        self._processor_time = processor_time
        self._helping = SegmentScheduler(
            transfers.moving, downloader.policy.pace.most_strands, downloader.policy.pace.all_lanes
        )
        self._lookahead = Lookahead(queue, self._executor.files_ahead)
        self._files = self._bytes = 0
        self._received: Counter[str] = Counter()
        self._open = 1
        self._batch_lanes = 0
        self._batches: BatchRule | None = None
        self._ended = False
        self._given_up: dict[str, WillowCartError] = {}
        self._failure: BaseException | None = None

    def work(self) -> None:
        """Run all transfers, or until the user stops.

        Raises:
            CannotStore: the ledger cannot be written; nothing more was taken after that.
        """
        lanes = self._policy.pace.all_lanes
        if self._policy.pace.most_strands == 1:
            lanes = min(lanes, self._queue.most_at_once)
        self._manage_lanes(lanes)
        if self._failure is not None:
            raise self._failure

    def _manage_lanes(self, most: int) -> None:
        """Open lanes while more of them help, and wait for their end."""
        lanes = [self._open_lane(0, self._carry_one_by_one)] if most else []
        opened = len(lanes)
        carriers = [each for each in (self._executor, *self._further) if each.batches.files > 1]
        lanes += self._open_batch_lanes(carriers, most)
        concurrency = ConcurrencyController(
            most, processes.usable_processors(), self._clock(), self._processor_time()
        )
        deadline = None
        try:
            while living := [lane for lane in lanes if lane.is_alive()]:
                living[0].join(_TICK_SECONDS)
                now, used = self._clock(), self._processor_time()
                with self._change:
                    self._open = concurrency.measure(now, used, self._files, self._bytes)
                    changed = self._find_lanes(now, most)
                    self._change.notify_all()
                for host, number in changed:
                    self._observer.note(LanesChanged(host, number))
                lanes += [
                    self._open_lane(n, self._carry_one_by_one) for n in range(opened, self._open)
                ]
                opened = max(opened, self._open)
                if self._stop.is_set():
                    deadline = deadline or now + _STOP_GRACE_SECONDS
                    if now > deadline:
                        # Lanes that wait for bytes end now.
                        for executor in (self._executor, *self._further):
                            executor.abort()
                    if now > deadline + _ABORT_GRACE_SECONDS:
                        # One is in a call of the system that nothing ends, such as for a name. It
                        # finds nothing left that it could change.
                        self._file_transfer.downloader.close()
                        return
        finally:
            for executor in (self._executor, *self._further):
                executor.close()

    def _open_batch_lanes(
        self, executors: Sequence[Executor], number: int
    ) -> list[threading.Thread]:
        """Open the lanes that pass batches to executors, with numbers from this one on."""
        for_each = [each for each in executors for _ in range(each.lanes)]
        self._batch_lanes += len(for_each)
        self._batches = executors[0].batches if executors else None
        return [
            self._open_lane(number + place, partial(self._carry_batches, executor=each))
            for place, each in enumerate(for_each)
        ]

    def _find_lanes(self, now: float, most: int) -> list[tuple[str, int]]:
        """Let the queue judge its lanes by the bytes that have come from the hosts in use."""
        if not self._queue.finds_lanes:
            return []
        moving = self._transfers.moving()
        hosts = [host_of(transfer.address) for transfer in moving]
        received = Counter({host: self._received[host] for host in hosts})
        for host, transfer in zip(hosts, moving, strict=True):
            received[host] += transfer.received
        return self._queue.find_lanes(now, received, most)

    def _open_lane(self, number: int, work: Callable[[int], None]) -> threading.Thread:
        lane = threading.Thread(
            target=self._lane, args=(number, work), name=f"lane {number}", daemon=True
        )
        lane.start()
        return lane

    def _lane(self, lane: int, work: Callable[[int], None]) -> None:
        try:
            work(lane)
        except Interrupted:
            pass
        except BaseException as error:
            # A broken ledger, or a fault of our own: no lane can go on as usual.
            self._failure = self._failure or error
            self._stop.set()

    def _carry_one_by_one(self, lane: int) -> None:
        """Run transfers and strands one at a time until none is left."""
        while (taken := self._take(lane)) is not None:
            if isinstance(taken, SegmentJob):
                self._assist(lane, taken)
                continue
            host, number = taken
            self._observer.note(Requesting(lane, host))
            began = self._clock()
            current = self._transfers[number]
            if self._lookahead.files_ahead(host, current.address):
                self._prepare_upcoming(host, began)
            for transfer, outcome in self._executor.carry([current], lane):
                self._handle_outcome(lane, host, transfer, outcome, began)

    def _prepare_upcoming(self, host: str, now: float) -> None:
        """Have the next files of a host requested when it is their time."""
        with self._change:  # what is chosen cannot be taken by another lane meanwhile
            upcoming = [self._transfers[each] for each in self._lookahead.choose(host, now)]
        if upcoming:
            self._executor.prepare(upcoming)

    def _take(self, lane: int) -> tuple[str, int] | SegmentJob | None:
        """Return the next file with its host, or a strand of another lane's file.

        None for the end.
        """
        with self._change:
            while not self._stop.is_set():
                if lane >= self._open and not self._ended:
                    self._change.wait()
                    continue
                now = self._clock()
                taken = self._queue.take(now, leaves=self._batches)
                if taken is None:
                    self._ended = True
                    self._change.notify_all()
                    return None
                if not isinstance(taken, QueueWait):
                    self._keep_gap(taken[0], now)
                    return taken
                if found := self._helping.find(now, partial(self._queue.has_lane, now=now)):
                    self._queue.take_lane(found.host)
                    self._keep_gap(found.host, now)
                    return found
                self._change.wait(taken.seconds)
        return None

    def _carry_batches(self, lane: int, executor: Executor) -> None:
        """Pass batches of files to an executor until none is left."""
        try:
            self._carry_all_batches(lane, executor)
        finally:
            with self._change:
                self._batch_lanes -= 1
                if not self._batch_lanes:
                    self._batches = None
                self._change.notify_all()

    def _carry_all_batches(self, lane: int, executor: Executor) -> None:
        unsuited = 0
        while not self._stop.is_set() and unsuited < _MAX_UNSUITED_BATCHES:
            with self._change:
                taken = self._queue.take_several(self._clock(), executor.batches, self._batch_lanes)
                if taken is None:
                    return
                if isinstance(taken, QueueWait):
                    self._change.wait(taken.seconds)
                    continue
            host, numbers, lanes = taken
            self._observer.note(Requesting(lane, host))
            transfers = [self._transfers[number] for number in numbers]
            if not executor.serves(transfers):
                self._refuse_batch(lane, host, numbers, lanes)
                continue
            suited = executor.suited(transfers)
            unsuited = 0 if suited else unsuited + 1
            begun: set[int] = set()
            began = self._clock()
            for transfer, outcome in executor.carry(suited, lane, lanes):
                begun.add(transfer.number)
                with self._change:
                    self._queue.take_lane(host)
                self._handle_outcome(lane, host, transfer, outcome)
                if isinstance(outcome, WillowCartError):
                    self._observer.note(Requesting(lane, host))
            self._observer.note(Freed(lane))
            with self._change:
                if suited:
                    self._queue.record_batch(host, self._clock() - began, len(begun) or 1)
                # What was not begun goes back to the queue: large files do not wait for small ones.
                self._transfers.forget(n for n in numbers if n not in begun)
                self._queue.return_untried(host, [n for n in numbers if n not in begun])
                self._queue.finish_batch(host, lanes)
                self._change.notify_all()
            if host in self._given_up:
                self._give_up_host(host, self._given_up[host])

    def _refuse_batch(self, lane: int, host: str, numbers: Sequence[int], lanes: int) -> None:
        """Leave the files of a host to lanes that carry them one by one."""
        self._observer.note(Freed(lane))
        with self._change:
            self._transfers.forget(numbers)
            self._queue.refuse_batch(host, numbers)
            self._queue.finish_batch(host, lanes)
            self._change.notify_all()

    def _keep_gap(self, host: str, now: float) -> None:
        pace = self._policy.pace
        if pace.has_gaps:
            self._queue.pause_until(host, now + pace.gap_after(self._random_value()))

    def _assist(self, lane: int, found: SegmentJob) -> None:
        """Fetch a strand of another lane's file; a failure is handled by that lane."""
        self._observer.note(Requesting(lane, found.host))
        done = self._executor.assist(found, lane)
        self._observer.note(Freed(lane))
        failure, progressed = done.failure, done.progressed
        if failure is not None and Failure(failure, int(not progressed)).cause is not Cause.FILE:
            self._charge_host(found.host, failure)
        with self._change:
            self._helping.ended(found, well=done.served and (failure is None or progressed))
            self._queue.finish(found.host)
            self._change.notify()

    def _handle_outcome(
        self,
        lane: int,
        host: str,
        transfer: Transfer,
        outcome: Outcome,
        began: float | None = None,
    ) -> None:
        """Handle the outcome of an attempt; the time is its start, if it had the lane alone."""
        if isinstance(outcome, WillowCartError):
            ended = self._handle_failure(lane, host, transfer, outcome)
            if ended is None:
                return
            outcome = ended
        else:
            now = self._clock()
            with self._change:
                self._queue.record_success(host, now)
                if began is not None:
                    self._queue.record_duration(host, began, now, transfer.received)
        self._commit_thread.take(outcome)
        if began is not None:  # a batch frees its lanes at its end
            self._observer.note(Freed(lane))
        with self._change:
            self._queue.finish(host)
            self._files += 1
            self._bytes += transfer.received
            self._received[host] += transfer.received
            if began is not None:
                self._change.notify()

    def _handle_failure(
        self, lane: int, host: str, transfer: Transfer, error: WillowCartError
    ) -> Result | None:
        """Decide on a failure: retry, wait, or give up; return the result of a file that failed.

        Returns:
            None if the file will be requested again, here or at a mirror.
        """
        with self._change:
            served, has_company = self._queue.served(host), self._queue.has_company(host)
        failure = Failure(
            error, transfer.consecutive_failures, transfer.excused, served, has_company
        )
        match failure.cause:
            case Cause.CROWDING:
                assert isinstance(error, TransientError), "crowding passes"
                self._slow_down(host, transfer, error)
            case Cause.HOST:
                self._charge_host(host, error)
            case Cause.FILE:
                with self._change:
                    self._queue.record_success(host, self._clock())
        # The file may have been forgiven meanwhile.
        decision = self._retry_policy.decide(
            replace(failure, consecutive=transfer.consecutive_failures), self._random_value()
        )
        if isinstance(decision, Retry) and host in self._given_up:
            decision = GiveUp.ATTEMPTS  # it was being fetched when its host was given up
        if isinstance(decision, Retry):
            assert isinstance(error, TransientError), "nothing else is retried"
            self._put_off(lane, host, transfer, error, decision.after)
            return None
        why = _why(error, decision, transfer.consecutive_failures)
        if decision is GiveUp.WAIT:
            self._give_up_host(host, error)
        # A file that this machine cannot store fails on every mirror.
        if not isinstance(error, CannotStore) and self._turn_to_mirror(lane, host, transfer, why):
            return None
        refused = isinstance(error, VerificationError)
        return transfer.result(State.REFUSED if refused else State.FAILED, why)

    def _slow_down(self, host: str, transfer: Transfer, error: TransientError) -> None:
        """Slow down a busy host; the file is not charged while the host serves others."""
        now = self._clock()
        with self._change:
            transfer.ignore_failure(self._queue.served(host))
            if isinstance(error, ServerBusy) and error.most is not None:
                self._queue.allow_at_most(host, error.most, now)
                transfer.reset_failures()
            else:
                self._queue.slow_down(host, now, error.wait)

    def _charge_host(self, host: str, error: WillowCartError) -> None:
        """Charge a failure to a host; a host that keeps failing is suspended."""
        with self._change:
            if isinstance(error, ServerBusy) and error.status in BUSY:
                self._queue.slow_down(host, self._clock(), error.wait)
            times = self._queue.record_failure(host, self._clock())
            if not times:
                return
            pause = self._retry_policy.host_pause_after(times, self._random_value())
            if isinstance(error, HostUnknown | NotTrusted) and times > 1:
                pause = None  # that does not pass by itself
            if pause is not None:
                self._queue.suspend(host, self._clock() + pause)
                # It is the host that fails, and not its files.
                self._transfers.reset_failures(host)
                self._observer.note(HostSuspended(host, error, pause))
                return
        self._give_up_host(host, error)

    def _give_up_host(self, host: str, error: WillowCartError) -> None:
        """Settle all files that wait for a host without requesting them, but for those elsewhere.

        A host that wants to be left alone for long wants so for all of its files.
        """
        with self._change:
            self._given_up[host] = error
            left = self._queue.give_up(host)
        wait = error.wait if isinstance(error, TransientError) else None
        is_wait = wait is not None and wait > self._retry_policy.longest_wait
        reason = _why(error, GiveUp.WAIT, 0) if is_wait else error.why
        why = f"gave up on its host: {reason}"
        lost = [
            transfer
            for transfer in map(self._transfers.__getitem__, left)
            if not self._has_moved(transfer)
        ]
        for transfer in lost:
            self._commit_thread.take(transfer.result(State.FAILED, why))
        if lost:
            self._observer.note(HostGivenUp(host, reason, len(lost)))

    def _has_moved(self, transfer: Transfer) -> bool:
        """Move a file of a failed host to its next mirror, if it has one."""
        if not self._file_transfer.use_next_mirror(transfer):
            return False
        with self._change:
            self._queue.move_to_front(host_of(transfer.address), transfer.number)
        return True

    def _turn_to_mirror(self, lane: int, host: str, transfer: Transfer, why: str) -> bool:
        """Queue a file at its next mirror; return False if none is left."""
        if not self._file_transfer.use_next_mirror(transfer):
            return False
        self._observer.note(
            SwitchedMirror(lane, transfer.filed, why, without_secrets(transfer.address))
        )
        self._observer.note(Freed(lane))
        with self._change:
            self._queue.move(host, transfer.number, host_of(transfer.address))
            self._change.notify()
        return True

    def _put_off(
        self, lane: int, host: str, transfer: Transfer, error: TransientError, pause: float
    ) -> None:
        until = self._clock() + pause
        with self._change:
            self._queue.postpone(host, transfer.number, until)
            if isinstance(error, ServerBusy) and error.wait:
                # The server spoke for itself, not for the one file.
                self._queue.pause_until(host, until)
            self._change.notify()
        self._observer.note(Postponed(lane, transfer.filed, error, pause))
        self._observer.note(Freed(lane))


def _why(error: WillowCartError, ended: GiveUp, attempts: int) -> str:
    """Return why a file failed, as a text."""
    if ended is GiveUp.PERMANENT or not isinstance(error, TransientError):
        return error.why
    if ended is GiveUp.WAIT:
        return f"{error.reason} and asks for a wait of {error.wait:.0f} s; haul again after that"
    often = f", {attempts} times in a row" if attempts > 1 else ""
    return f"{error.reason}{often}; {error.advice or 'haul again later'}"
