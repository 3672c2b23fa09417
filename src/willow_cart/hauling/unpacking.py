"""Unpack archives of a destination, and record their files in the ledger.

An archive is emptied into `.willow/unpacking` first. Its members get their names only once all of
them are there, and the ledger knows that it was unpacked once all have theirs; whatever ends it
before that, the next haul does it again.
"""

from __future__ import annotations

import errno
import os
import sqlite3
import threading
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

from willow_cart.addresses import address_inside, take_inside
from willow_cart.archives.extract import Emptied, ExtractedMember, LeftOut, empty, lifted
from willow_cart.checks.digests import digest_of
from willow_cart.destination import Destination, FileTree, Stamp, cannot_store, safe_path
from willow_cart.errors import (
    CannotStore,
    InternalError,
    Interrupted,
    NotUnpacked,
    WillowCartError,
)
from willow_cart.events import BugMet, MovedAside, Unpacked
from willow_cart.filing import Filed, marked
from willow_cart.identity import LedgerKey
from willow_cart.ledger.entries import TWIN, Arrival, timestamp
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.ledger.ledger import Ledger
from willow_cart.model import OWN_FOLDER
from willow_cart.observer import Observer
from willow_cart.protocols import CHUNK
from willow_cart.structs import Value
from willow_cart.transfer.existing_files import give_own_files
from willow_cart.transfer.policy import Unpacking

_UNPACKING = f"{OWN_FOLDER}/unpacking"


class Archive(Value):
    """An archive to be unpacked, unchanged since it was filed.

    Attributes:
        filed: what is known of it, and its path below the destination.
        arrival: as the ledger knows it, or would.
        root: the folder that it lies in, if that is not the destination; None otherwise.
    """

    filed: Filed
    arrival: Arrival
    root: Path | None = None

    def open(self, tree: FileTree) -> BinaryIO:
        """Open the archive.

        Args:
            tree: the destination.

        Raises:
            OSError: it cannot be opened.
        """
        if self.root is None:
            return tree.open(self.arrival.lies_at)
        with FileTree(self.root) as folder:
            return folder.open(self.arrival.lies_at)


def unharmed_archives(
    chosen: Iterable[Filed], held: KnownFiles, destination: FileTree
) -> Iterator[Archive]:
    """Yield the archives of a haul that are unchanged since their arrival.

    Args:
        chosen: those that are to be unpacked.
        held: what the ledger knows.
        destination: where they are.
    """
    for filed in chosen:
        arrival = held.get(filed.offer.id)
        if arrival is not None and destination.stamp(arrival.lies_at) == arrival.stamp:
            yield Archive(filed, arrival)


