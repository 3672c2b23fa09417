"""The destination: a folder, what lies in it, and the only ways anything is put there."""

from __future__ import annotations

import errno
import fcntl
import os
import time
from collections.abc import Iterable, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from typing import Self

from willow_cart.errors import CannotStore, UnusableDestination, plainly
from willow_cart.hauling.disk import sync_file, sync_file_system
from willow_cart.hauling.room import room_in
from willow_cart.model import OWN_FOLDER
from willow_cart.records import Arrival, timestamp

# From so many files on, syncing the whole file system is cheaper than syncing each.
_WORTH_ONE_SYNC = 8

# How long a lock is waited for, in seconds.
_MOMENT = 1.0


class Destination:
    """A folder that one haul at a time writes into.

    Args:
        root: the folder; made if it is not there.
        locks: whether to keep other hauls out; not in a process that helps with one.

    Raises:
        UnusableDestination: it is no folder, cannot be written, or another haul is writing it.
    """

    def __init__(self, root: Path, *, locks: bool = True) -> None:
        self.root = root
        self.own = root / OWN_FOLDER
        self._prefix = f"{root}{os.sep}"
        self._real_root = Path()
        self._folders: set[str] = set()
        # Folders in which names were given or taken that a power cut can still undo.
        self._unsynced = {str(root), str(self.own)}
        self._lock = -1
        try:
            for folder in (self.own, self.own / "partial"):
                folder.mkdir(parents=True, exist_ok=True)
            self._real_root = root.resolve(strict=True)
            self._lock = os.open(self.own / "lock", os.O_RDWR | os.O_CREAT, 0o666)
        except (FileExistsError, NotADirectoryError) as error:
            raise UnusableDestination(
                str(error.filename), "is a file", "name a folder with --into"
            ) from None
        except OSError as error:
            raise UnusableDestination(
                str(root), f"cannot be written: {plainly(error)}", "name another with --into"
            ) from None
        if locks:
            self._lock_or_leave()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        # The lock goes with the descriptor, also when the process is killed: it is never stale.
        os.close(self._lock)

    def _lock_or_leave(self) -> None:
        # A haul that was killed may have a second process, which sees that within a moment.
        deadline = time.monotonic() + _MOMENT
        while True:
            try:
                fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() < deadline:
                    time.sleep(_MOMENT / 20)
                    continue
                holder = os.read(self._lock, 64).decode("ascii", "replace").strip()
                os.close(self._lock)
                raise UnusableDestination(
                    str(self.root),
                    f"is in use by another haul (process {holder})",
                    "wait for its end, or watch it with willow-cart runs --watch",
                ) from None
            except OSError as error:
                os.close(self._lock)
                raise UnusableDestination(
                    str(self.root),
                    f"cannot be locked: {plainly(error)}",
                    "name a folder on a local disk",
                ) from None
        os.truncate(self._lock, 0)
        os.write(self._lock, f"{os.getpid()}, since {timestamp()}\n".encode())

    def full_path(self, path: str) -> str:
        """Where a path below the destination is."""
        # Joined as text: this is asked several times for every file, and `Path` takes its time.
        return f"{self._prefix}{path}"

    def holds(self, arrival: Arrival) -> bool:
        """Whether a file lies where it was filed, as it was filed, by its size and time stamp."""
        try:
            status = os.lstat(self.full_path(arrival.lies_at))
        except OSError:
            return False
        return (status.st_size, status.st_mtime_ns) == (arrival.size, arrival.mtime_ns)

    def has_something_at(self, path: str) -> bool:
        """Whether anything lies at a path, whosever it is."""
        return os.path.lexists(self.full_path(path))

    def place(self, file: str, path: str) -> None:
        """Give a whole, checked and synced file its name, in one step that nothing can halve.

        Raises:
            CannotStore: it cannot lie there.
        """
        try:
            full = self._ready(path)
            os.replace(file, full)
        except OSError as error:
            raise cannot_store(path, error) from None
        self._unsynced.add(os.path.dirname(full))

    def place_twin(self, file: str, path: str, twin: str) -> bool:
        """Give a file that lies here another name, in place of one that has the same bytes.

        Args:
            file: the other one; done away with.
            path: the further name.
            twin: where the file lies.

        Returns:
            False if there can be no further name on this disk; nothing has been done then.

        Raises:
            CannotStore: it cannot lie there.
        """
        link = f"{file}.twin"
        try:
            os.link(self.full_path(twin), link)
        except OSError:
            return False
        self.place(link, path)
        for left in (link, file):  # two names of one file do not replace each other (POSIX, rename)
            with suppress(FileNotFoundError):
                os.unlink(left)
        return True

    def take_away(self, path: str, file: str) -> None:
        """Take a file from its path to a place in the own folder, which is there.

        Raises:
            CannotStore: it cannot be moved.
        """
        full = self.full_path(path)
        try:
            os.replace(full, file)
        except OSError as error:
            raise cannot_store(path, error) from None
        self._unsynced.update((os.path.dirname(full), os.path.dirname(file)))

    def refuse(self, file: str, path: str) -> Path:
        """Put a file that failed its check where it can be looked at, and say where."""
        return self._put_away(file, "refused", path)

    def make_way(self, path: str) -> Path | None:
        """Put a file that lies at a path and is not the ledger's where it is kept, and say where.

        Raises:
            CannotStore: it cannot be moved.
        """
        if not os.path.isfile(self.full_path(path)):
            return None
        moment = datetime.now(UTC).strftime("%Y%m%dT%H%M%S")
        return self._put_away(self.full_path(path), "aside", f"{moment}/{path}")

    def rename_drawer(self, drawer: Path, name: str) -> None:
        """Give a folder in the own folder another name."""
        drawer.rename(self.own / name)
        self._unsynced.discard(str(drawer))
        self._unsynced.add(str(self.own))

    def drop_drawer(self, drawer: Path) -> None:
        """Take away a folder in the own folder.

        Raises:
            OSError: it is not empty, or not there.
        """
        drawer.rmdir()
        self._unsynced.discard(str(drawer))
        self._unsynced.add(str(self.own))

    def drop_empty_folders(self, paths: Iterable[str]) -> None:
        """Take away the folders of paths that nothing lies in."""
        folders = {str(folder) for path in paths for folder in PurePosixPath(path).parents}
        for folder in sorted(folders - {"."}, reverse=True):
            full = self.full_path(folder)
            with suppress(OSError):  # it is not empty, or is gone
                os.rmdir(full)
                self._folders.discard(full)
                self._unsynced.discard(full)
                self._unsynced.add(os.path.dirname(full))

    def room(self) -> int:
        """How many bytes may still be written; some are kept for the ledger."""
        return room_in(self._prefix)

    def sync_files(self, files: Sequence[str]) -> None:
        """Make the bytes of files safe against a power cut.

        Many are synced with their whole file system at once, which costs little more than one.

        Raises:
            OSError: the disk would not take them.
        """
        if len(files) >= _WORTH_ONE_SYNC and sync_file_system(self._lock):
            return
        for file in files:
            sync_file(file)

    def sync_folders(self) -> None:
        """Make the names that were given safe against a power cut.

        Raises:
            OSError: the disk would not take them.
        """
        self._unsynced.add(str(self.own / "partial"))
        while self._unsynced:
            sync_file(self._unsynced.pop(), os.O_RDONLY | os.O_DIRECTORY)

    def _put_away(self, file: str, drawer: str, path: str) -> Path:
        try:
            kept = self._ready(f"{OWN_FOLDER}/{drawer}/{path}")
            os.replace(file, kept)
        except OSError as error:
            raise cannot_store(path, error) from None
        return Path(kept)

    def _ready(self, path: str) -> str:
        """The full path, with its folders made and proved to be inside the destination."""
        full = self.full_path(path)
        folder = os.path.dirname(full)
        if folder not in self._folders:
            self._make_inside(folder, path)
            self._folders.add(folder)
        return full

    def _make_inside(self, folder: str, path: str) -> None:
        """Make a folder step by step: a link on the way may lead out of the destination."""
        inside = Path(self.root)
        for part in Path(folder).relative_to(self.root).parts:
            inside /= part
            if not inside.is_dir():
                inside.mkdir(exist_ok=True)
                self._unsynced.add(str(inside.parent))
            if not inside.resolve().is_relative_to(self._real_root):
                raise CannotStore(
                    path, f"{inside} is a link that leads out of {self.root}", "take the link away"
                )


