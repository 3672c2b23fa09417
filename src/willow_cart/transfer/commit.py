"""The commit thread: names, syncs and records files in batches.

A file is whole and checked when it comes here. What is left is to make it safe on the disk, to
give it its name, and to enter it in the ledger, in this order: a name is only given to what a power
cut cannot take, and the ledger only tells of what has its name. Syncing the disk and committing to
the ledger cost about the same for one file as for a hundred, so files that come within a moment of
each other share both. No lane waits for it, and no other thread writes the ledger.
"""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from queue import SimpleQueue
from typing import Protocol

from willow_cart.addresses import query_of
from willow_cart.destination import (
    PARTIAL,
    Destination,
    Stamp,
    cannot_store,
    fold,
    marked_name,
    safe_name,
)
from willow_cart.errors import CannotStore, InternalError
from willow_cart.identity import AddressId
from willow_cart.ledger.entries import TWIN, Arrival, PartRecord, Result
from willow_cart.ledger.ledger import Ledger
from willow_cart.model import State
from willow_cart.options.groups import Twins
from willow_cart.redaction import fingerprint
from willow_cart.structs import Value, field, replace
from willow_cart.transfer.existing_files import give_own_files
from willow_cart.transfer.partials import Mark
from willow_cart.transfer.spans import delete_note

# Files are collected for this time. A crash can lose that much of small files, which are fetched
# again; a file that took longer to come is sealed before it is named, and is not lost.
_GATHER_SECONDS = 0.1

# Names and entries are synced at the latest after this time.
_SYNC_SECONDS = 10.0

# Lanes wait if the disk is slower than this queue can absorb.
_MAX_QUEUED_FILES = 1000


class VerifiedFile(Value):
    """A complete and checked file that needs its name.

    Attributes:
        file: where its bytes are, below the destination.
        result: what is to be entered once it has its name.
        replaces: the stamp of the file whose place it takes, one of an earlier haul; None for none.
        seal: what to record before it gets it, for one that would be dear to fetch again; its
            bytes are synced already.
        named: the name that the server gives it, in place of the one in its path; empty for none.
    """

    file: str
    result: Result
    replaces: Stamp | None = None
    seal: PartRecord | None = None
    named: str = ""


class Note(Value):
    """An entry for the ledger, and whether it is committed."""

    write: Callable[[Ledger], None]
    committed: threading.Event = field(default_factory=threading.Event)


class KeepPart(Value):
    """Records a partial file; can be pickled, unlike a function of the moment."""

    id: AddressId
    part: PartRecord

    def __call__(self, ledger: Ledger) -> None:
        """Record it."""
        ledger.keep_part(self.id, self.part)


class ForgetPart(Value):
    """Forgets the partial file of an address; can be pickled as above."""

    id: AddressId

    def __call__(self, ledger: Ledger) -> None:
        """Forget it."""
        ledger.forget_parts([self.id])


class LedgerWriter(Protocol):
    """The interface through which lanes pass files and entries to the commit thread."""

    def take(self, item: _Item) -> None:
        """Queue a file to name, a result, or an entry for the ledger."""

    def take_at_once(self, note: Note) -> None:
        """Queue an entry for the ledger, and wait until it is committed."""


_Item = VerifiedFile | Result | Note | Mark


