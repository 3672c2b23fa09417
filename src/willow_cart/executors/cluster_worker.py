"""What runs in a worker of a cluster: attempts at files, for the process that holds the queue.

That process, the coordinator, calls these functions through the scheduler. A worker writes partial
files in the destination, which all see; it names no files and writes no ledger. What the ledger has
to know of a partial file waits in the worker until the coordinator fetches it.
"""

from __future__ import annotations

import asyncio
import hashlib
import os
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, MutableMapping, Sequence
from contextlib import contextmanager, nullcontext, suppress
from functools import cache
from pathlib import Path
from typing import Self

from willow_cart.destination import PARTIAL, Destination
from willow_cart.destination.tree import FileTree
from willow_cart.errors import InternalError, Interrupted, WillowCartError
from willow_cart.events import Notice, Received, Started
from willow_cart.filing import Filed
from willow_cart.filing.templates import Layout
from willow_cart.identity import LedgerKey
from willow_cart.ledger.entries import PartRecord
from willow_cart.observer import Observer
from willow_cart.platform import disks, files
from willow_cart.protocols.base import Access
from willow_cart.structs import Value, replace
from willow_cart.transfer.commit import Note, VerifiedFile
from willow_cart.transfer.downloader import Downloader
from willow_cart.transfer.executor import Outcome, ThreadExecutor, ends_batch
from willow_cart.transfer.file_transfer import FileTransfer
from willow_cart.transfer.partials import Mark, PartialFile, PartialStore
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.segments import SegmentJob, SegmentScheduler
from willow_cart.transfer.transfers import Transfer
from willow_cart.version import __version__


class Setup(Value):
    """What a worker needs before its first batch.

    Attributes:
        make_access: creates the client for all protocols.
    """

    make_access: Callable[[], Access]
    root: Path
    policy: HaulPolicy

    @classmethod
    def of(cls, make_access: Callable[[], Access], root: Path, policy: HaulPolicy) -> Self:
        """Return the setup for a haul with this policy.

        Names and archives are not for workers, and rules may not be able to leave their process.
        """
        handling = replace(policy.handling, on_arrival=None)
        away = replace(policy, layout=Layout.TREE, unpack=None, handling=handling)
        return cls(make_access, root, away)


class Carried(Value):
    """The outcome of an attempt in a worker.

    Attributes:
        number: of the file.
        outcome: what became of it; None if it is not for a worker, and was not begun.
        received: how many bytes came.
        consecutive_failures: how many attempts in a row failed.
        seconds: how long it took.
    """

    number: int
    outcome: Outcome | None
    received: int = 0
    consecutive_failures: int = 0
    seconds: float = 0.0


class NotForWorkers(WillowCartError):
    """A file that the worker cannot handle; the coordinator fetches it."""


# A worker that has not heard from its coordinator for so long ends what it does: the command may
# have been killed, and would be started again.
_ORPHANED_SECONDS = 20.0

# A worker that was itself stopped for so long may have been given up, and its files taken over.
_FROZEN_SECONDS = 15.0

_WATCH_SECONDS = 1.0

# How often it is thought about whether a large file should have a thread more.
_STRAND_SECONDS = 0.1

Notes = tuple[tuple[int, object], ...]
"""Entries for the ledger with their numbers, each kept until it is acknowledged."""


class Entries(Value):
    """What a worker tells between batches.

    Attributes:
        notes: entries for the ledger, numbered, each until it is acknowledged.
        lengths: of the files that are coming, and where they were resumed, by their numbers.
        received: bytes that have come of them so far.
    """

    notes: Notes
    lengths: Mapping[int, tuple[int | None, int]]
    received: Mapping[int, int]


class Batch(Value):
    """What became of a batch.

    Attributes:
        carried: the outcomes.
        notes: as for `Entries`; to be made before anything follows from the outcomes.
    """

    carried: list[Carried]
    notes: Notes


class _Progress(Observer):
    """Counts what comes; the number of a file is its lane here."""

    def __init__(self) -> None:
        self.lengths: dict[int, tuple[int | None, int]] = {}
        self.counts: Counter[int] = Counter()

    def note(self, event: Notice) -> None:
        match event:
            case Received(number, count):
                self.counts[number] += count
            case Started(number, _, length, start):
                self.lengths[number] = (length, start)

    def forget(self, number: int) -> None:
        """Forget a file that is through."""
        self.lengths.pop(number, None)
        self.counts.pop(number, None)