def put_rotten_aside(root: Path, arrivals: Iterable[Arrival]) -> list[tuple[str, Path]]:
    """Put files aside whose bytes have changed although they have the size and date they had.

    A haul would believe them. Others it sees for itself, once what replaces them is there.

    Args:
        root: the destination.
        arrivals: what the ledger says of the files that have changed.

    Returns:
        The path of each, and where it is kept.

    Raises:
        UnusableDestination: a haul is under way there.
        CannotStore: one cannot be moved.
    """
    with Destination(root) as destination:
        rotten = [arrival.path for arrival in arrivals if destination.holds(arrival)]
        kept = [(path, destination.make_way(path)) for path in rotten]
    return [(path, there) for path, there in kept if there is not None]


def cannot_store(path: str, error: OSError) -> CannotStore:
    """The error for a file that this machine would not keep."""
    match error.errno:
        case errno.ENOSPC | errno.EDQUOT:
            return CannotStore(
                path,
                "the disk is full",
                "make room and run the same command again; it goes on from where it stopped",
            )
        case errno.ENOTDIR | errno.EEXIST:
            return CannotStore(path, "a file lies where its folder would be", "move that file")
        case errno.EISDIR | errno.ENOTEMPTY:
            return CannotStore(path, "a folder lies where it would be", "rename that folder")
        case errno.ENAMETOOLONG:
            return CannotStore(path, "its path is too long for this disk", "try --layout flat")
        case _:
            return CannotStore(
                path,
                f"cannot be written: {plainly(error)}",
                "see to the folder and run the same command again",
            )
