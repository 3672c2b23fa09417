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
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

from willow_cart.addresses import address_inside, take_inside
from willow_cart.archives.extract import Emptied, ExtractedMember, LeftOut, empty, without_top
from willow_cart.checks.digests import digest_of
from willow_cart.choosing import Choosing
from willow_cart.destination import Destination, FileTree, Stamp, cannot_store, safe_path
from willow_cart.errors import (
    CannotStore,
    InternalError,
    Interrupted,
    NotUnpacked,
    UnreadableSource,
    WillowCartError,
    nothing_there,
    plainly,
)
from willow_cart.events import BugMet, MovedAside, Unpacked
from willow_cart.filing import Filed, marked
from willow_cart.hauling.refiling import end_moves
from willow_cart.hauling.summary import HaulSummary
from willow_cart.identity import LedgerKey
from willow_cart.ledger.entries import TWIN, Arrival, timestamp
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.model import OWN_FOLDER, Offer
from willow_cart.observer import Observer
from willow_cart.outside_values import moment_at
from willow_cart.protocols import CHUNK
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.protocols.local import address_of
from willow_cart.structs import Value
from willow_cart.transfer.existing_files import give_own_files
from willow_cart.transfer.policy import Unpacking

_UNPACKING = f"{OWN_FOLDER}/unpacking"


class Archive(Value):
    """An archive to be unpacked, unchanged since it was filed.

    Attributes:
        filed: its offer, and its path below the destination.
        arrival: as the ledger knows it, or would.
        root: the folder that it is in, if that is not the destination; None otherwise.
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
        taken = without_top(emptied.taken) if wish.strip_top else emptied.taken
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


def unpack(
    places: Sequence[Path],
    into: Path | None,
    wish: Unpacking,
    choosing: Choosing,
    *,
    command: str = "",
    observer: Observer | None = None,
    stop: threading.Event | None = None,
) -> HaulSummary:
    """Unpack archives, each into its destination.

    Args:
        places: folders that were hauled into, whose archives are meant, and archives.
        into: the destination for all of them; None for that which they were hauled into, or else
            the folder that they are in.
        command: the command line, for the ledger.
        stop: set it to end early.

    Returns:
        The account; `planned` is how many archives there were, and `run` that of the last ledger.

    Raises:
        NothingChosen: no archive, or none is chosen.
        UnreadableLedger: nothing was hauled into one of the folders.
        UnreadableSource: an archive cannot be read.
        UnusableDestination, CannotStore: nothing can be unpacked there.
        FieldsMissing: the template for folders has no value for some of them.
    """
    stop = stop or threading.Event()
    found = {archive.filed.offer: (root, archive) for root, archive in _find(places, into)}
    if not found:
        raise nothing_there(", ".join(map(str, places)), "archive")
    choice = choosing.choose(found)
    choice.require_some()
    chosen = [found[offer] for offer in choice.chosen]
    wish.require_fields(archive.filed for _, archive in chosen)
    by_root: defaultdict[Path, list[Archive]] = defaultdict(list)
    for root, archive in chosen:
        by_root[root].append(archive)
    account = HaulSummary(0, len(chosen))
    account.archives = [(root, archive.arrival) for root, archive in chosen]
    for root, archives in by_root.items():
        with Destination(root) as destination, Ledger(ledger_path(root), create=True) as ledger:
            end_moves(ledger, destination)
            account.run = ledger.begin_run(command)
            unpacker = Unpacker(
                wish, ledger, destination, account.run, observer=observer or Observer(), stop=stop
            )
            for unpacked in unpacker.unpack_all(archives):
                account.add_unpacked(unpacked)
            account.interrupted = unpacker.broken_off
            with ledger.transaction():
                ledger.end_run(account.run, account.exit_code)
    return account


def _find(places: Iterable[Path], into: Path | None) -> Iterator[tuple[Path, Archive]]:
    """Yield every archive with its destination."""
    for place in places:
        if place.is_dir():
            yield from ((into or place, archive) for archive in _hauled_into(place, into))
        else:
            home = _destination_of(place)
            if home is not None and into is None:
                path = place.resolve().relative_to(home).as_posix()
                hauled = [each for each in _hauled_into(home, None) if each.arrival.path == path]
                if hauled:
                    yield home, hauled[0]
                    continue
            yield into or place.absolute().parent, _found_at(place)


def _hauled_into(folder: Path, into: Path | None) -> Sequence[Archive]:
    """Return the archives in a folder's ledger that are unchanged since they were filed."""
    with Ledger(ledger_path(folder)) as ledger:
        arrivals = [
            each
            for each in ledger.latest_arrivals()
            if Offer("file:///x", name=each.path.rpartition("/")[2]).kind == "archive"
        ]
    is_own = into is None or into == folder
    return [
        Archive(Filed(_offer_of(each, str(folder)), each.path), each, None if is_own else folder)
        for each in arrivals
    ]


def _offer_of(arrival: Arrival, source: str) -> Offer:
    folder, _, name = arrival.path.rpartition("/")
    return Offer(
        arrival.address,
        source,
        name=name,
        folder=folder,
        size=arrival.size,
        modified=parse_date(arrival.last_modified),
        digest=arrival.digest,
    )


def _destination_of(file: Path) -> Path | None:
    """Return the folder that a file was hauled into, or None."""
    return next((folder for folder in file.resolve().parents if has_ledger(folder)), None)


def _found_at(path: Path) -> Archive:
    """Return an archive that is in no ledger.

    Raises:
        UnreadableSource: it cannot be read.
    """
    try:
        with FileTree(path.parent) as folder, folder.open(path.name) as file:
            status = os.fstat(file.fileno())
            sha256 = digest_of(file, ["sha256"])["sha256"].digest
    except OSError as error:
        raise UnreadableSource(
            str(path), f"cannot be read: {plainly(error)}", "name an archive, or a haul's folder"
        ) from None
    address = address_of(path)
    modified = moment_at(status.st_mtime)
    offer = Offer(address, os.fspath(path), folder="", size=status.st_size, modified=modified)
    arrival = Arrival(
        address, address, path.name, timestamp(), status.st_size, sha256, None, None, "",
        "nothing", status.st_mtime_ns,
    )  # fmt: skip
    return Archive(Filed(offer, path.name), arrival, path.parent)