class _Outbox:
    """Replaces the commit thread: entries wait here until the coordinator has made them.

    Args:
        destination: where marked files are synced, since only this machine has their last bytes.
        stop: ends the waiting.
    """

    def __init__(self, destination: Destination, stop: threading.Event) -> None:
        self._destination = destination
        self._stop = stop
        self._waiting: dict[int, object] = {}
        self._made = 0
        self._change = threading.Condition()
        self._in_batch = threading.local()

    def refuse(self, *, refuses: bool) -> None:
        """Refuse entries of the calling thread: files of a batch have to come in one piece."""
        self._in_batch.refuses = refuses

    def take(self, item: object) -> None:
        """Keep an entry for the coordinator; what a batch deletes was never recorded."""
        if getattr(self._in_batch, "refuses", False):
            return
        if isinstance(item, Mark):
            with suppress(FileNotFoundError):  # it was deleted, or has its name
                self._destination.sync(f"{PARTIAL}/{item.name}")
        self._put(item.write if isinstance(item, Note) else item)

    def take_at_once(self, note: Note) -> None:
        """Keep an entry, and wait until it is committed.

        Raises:
            NotForWorkers: the file is one of a batch, and large; it is for a lane of its own.
            Interrupted: the haul ends.
        """
        if getattr(self._in_batch, "refuses", False):
            raise NotForWorkers("a file", "arrived incomplete")
        number = self._put(note.write)
        with self._change:
            self._change.wait_for(lambda: number not in self._waiting or self._stop.is_set())
            if number in self._waiting:
                raise Interrupted("a file", "interrupted")

    def _put(self, entry: object) -> int:
        with self._change:
            self._made += 1
            self._waiting[self._made] = entry
            return self._made

    def waiting(self, acknowledged: Sequence[int]) -> Notes:
        """Return the entries that are not made yet, in order; wake up who waited for the others."""
        with self._change:
            for number in acknowledged:
                self._waiting.pop(number, None)
            self._change.notify_all()
            return tuple(self._waiting.items())

    def wake(self) -> None:
        """Wake up everybody."""
        with self._change:
            self._change.notify_all()


class _Strands:
    """Fetches large files on further threads, as long as they pay.

    Args:
        here: fetches a strand.
        policy: how many a file may have.
        stop: set when the haul is to end.

    Attributes:
        most: how many threads a file may have now, the one that carries it included.
    """

    def __init__(self, here: ThreadExecutor, policy: HaulPolicy, stop: threading.Event) -> None:
        self.most = 1
        self._here = here
        self._policy = policy
        self._stop = stop

    @contextmanager
    def beside(self, moving: dict[int, Transfer]) -> Iterator[None]:
        """Help with the only file in progress.

        When it is through, or its attempt has failed, no thread writes into it any more: it may be
        given to another worker.
        """
        if self._policy.pace.most_strands == 1:
            yield
            return
        ended = threading.Event()
        helped: list[PartialFile] = []
        watch = threading.Thread(
            target=self._watch,
            args=(moving, ended, helped),
            name="willow-cart strands",
            daemon=True,
        )
        watch.start()
        try:
            yield
        finally:
            ended.set()
            watch.join()
            for each in helped:
                each.end_strands()

    def _watch(
        self, moving: dict[int, Transfer], ended: threading.Event, helped: list[PartialFile]
    ) -> None:
        """Begin strands while there are too few."""
        lanes = self._policy.pace.most_host_lanes
        finder = SegmentScheduler(
            lambda: list(moving.values()), self._policy.pace.most_strands, lanes
        )
        lock = threading.Lock()
        helpers: list[threading.Thread] = []
        while not (ended.wait(_STRAND_SECONDS) or self._stop.is_set()):
            helpers = [each for each in helpers if each.is_alive()]
            if 1 + len(helpers) >= self.most:
                continue
            with lock:
                job = finder.find(time.monotonic(), lambda _: True)
            if job is not None:
                helped.append(job.strand.partial)
                helper = threading.Thread(target=self._help, args=(job, finder, lock), daemon=True)
                helpers.append(helper)
                helper.start()

    def _help(self, job: SegmentJob, finder: SegmentScheduler, lock: threading.Lock) -> None:
        with suppress(Interrupted):
            done = self._here.assist(job, job.transfer.number)
            with lock:
                finder.ended(job, well=done.served and (not done.failure or done.progressed))