class CommitThread:
    """The thread that files and records finished downloads.

    Args:
        ledger: not written by others until `close`.
        run: the run that results are entered under.
        destination: where the files get their names.
        settled: notified of every result once it is entered; called from the filer's thread.
        timeline: gives the haul's timeline as it is now.
        set_aside: notified of a file that was where one was filed, and where it is kept.
        twins: what to do with files whose bytes exist already under another name.
        handles: whether a command is run for what arrives, which the ledger is to remember.
        is_planned: whether a path is another file's, or may be; None if servers give no names.
        clock: monotonic, in seconds.
    """

    def __init__(
        self,
        ledger: Ledger,
        run: int,
        destination: Destination,
        settled: Callable[[Result], None],
        timeline: Callable[[], str],
        *,
        moved_aside: Callable[[str, Path], None] = lambda _path, _kept: None,
        twins: Twins = Twins.KEEP,
        handles: bool = False,
        is_planned: Callable[[str], bool] | None = None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._ledger = ledger
        self._run = run
        self._destination = destination
        self._settled = settled
        self._timeline = timeline
        self._moved_aside = moved_aside
        self._twins = twins
        self._handles = handles
        self._is_planned = is_planned
        self._named: set[str] = set()
        self._clock = clock
        self._lasting_since = clock()
        self._just_named: dict[str, Arrival] = {}
        self._just_placed: dict[str, Result] = {}
        self._given: dict[str, Stamp] = {}
        self._known_bytes: set[str] = set()
        self._queue: SimpleQueue[_Item | None] = SimpleQueue()
        self._hurry = threading.Event()
        self._failure: Exception | None = None
        self._thread = threading.Thread(target=self._work, name="commit_thread", daemon=True)
        self._thread.start()

    def take(self, item: _Item) -> None:
        """Queue a file to name, a result, or an entry for the ledger.

        Raises:
            CannotStore: the ledger could not be written before, so nothing more is taken.
        """
        self._check()
        while self._queue.qsize() > _MAX_QUEUED_FILES:
            time.sleep(_GATHER_SECONDS / 10)
        self._queue.put(item)

    def take_at_once(self, note: Note) -> None:
        """Queue an entry for the ledger, and wait until it is committed.

        Raises:
            CannotStore: the ledger cannot be written.
        """
        self.take(note)
        self._hurry.set()
        note.committed.wait()
        self._check()

    def flush(self) -> None:
        """Wait until everything queued is filed and reported.

        Raises:
            CannotStore: the ledger cannot be written.
        """
        self.take_at_once(Note(lambda _: None))

    def close(self) -> None:
        """File everything queued, and stop.

        Raises:
            CannotStore: the ledger could not be written.
        """
        self._queue.put(None)
        self._hurry.set()
        self._thread.join()
        self._check()

    def _check(self) -> None:
        if self._failure is not None:
            raise self._failure

    def _work(self) -> None:
        while True:
            batch = [self._queue.get()]
            self._hurry.wait(_GATHER_SECONDS)
            self._hurry.clear()
            batch += [self._queue.get() for _ in range(self._queue.qsize())]
            items = [item for item in batch if item is not None]
            with self._destination.holding_folders():
                self._try_to_file(items)
            for item in items:
                if isinstance(item, Note):
                    item.committed.set()
            if len(items) < len(batch):
                return

    def _try_to_file(self, items: Sequence[_Item]) -> None:
        if self._failure is not None:
            return
        try:
            self._file(items)
        except sqlite3.Error as error:
            self._failure = CannotStore(
                "the ledger",
                f"cannot be written: {error}",
                "check the disk and run the same command to resume",
            )
        except OSError as error:
            self._failure = cannot_store(str(self._destination.root), error)
        except Exception as error:  # a fault of our own; the lanes must not go on
            self._failure = error

    def _file(self, items: Sequence[_Item]) -> None:
        items = [
            self._with_name(item) if isinstance(item, VerifiedFile) else item for item in items
        ]
        self._make_safe(items)
        self._just_named.clear()
        self._just_placed.clear()
        # One look for all: every statement stops the lanes for a moment.
        to_name = [item.result for item in items if isinstance(item, VerifiedFile)]
        self._known_bytes = self._ledger.known_bytes(
            [result.arrival.sha256 for result in to_name if result.arrival is not None]
        )
        results = [
            self._name(item) if isinstance(item, VerifiedFile) else item
            for item in items
            if isinstance(item, VerifiedFile | Result)
        ]
        # Names and entries last from one of these moments on; a power cut before it costs what came
        # since the one before, except for files that were sealed.
        lasting = self._clock() - self._lasting_since > _SYNC_SECONDS
        if lasting or _any_sealed(items):
            self._destination.sync_folders()
        with self._ledger.transaction(lasting=lasting):
            results = [self._record(result) for result in results]
            self._ledger.forget_parts([each.id for each in results if each.arrival is not None])
            for result in results:
                if self._handles and result.state is State.ARRIVED:
                    self._ledger.keep_unhandled(result.id)
            if lasting:
                self._ledger.keep_timeline(self._run, self._timeline())
        if lasting:
            self._ledger.restore()
            self._lasting_since = self._clock()
        for result in results:
            self._settled(result)

    def _record(self, result: Result) -> Result:
        """Record a result; one with a value that the ledger cannot hold is recorded as failed."""
        arrival = result.arrival
        if arrival is not None and arrival.twin and arrival.path in self._given:
            result = replace(result, arrival=replace(arrival, instead=""))
        try:
            self._ledger.enter(self._run, result)
        except (ValueError, OverflowError) as error:
            failure = InternalError.of(result.address, error)
            path = result.path.encode("utf-8", "replace").decode()
            result = Result(
                result.number, result.address, path, State.FAILED, failure.why, id=result.id
            )
            self._ledger.enter(self._run, result)
        return result

    def _make_safe(self, items: Sequence[_Item]) -> None:
        """Sync what is to be named or marked, and commit the entries that must precede it."""
        marks = [item for item in items if isinstance(item, Mark)]
        unsealed = [
            item.file for item in items if isinstance(item, VerifiedFile) and item.seal is None
        ]
        self._destination.sync_files(unsealed)
        for mark in marks:
            with suppress(FileNotFoundError):  # it was deleted, or has its name
                self._destination.sync(f"{PARTIAL}/{mark.name}")
        # A seal has to last before the name that follows it does: otherwise a power cut leaves a
        # file that the ledger takes for one of the user's.
        lasting = bool(marks) or _any_sealed(items)
        if lasting:
            # All that was entered before will last with them, so the names must too.
            self._destination.sync_folders()
        with self._ledger.transaction(lasting=lasting):
            for item in items:
                if isinstance(item, Note):
                    item.write(self._ledger)
                elif isinstance(item, VerifiedFile) and item.seal is not None:
                    self._ledger.keep_part(item.result.id, item.seal)
                elif isinstance(item, Mark):
                    self._ledger.mark_part(item.id, item.name, item.spans, item.digests)

    def _with_name(self, verified: VerifiedFile) -> VerifiedFile:
        """Return a file under the name that its server gives it, if that is free."""
        result, is_planned = verified.result, self._is_planned
        if not verified.named or is_planned is None or result.arrival is None:
            return verified
        folder, slash, _ = result.path.rpartition("/")
        marks = ("", query_of(result.address), fingerprint(result.id))
        for mark in marks:
            name = marked_name(verified.named, mark) if mark else verified.named
            path = f"{folder}{slash}{safe_name(name)}"
            is_free = self._destination.status(path) is None and not is_planned(path)
            if is_free and fold(path) not in self._named:
                self._named.add(fold(path))
                arrival = replace(result.arrival, path=path)
                return replace(
                    verified,
                    result=replace(result, path=path, arrival=arrival),
                    seal=verified.seal and replace(verified.seal, sealed=arrival),
                )
        return verified

    def _name(self, verified: VerifiedFile) -> Result:
        result = verified.result
        assert result.arrival is not None, "the file is in place"
        twin = self._twin_of(result.arrival)
        try:
            if twin is not None:
                self._require_own_path(result)
                return self._name_twin(verified, result.arrival, twin)
            self._place(verified)
        except CannotStore as error:
            return replace(result, state=State.FAILED, reason=error.why, arrival=None)
        self._just_named[result.arrival.sha256] = result.arrival
        self._just_placed[result.path] = result
        return result

    def _place(self, verified: VerifiedFile) -> None:
        """Give a file its name; report an existing file that was moved aside.

        Raises:
            CannotStore: it cannot be stored there.
        """
        path = verified.result.path
        if not self._destination.place_if_free(verified.file, path):
            self._require_own_path(verified.result)
            self._free(path)
            replaces = self._given.get(path, verified.replaces)
            if kept := self._destination.place(verified.file, path, replaces=replaces):
                self._moved_aside(path, kept)
        if verified.seal is not None:
            delete_note(self._destination, verified.seal.file)

    def _free(self, path: str) -> None:
        """See to it that no other file needs the one at a path, which may be replaced."""
        if self._destination.status(path) is not None:
            self._given |= give_own_files(self._ledger, self._destination, path)

    def _require_own_path(self, result: Result) -> None:
        """Refuse a path that another address of the same run has used.

        Plans give every address a path of its own; this is for a fault in one.

        Raises:
            CannotStore: another file of this run is there.
        """
        if self._destination.status(result.path) is None:
            return
        path = result.path
        if (just_now := self._just_placed.get(path)) is not None:
            other, is_own = just_now.address, just_now.id == result.id
        elif (earlier := self._ledger.brought_in(self._run, path)) is not None:
            other, is_own = earlier.address, earlier.key == self._ledger.key_of(result.id)
        else:
            return
        if not is_own:
            raise CannotStore(
                path, f"{other} was filed there in this run", "file with --layout host"
            )

    def _twin_of(self, arrival: Arrival) -> Arrival | None:
        """Return an existing file with the same content under another path.

        An empty file has no twins.
        """
        if not arrival.size:
            return None
        if (just_now := self._just_named.get(arrival.sha256)) is not None:
            return just_now  # the ledger does not know it yet
        if arrival.sha256 not in self._known_bytes:
            return None
        same = self._ledger.with_bytes_of(arrival)
        stamp = self._destination.stamp
        return next((each for each in same if stamp(each.lies_at) == each.stamp), None)

    def _name_twin(self, verified: VerifiedFile, arrival: Arrival, twin: Arrival) -> Result:
        """Handle a file with an existing twin according to the policy.

        Raises:
            CannotStore: it cannot be stored there.
        """
        result = replace(verified.result, twin=twin.path)
        as_twin = replace(arrival, mtime_ns=twin.mtime_ns)
        # A file that is there is of an earlier version, and must not pass for what is here now.
        self._free(result.path)
        replaces = self._destination.status(result.path) is not None
        if self._twins is Twins.SKIP and not replaces:
            with suppress(FileNotFoundError):
                self._destination.delete(verified.file)
            as_twin = replace(as_twin, instead=f"{TWIN}{twin.path}")
            return replace(result, state=State.HERE, path=twin.path, arrival=as_twin)
        if self._twins is Twins.LINK and self._destination.place_twin(
            verified.file, result.path, twin.path, replaces=verified.replaces
        ):
            return replace(result, arrival=as_twin)
        self._place(verified)
        return result


def _any_sealed(items: Sequence[_Item]) -> bool:
    return any(isinstance(item, VerifiedFile) and item.seal is not None for item in items)