class Unpacker:
    """Unpacks archives into a destination.

    Args:
        ledger: of the destination, written by no other process meanwhile.
        destination: where members get their names.
        run: that they are entered under.
        stop: set when the user wants to stop.

    Attributes:
        broken_off: whether it ended before all archives were unpacked.
    """

    def __init__(
        self,
        wish: Unpacking,
        ledger: Ledger,
        destination: Destination,
        run: int,
        *,
        observer: Observer,
        stop: threading.Event,
    ) -> None:
        self._wish = wish
        self._ledger = ledger
        self._destination = destination
        self._run = run
        self._observer = observer
        self._stop = stop
        self.broken_off = False

    def unpack_all(self, archives: Iterable[Archive]) -> Iterator[Unpacked]:
        """Unpack what is not unpacked yet, until the user stops it.

        Yields:
            The result of each, also of those that were unpacked before.

        Raises:
            CannotStore: the ledger cannot be written.
        """
        for archive in archives:
            path = archive.filed.path
            if self._stop.is_set():
                self.broken_off = True
                return
            try:
                unpacked = self._unpack(archive)
            except Interrupted:
                self.broken_off = True
                return
            except NotUnpacked as error:
                unpacked = Unpacked(path, failed=error.why)
            except OSError as error:
                unpacked = Unpacked(path, failed=cannot_store(path, error).why)
            except (WillowCartError, sqlite3.Error):
                raise
            except Exception as error:  # one odd archive must not end the others
                failure = InternalError.of(path, error)
                self._observer.note(BugMet(path, failure))
                unpacked = Unpacked(path, failed=failure.why)
            self._observer.note(unpacked)
            yield unpacked

    def _unpack(self, archive: Archive) -> Unpacked:
        """Unpack one archive, unless it was unpacked before.

        Raises:
            NotUnpacked, OSError: it cannot be.
            Interrupted: the user wants to stop.
        """
        arrival = archive.arrival
        left_out = self._ledger.left_out_of(arrival, self._wish.mark)
        if left_out is not None and all(map(self._holds, self._members(arrival))):
            unpacked = Unpacked(archive.filed.path, left_out_before=left_out)
        else:
            self._destination.empty_folder(_UNPACKING)
            try:
                unpacked = self._empty(archive)
            finally:
                self._destination.empty_folder(_UNPACKING)
                self._destination.delete_folder(_UNPACKING)
        if self._wish.remove and not unpacked.left_out and not unpacked.left_out_before:
            self._remove(archive)
        return unpacked

    def _holds(self, arrival: Arrival) -> bool:
        return self._destination.stamp(arrival.lies_at) == arrival.stamp

    def _empty(self, archive: Archive) -> Unpacked:
        wish, filed, arrival = self._wish, archive.filed, archive.arrival
        with archive.open(self._destination) as file:
            emptied = empty(
                file,
                filed.path.rpartition("/")[2],
                self._destination,
                _UNPACKING,
                chosen=wish.chooses,
                nested=wish.nested,
                bounds=wish.bounds,
                password=os.fsencode(wish.password.value) if wish.password else None,
                unpacked=self._unpacked,
            )
        taken = lifted(emptied.taken) if wish.lift else emptied.taken
        wished = wish.folder_for(filed, is_single=emptied.is_single).strip("/")
        folder = f"{safe_path(wished)}/" if wished else ""
        self._destination.sync_files([each.file for each in taken])
        members = list(self._place(taken, folder, arrival, emptied))
        gone = self._put_away_others(arrival, members)
        self._destination.sync_folders()
        is_done = all(each.is_final for each in emptied.left_out)
        with self._ledger.transaction(lasting=True):
            for each in gone:
                self._ledger.replace_by(each, "nothing")
            self._ledger.keep_members(
                self._run, arrival, wish.mark, members, len(emptied.left_out) if is_done else None
            )
        return Unpacked(
            filed.path,
            folder=folder or "./",
            files=sum(not each.instead for each in members),
            bytes=sum(each.size for each in members if not each.instead),
            not_chosen=emptied.not_chosen,
            left_out=tuple(emptied.left_out),
            gone=tuple(each.path for each in gone),
        )

    def _place(
        self, taken: Iterable[ExtractedMember], folder: str, archive: Arrival, emptied: Emptied
    ) -> Iterator[Arrival]:
        """Give members their names; those without a possible name are left out."""
        for each in taken:
            key = self._ledger.key_of_arrival(archive)
            key = LedgerKey(address_inside(key, each.name))
            try:
                path, twin, earlier = self._path_for(f"{folder}{each.path}", key, each, archive)
                stamp = self._destination.stamp(each.file)
                assert stamp is not None, "it was just unpacked"
                if twin is None:
                    give_own_files(self._ledger, self._destination, path)
                    if kept := self._destination.place(each.file, path, replaces=earlier):
                        self._observer.note(MovedAside(path, kept))
            except CannotStore as error:
                emptied.left_out.append(LeftOut(each.name, error.why))
                continue
            yield Arrival(
                address=address_inside(archive.address, each.name),
                final_address=address_inside(archive.final_address, each.name),
                path=path,
                time=timestamp(),
                size=each.size,
                sha256=each.sha256,
                entity_tag=None,
                last_modified=None,
                expected="",
                verdict=f"unpacked; its archive by {archive.verdict}",
                mtime_ns=stamp.mtime_ns if twin is None else twin.mtime_ns,
                instead="" if twin is None else f"{TWIN}{twin.path}",
                archive=archive.sha256,
                key=key,
            )

    def _path_for(
        self, path: str, key: LedgerKey, taken: ExtractedMember, archive: Arrival
    ) -> tuple[str, Arrival | None, Stamp | None]:
        """Return the path of a member, its twin, and the earlier file that it replaces.

        Returns:
            The path; an existing file with the same content, if any; and the stamp of the file
            whose place it may take.
        """
        earlier = self._ledger.latest_at(path)
        if earlier is not None and earlier.key != key and self._holds(earlier):
            path = marked(path, archive.path.rpartition("/")[2])
            if earlier.sha256 == taken.sha256:
                return path, earlier, None
            earlier = self._ledger.latest_at(path)
        if earlier is not None and self._holds(earlier):
            return path, None, earlier.own_stamp
        # A file with its bytes is from a time before that was interrupted.
        stamp = self._destination.stamp(path)
        if stamp is not None and stamp.size == taken.size:
            with self._destination.open(path) as file:
                if digest_of(file, ["sha256"])["sha256"].digest == taken.sha256:
                    return path, None, stamp
        return path, None, None

    def _members(self, archive: Arrival) -> Iterator[Arrival]:
        """Yield the files unpacked earlier from this version of an archive, as far as wanted."""
        for each in self._ledger.members_of(archive):
            if each.archive == archive.sha256 and self._chooses(each):
                yield each

    def _put_away_others(self, archive: Arrival, members: Iterable[Arrival]) -> list[Arrival]:
        """Move files aside that came from an earlier version of an archive and are not in this one.

        Otherwise last month's files would be taken for this month's.
        """
        paths = {each.path for each in members}
        gone = []
        for each in self._ledger.members_of(archive):
            others = each.archive != archive.sha256 and each.path not in paths
            if others and self._chooses(each):
                if self._destination.stamp(each.path) == each.own_stamp:
                    give_own_files(self._ledger, self._destination, each.path)
                    self._destination.move_aside(each.path)
                gone.append(each)
        return gone

    def _chooses(self, member: Arrival) -> bool:
        return self._wish.chooses(safe_path(take_inside(member.address)[1]))

    def _remove(self, archive: Archive) -> None:
        """Delete an archive; the ledger keeps that its members replace it."""
        if archive.root is None:
            give_own_files(self._ledger, self._destination, archive.arrival.path)
        with self._ledger.transaction(lasting=True):
            self._ledger.replace_by(archive.arrival, "members")
        if archive.root is None:
            archive.arrival.delete_from(self._destination)
            return
        with FileTree(archive.root) as folder:
            archive.arrival.delete_from(folder)

    def _unpacked(self, _count: int) -> None:
        if self._stop.is_set():
            raise Interrupted("unpacking", "interrupted")
        if self._destination.room.free() < CHUNK:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