class _Share:
    """A worker's share of a haul.

    Args:
        setup: what to do, and where.
        is_elsewhere: whether this machine is another one than the coordinator's, which cannot make
            bytes safe that this one has written.
    """

    def __init__(self, setup: Setup, *, is_elsewhere: bool) -> None:
        self.stop = threading.Event()
        self.is_closed = False
        self.heard = time.monotonic()
        self.progress = _Progress()
        self._is_elsewhere = is_elsewhere
        # Small files cost more of the interpreter than of the line: two batches at a time would
        # only take turns.
        self._one_batch = threading.Lock()
        self._destination = Destination(setup.root, alone=False)  # the coordinator has the lock
        self.root = setup.root
        self.outbox = _Outbox(self._destination, self.stop)
        self._access = setup.make_access()
        self._records: dict[LedgerKey, PartRecord] = {}
        self._partials = PartialStore(self._destination, self._records, disks.boot_mark())
        self._downloader = Downloader(
            self._access, self._partials, self.outbox, self.progress, self.stop, setup.policy,
            self._destination.room,
        )  # fmt: skip
        self._file_transfer = FileTransfer(self._downloader, self._destination, None)
        here = ThreadExecutor(self._file_transfer, self.stop)
        self._strands = _Strands(here, setup.policy, self.stop)
        threading.Thread(target=self._watch, name="willow-cart watch", daemon=True).start()

    def carry(self, batch: Sequence[tuple[int, Filed]], record: PartRecord | None) -> Batch:
        """Make one attempt at each file of a batch; see `carry`."""
        if len(batch) > 1:
            with self._one_batch:
                return self._carry(batch, record)
        return self._carry(batch, record)

    def _carry(self, batch: Sequence[tuple[int, Filed]], record: PartRecord | None) -> Batch:
        self.outbox.refuse(refuses=len(batch) > 1)
        key = LedgerKey(batch[0][1].offer.id)
        if record is not None:
            if record.boot != disks.boot_mark():
                self._partials.cut_to_what_is_sure(record)
            self._records[key] = record
        try:
            moving: dict[int, Transfer] = {}
            with self._strands.beside(moving) if len(batch) == 1 else nullcontext():
                carried = list(
                    carry_all(self._file_transfer, batch, lambda: not self.stop.is_set(), moving)
                )
        finally:
            if record is not None:
                self._records.pop(key, None)
            for number, _ in batch:
                self.progress.forget(number)
        if self._is_elsewhere:
            # The coordinator syncs as well, but the last bytes may be with this machine only.
            files = [
                each.outcome.file for each in carried if isinstance(each.outcome, VerifiedFile)
            ]
            self._destination.sync_files(files)
        return Batch(carried, self.outbox.waiting(()))

    def report(self, acknowledged: Sequence[int], speed_cap: int | None, strands: int) -> Entries:
        """Return the news, and take note that the coordinator lives."""
        self.heard = time.monotonic()
        self._strands.most = strands
        if speed_cap and self._downloader.cap is not None:
            self._downloader.cap.change(speed_cap)
        progress = self.progress
        return Entries(
            self.outbox.waiting(acknowledged), dict(progress.lengths), dict(progress.counts)
        )

    def end(self) -> None:
        """Stop what is running; each attempt ends with what it has."""
        self.stop.set()
        self.outbox.wake()
        self._access.abort()

    def close(self) -> None:
        """Stop, and change no more files."""
        self.is_closed = True
        self.end()
        self._downloader.close()
        self._access.close()
        self._destination.close()

    def _watch(self) -> None:
        """End the share once it is not wanted any more."""
        seen = time.monotonic()
        while not self.stop.wait(_WATCH_SECONDS):
            now = time.monotonic()
            if now - seen > _FROZEN_SECONDS or now - self.heard > _ORPHANED_SECONDS:
                self.close()
            seen = now


_shares: dict[str, _Share] = {}
"""The hauls that this worker has a share in."""


class NoShare(WillowCartError):
    """A worker knows nothing of a haul: it was restarted, or has given it up."""


def _share_of(haul: str) -> _Share:
    share = _shares.get(haul)
    if share is None or share.is_closed:
        raise NoShare("a worker", "has no share in this haul")
    return share


# The functions that the coordinator calls. Those that may wait for a disk leave the worker's loop.


@cache
def build_mark() -> str:
    """Return a digest of this package's source; two builds may have one version."""
    digest = hashlib.sha256()
    folder = Path(__file__).parents[1]
    for path in sorted(folder.rglob("*.py")):
        digest.update(f"{path.relative_to(folder).as_posix()}\n".encode() + path.read_bytes())
    return digest.hexdigest()


def describe(root: Path, asked: str, answered: str) -> dict[str, str]:
    """Return what the coordinator has to know of a worker before it sends it anything.

    Args:
        asked: the path of a file to read, below the destination.
        answered: the path of an empty file to write the same into.

    Returns:
        The version and the build of this package, the start of this machine, and what was read;
        in plain types, which any other build understands.
    """
    return {
        "version": __version__,
        "build": build_mark(),
        "boot": disks.boot_mark(),
        "read": _prove_shared(root, asked, answered),
    }


def _prove_shared(root: Path, asked: str, answered: str) -> str:
    try:
        with FileTree(root) as tree:
            with tree.open(asked) as file:
                token = file.read(100).decode("ascii", "replace")
            with open(tree.open_for(answered, os.O_WRONLY), "wb") as file:
                file.write(token.encode())
                file.flush()
                files.sync(file.fileno())
            return token
    except OSError:
        return ""


async def join(haul: str, setup: Setup, boot: str) -> tuple[str, str] | None:
    """Begin a share in a haul.

    Args:
        haul: its name.
        setup: what to do, and where.
        boot: of the coordinator's machine.

    Returns:
        What this worker lacks, and what to do about it; None for nothing.
    """
    # One haul at a time has the destination: another share in it is of one that was killed.
    for name, share in list(_shares.items()):
        if name == haul or share.root == setup.root:
            del _shares[name]
            await asyncio.to_thread(share.close)
    try:
        made = await asyncio.to_thread(_Share, setup, is_elsewhere=boot != disks.boot_mark())
    except WillowCartError as error:
        return str(error), error.advice
    _shares[haul] = made
    return None


def report(haul: str, acknowledged: Sequence[int], speed_cap: int | None, strands: int) -> Entries:
    """Return the news of a share; see `Entries`.

    Args:
        haul: its name.
        acknowledged: the entries that were made.
        speed_cap: bytes a second that are this worker's now.
        strands: how many threads a large file may have.
    """
    return _share_of(haul).report(acknowledged, speed_cap, strands)


def carry(haul: str, batch: Sequence[tuple[int, Filed]], record: PartRecord | None) -> Batch:
    """Make one attempt at each file of a batch, until its host is busy.

    Args:
        batch: the files by their numbers.
        record: the received part of the only file of a batch, if it can be resumed.
    """
    return _share_of(haul).carry(batch, record)


def stop(haul: str) -> None:
    """End what is running; received bytes are kept."""
    if (share := _shares.get(haul)) is not None:
        share.end()


async def leave(haul: str) -> Notes:
    """End a share; return the remaining entries."""
    share = _shares.pop(haul, None)
    if share is None:
        return ()
    await asyncio.to_thread(share.close)
    return share.outbox.waiting(())


def carry_all(
    file_transfer: FileTransfer,
    batch: Sequence[tuple[int, Filed]],
    is_wanted: Callable[[], bool],
    moving: MutableMapping[int, Transfer] | None = None,
) -> Iterator[Carried]:
    """Run transfers until the host is busy; return the rest.

    Args:
        file_transfer: makes the attempts.
        batch: the files by their numbers.
        is_wanted: whether the next one is to be begun.
        moving: where the transfer in progress is meanwhile, by its number.
    """
    moving = {} if moving is None else moving
    for number, filed in batch:
        if not is_wanted():
            return
        transfer = moving[number] = Transfer(number, filed)
        carried = _carry(file_transfer, transfer)
        del moving[number]
        yield carried
        if ends_batch(carried.outcome):
            return


def _carry(file_transfer: FileTransfer, transfer: Transfer) -> Carried:
    outcome: Outcome | None
    try:
        outcome = file_transfer.attempt(transfer, transfer.number)
    except NotForWorkers:
        outcome = None
    except WillowCartError as error:
        outcome = error
    except Exception as error:  # one odd file must not end the worker
        outcome = InternalError.of(transfer.shown, error)
    return Carried(
        transfer.number,
        outcome,
        transfer.received,
        transfer.consecutive_failures,
        transfer.seconds,
    )
