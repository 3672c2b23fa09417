"""The destination of hauls: a locked folder, and the only access to its files."""

from __future__ import annotations

import errno
import hashlib
import os
import re
import shutil
import stat
import time
from array import array
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from enum import StrEnum
from itertools import pairwise
from pathlib import Path, PurePosixPath, PureWindowsPath
from typing import BinaryIO

from willow_cart.destination.names import fold, is_safe_path
from willow_cart.destination.tree import FileTree, Stamp
from willow_cart.errors import TOO_MANY_FILES, CannotStore, UnusableDestination, plainly
from willow_cart.model import OWN_FOLDER
from willow_cart.platform import disks, files
from willow_cart.platform.own_folders import LinkFound
from willow_cart.structs import Value
from willow_cart.units import format_size

# What is left free for the ledger when a file would fill the disk, unless that is very small.
_RESERVED_BYTES = 16 << 20

# Files up to this size are begun without looking; the disk says when it is full.
_SMALL_BYTES = 1 << 20

LARGEST_ON_FAT = (4 << 30) - 1
"""The bytes of the largest file on a FAT disk, whose sizes have 32 bits."""


def room_at(folder: str | Path) -> int:
    """Return the free bytes for a folder, existing or not, without a reserve.

    Raises:
        OSError: it cannot be determined.
    """
    return room_in(_existing(folder))


def room_in(folder: Path | int) -> int:
    """Return the free bytes in an existing folder, without a reserve.

    Args:
        folder: its path, or the descriptor of an open file in it.

    Raises:
        OSError: it is not.
    """
    free, whole = disks.space_in(folder)
    return max(0, free - min(_RESERVED_BYTES, whole // 8))


def takes(length: int, folder: Path) -> bool:
    """Whether the disk of a folder, existing or not, takes files of a length in bytes."""
    return length <= LARGEST_ON_FAT or not disks.is_fat(_existing(folder))


class DiskRoom:
    """The room on the disk of a destination.

    Args:
        folder: the destination.
        descriptor: of an open file in it.
    """

    def __init__(self, folder: Path, descriptor: int) -> None:
        self._folder = folder
        self._descriptor = descriptor

    def free(self) -> int:
        """Return the free bytes, except for a reserve for the ledger.

        Raises:
            OSError: it cannot be determined.
        """
        return room_in(self._descriptor)

    def require(self, path: str, length: int, have: int) -> None:
        """Refuse a file that there is no room for, so that smaller ones still fit.

        Args:
            length: its bytes.
            have: how many of them are here.

        Raises:
            CannotStore: there is not enough room, or the disk takes no file of that length.
        """
        to_come = length - have
        if to_come <= _SMALL_BYTES:
            return
        if not takes(length, self._folder):
            raise CannotStore(
                path,
                f"{format_size(length)}, but this disk takes files of at most"
                f" {format_size(LARGEST_ON_FAT)} (FAT)",
                "haul it to a folder on another disk",
            )
        if to_come > (room := self.free()):
            raise CannotStore(
                path,
                f"{format_size(to_come)} needed, but only {format_size(room)} free",
                "free some space and run the same command to resume",
            )


def is_case_sensitive(folder: Path) -> bool:
    """Whether names that differ only in case are distinct in a folder.

    Asked of the nearest folder that exists and has a letter in its name: nothing is written.
    """
    for there in (folder / OWN_FOLDER, *(folder.resolve() / "x").parents):
        other = there.name.swapcase()
        if other == there.name or not there.exists():
            continue
        if not there.with_name(other).exists():
            return True
        # Both are there. That they have one number says nothing: some disks make numbers up.
        try:
            return other in os.listdir(there.parent)
        except OSError:
            return True
    return True


def _existing(folder: str | Path) -> Path:
    """Return a folder, or the nearest one above it that exists."""
    place = Path(folder).absolute()
    while not place.exists() and place != place.parent:
        place = place.parent
    return place


PARTIAL = f"{OWN_FOLDER}/partial"
"""The folder of partial files."""

_ASIDE = f"{OWN_FOLDER}/aside"
_REFUSED = f"{OWN_FOLDER}/refused"
_LOCK = f"{OWN_FOLDER}/lock"

# As many versions of a file that failed its check are kept.
_MAX_REFUSED = 5

# From this many files on, syncing the whole file system is cheaper than syncing each.
_FILES_WORTH_A_FULL_SYNC = 8

# A file is copied in pieces of this size.
_COPIED_BYTES = 1 << 20

# How long a lock is waited for.
_LOCK_WAIT_SECONDS = 1.0


def is_in_use(root: Path) -> bool:
    """Whether a haul into a folder is running, of any user."""
    return files.is_locked(root / _LOCK)


class Destination(FileTree):
    """A folder that one haul at a time writes into.

    What is in it may be the user's own, or put there to do harm. A file gets its name only
    where nothing is, or in place of a file that the caller knows by its stamp; anything else is
    moved aside, and its new path is returned.

    Args:
        root: the folder; made if it is not there.
        alone: whether to keep other hauls out; not in a process that helps with one.

    Attributes:
        room: on its disk.

    Raises:
        UnusableDestination: it is not a folder, cannot be written, or another haul is writing it.
    """

    def __init__(self, root: Path, *, alone: bool = True) -> None:
        _require_ordinary(root)
        self._lock = -1
        try:
            root.mkdir(parents=True, exist_ok=True)
            super().__init__(root)
        except (FileExistsError, NotADirectoryError) as error:
            place = Path(error.filename)
            there = next((each for each in (place, *place.parents) if each.is_file()), place)
            raise UnusableDestination(
                str(there), "is a file", "name a folder with --into"
            ) from None
        except OSError as error:
            raise UnusableDestination(
                str(root), f"cannot be written: {plainly(error)}", "name another with --into"
            ) from None
        try:
            self._open_own_folder()
            self.room = DiskRoom(root, self._lock)
            if alone:
                self._lock_or_leave()
        except UnusableDestination:
            self.close()
            raise

    def _open_own_folder(self) -> None:
        """Create the folder `.willow` and open the lock in it.

        Raises:
            UnusableDestination: it is not what a haul has made, or cannot be made.
        """
        try:
            self._unsynced.update(("", OWN_FOLDER, PARTIAL))
            self.keep_open(PARTIAL)
            files.hide(self.full_path(OWN_FOLDER))
            self._lock = self._open_lock()
        except LinkFound as error:
            raise UnusableDestination(
                str(self.root / error.filename), "is a link", "delete it; a haul creates a new one"
            ) from None
        except (FileExistsError, NotADirectoryError):
            own = str(self.full_path(OWN_FOLDER))
            raise UnusableDestination(
                own, "is a file", "move it; a haul creates a folder"
            ) from None
        except OSError as error:
            raise UnusableDestination(
                str(self.root), f"cannot be written: {plainly(error)}", "name another with --into"
            ) from None

    def close(self) -> None:
        """Close all descriptors; the lock is released with its descriptor, even after a kill."""
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1
        super().close()

    def _open_lock(self) -> int:
        """Open the lock file; replace it if it is not a regular file with one name."""
        flags = os.O_RDWR | os.O_CREAT
        try:
            return self.open_for(_LOCK, flags)
        except LinkFound:
            raise
        except OSError as error:
            if error.errno != errno.EINVAL:
                raise
        self.delete(_LOCK)
        return self.open_for(_LOCK, flags)

    def _lock_or_leave(self) -> None:
        # A haul that was killed holds it until its process has ended.
        deadline = time.monotonic() + _LOCK_WAIT_SECONDS
        while True:
            try:
                files.lock(self._lock)
                break
            except BlockingIOError:
                if time.monotonic() < deadline:
                    time.sleep(_LOCK_WAIT_SECONDS / 20)
                    continue
                holder = _read_holder(self._lock)
                raise UnusableDestination(
                    str(self.root),
                    f"is in use by another haul ({holder})",
                    "wait until it ends, or use willow-cart runs --watch",
                ) from None
            except OSError as error:
                raise UnusableDestination(
                    str(self.root),
                    f"cannot be locked: {plainly(error)}",
                    "name a folder on a local disk",
                ) from None
        os.truncate(self._lock, 0)
        since = datetime.now(UTC).isoformat(timespec="seconds")
        os.write(self._lock, f"{os.getpid()}, since {since}\n".encode())

    # Files under their names

    def place(self, file: str, path: str, *, replaces: Stamp | None = None) -> Path | None:
        """Give a complete, checked and synced file its name, atomically.

        Args:
            file: its current path.
            path: its name.
            replaces: the stamp of the file that it may take the place of; None for none.

        Returns:
            Where something else that was at the path is kept; None if nothing did.

        Raises:
            CannotStore: it cannot be stored there.
        """
        kept = None
        try:
            while True:
                is_ours = replaces is not None and self.stamp(path) == replaces
                try:
                    self.move(file, path, replaces=is_ours)
                    return kept
                except FileExistsError:
                    if self.status(path) is not None:
                        kept = self._put_aside(path)
        except OSError as error:
            raise cannot_store(path, error) from None

    def place_if_free(self, file: str, path: str) -> bool:
        """Give a file its name as `place` does if nothing is there; return whether it has it.

        Raises:
            CannotStore: it cannot be stored there.
        """
        try:
            self.move(file, path, replaces=False)
        except FileExistsError:
            return False
        except OSError as error:
            raise cannot_store(path, error) from None
        return True

    def place_twin(self, file: str, path: str, twin: str, *, replaces: Stamp | None) -> bool:
        """Give a file in the destination another name, in place of a copy with the same content.

        Args:
            file: the other one; deleted.
            path: the further name.
            twin: its path.
            replaces: as for `place`.

        Returns:
            False if there can be no further name on this disk; nothing has been done then.

        Raises:
            CannotStore: it cannot be stored there.
        """
        link = f"{file}.twin"
        try:
            self.link(twin, link)
        except OSError:
            return False
        self.place(link, path, replaces=replaces)
        for left in (link, file):  # two names of one file do not replace each other (POSIX, rename)
            with suppress(FileNotFoundError):
                self.delete(left)
        return True

    def link_or_copy_within(self, path: str, to: str) -> None:
        """Create a file with the content and the time stamp of another one, synced.

        Args:
            path: of the other file.
            to: where it is created; what a crash has left there is replaced.

        Raises:
            OSError: it cannot be read, or written.
        """
        with suppress(FileNotFoundError):
            self.delete(to)
        try:
            self.link(path, to)
        except OSError:
            stamp = self.stamp(path)
            with self.open(path) as source, self.create(to) as copy:
                shutil.copyfileobj(source, copy, _COPIED_BYTES)
                files.sync(copy.fileno())
            if stamp is not None:
                self.set_modified(to, stamp.mtime_ns)

    def take_away(self, path: str, file: str) -> None:
        """Move a file to a free path in `.willow`.

        Raises:
            CannotStore: it cannot be moved.
        """
        try:
            self.move(path, file, replaces=False)
        except OSError as error:
            raise cannot_store(path, error) from None

    def refuse(self, file: str, path: str, sha256: str) -> Path:
        """Move a file that failed its check to where it can be inspected; return its path.

        Of the same content one is kept, and of others a few: the oldest is replaced.

        Args:
            file: its current path.
            path: what it was to be called.
            sha256: of its content, hexadecimal.

        Raises:
            CannotStore: it cannot be moved.
        """
        names = [f"{_REFUSED}/{path}{f'.{n}' if n > 1 else ''}" for n in range(1, _MAX_REFUSED + 1)]
        try:
            size = self.stamp(file)
            for name in names:
                there = self.stamp(name)
                if there is not None and size is not None and there.size == size.size:
                    with self.open(name) as kept:
                        same = hashlib.file_digest(kept, "sha256").hexdigest() == sha256  # type: ignore[arg-type]
                    if same:
                        self.delete(file)
                        return self.full_path(name)
            oldest = min(names, key=self._age_of)
            self.move(file, oldest, replaces=True)
            return self.full_path(oldest)
        except OSError as error:
            raise cannot_store(path, error) from None

    def _age_of(self, path: str) -> int:
        """Return when a file was put at a path, in nanoseconds; 0 for a free path."""
        status = self.status(path)
        return 0 if status is None else status.st_ctime_ns

    def move_aside(self, path: str) -> Path | None:
        """Move the file at a path aside; return its new path, or None if there was none.

        Raises:
            CannotStore: it cannot be moved, or is a folder.
        """
        status = self.status(path)
        if status is None or stat.S_ISDIR(status.st_mode):
            return None
        try:
            return self._put_aside(path)
        except OSError as error:
            raise cannot_store(path, error) from None

    def _put_aside(self, path: str) -> Path:
        status = self.status(path)
        if status is not None and stat.S_ISDIR(status.st_mode):
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), path)
        moment = datetime.now(UTC).strftime("%Y%m%dT%H%M%S")
        return self._put_away(path, f"{_ASIDE}/{moment}/{path}")

    def _put_away(self, file: str, to: str) -> Path:
        """Move a file to a free name, numbered if necessary; never replaces a file."""
        number = 1
        while True:
            kept = to if number == 1 else f"{to}.{number}"
            try:
                self.move(file, kept, replaces=False)
            except FileExistsError:
                number += 1
            else:
                return self.full_path(kept)

    def drop_empty_folders(self, paths: Iterable[str]) -> None:
        """Delete the folders of paths if they are empty."""
        folders = {str(folder) for path in paths for folder in PurePosixPath(path).parents}
        for folder in sorted(folders - {"."}, reverse=True):
            with suppress(OSError):  # it is not empty, or is gone
                self.delete_folder(folder)

    def replace_by_copy(self, path: str) -> None:
        """Put a copy in a file's place: who still has it open writes to nothing that counts.

        Raises:
            OSError: the file does not exist, or the disk is full.
        """
        copy = f"{path}.copy"
        with suppress(FileNotFoundError):
            self.delete(copy)  # a crash has left it
        with self.open(path) as source, self.create(copy) as out:
            shutil.copyfileobj(source, out, _COPIED_BYTES)
        self.move(copy, path, replaces=True)

    # Its disk

    def sync_files(self, paths: Sequence[str]) -> None:
        """Sync the content of files to the disk.

        Many are synced with their whole file system at once, which costs little more than one.

        Raises:
            OSError: the disk refuses them.
        """
        if len(paths) >= _FILES_WORTH_A_FULL_SYNC and disks.sync_file_system(self._lock):
            return
        for path in paths:
            self.sync(path)

    # Partial files, each by a bare name

    def open_partial(self, name: str, *, is_new: bool) -> int:
        """Open a partial file for reading and writing; return its descriptor.

        Raises:
            OSError: it cannot be opened, or is not a regular file of its own.
        """
        return self.open_for(
            f"{PARTIAL}/{name}", os.O_RDWR | os.O_CREAT | (os.O_TRUNC if is_new else 0)
        )

    def write_partial(self, name: str, content: bytes) -> None:
        """Write a partial file in one go, in place of what a crash has left.

        Raises:
            OSError: it cannot be written; nothing is left of it.
        """
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL
        try:
            with self._folders.place(f"{PARTIAL}/{name}") as place:
                file = place.open(flags)  # nothing that is new has to be looked at
        except OSError:
            file = self.open_partial(name, is_new=True)
        try:
            if files.write_at(file, content, 0) < len(content):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), name)
        except OSError:
            with suppress(OSError):
                self.delete(f"{PARTIAL}/{name}")
            raise
        finally:
            os.close(file)

    def read_partial(self, name: str) -> BinaryIO:
        """Open a partial file for reading.

        Raises:
            OSError: it is not there, or is not a regular file.
        """
        return self.open(f"{PARTIAL}/{name}")


# A drive with a letter, or a share on another machine.
_WINDOWS_PATH = re.compile(r"[A-Za-z]:[\\/]|\\\\")


def _require_ordinary(root: Path) -> None:
    """Refuse `.willow` and folders in it as a destination.

    Raises:
        UnusableDestination: it is that.
    """
    if OWN_FOLDER in map(fold, Path(os.path.realpath(root)).parts):
        raise UnusableDestination(
            str(root),
            f"lies in {OWN_FOLDER}, which is reserved for Willow Cart",
            "name another with --into",
        )
    if not isinstance(root, PureWindowsPath) and _WINDOWS_PATH.match(str(root)):
        raise UnusableDestination(
            str(root), "is a Windows path, and this is not Windows", "name a folder of this system"
        )
    try:
        os.fsencode(root).decode("utf-8")
    except UnicodeDecodeError:
        raise UnusableDestination(
            os.fsencode(root).decode("utf-8", "backslashreplace"),
            "is not UTF-8",
            "name another with --into, or rename it",
        ) from None


def _read_holder(lock: int) -> str:
    """Return what the lock file says about its holder; untrusted text."""
    process, _, _ = os.read(lock, 64).decode("ascii", "replace").partition(",")
    return f"process {process}" if process.isdecimal() else "an unknown process"


def cannot_store(path: str, error: OSError) -> CannotStore:
    """Return the error for a file that could not be stored."""
    match error.errno:
        case errno.ELOOP:
            link = error.filename if isinstance(error, LinkFound) else path
            return CannotStore(path, f"{link} is a link; links are not followed", "delete the link")
        case errno.ENOSPC | errno.EDQUOT:
            return CannotStore(
                path,
                "the disk is full",
                "free some space and run the same command to resume",
            )
        case number if number in TOO_MANY_FILES:
            return CannotStore(
                path, "too many open files", "raise the limit (ulimit -n), or use fewer --lanes"
            )
        case errno.ENOTDIR | errno.EEXIST:
            return CannotStore(path, "a file exists in place of its folder", "move that file")
        case errno.EISDIR | errno.ENOTEMPTY:
            return CannotStore(path, "a folder exists in its place", "rename that folder")
        case errno.ENAMETOOLONG:
            return CannotStore(path, "its path is too long for this disk", "try --layout flat")
        case _:
            return CannotStore(
                path,
                f"cannot be written: {plainly(error)}",
                "check the folder and run the same command to resume",
            )


# MAX_PATH is 260 with the drive, the folder that it is put into and a null; that leaves 19.
_MAX_PATH_CHARACTERS = 240


class Obstacle(StrEnum):
    """Why a path does not work everywhere."""

    CASE = "case"
    """Another path differs in case, or in how accents are composed, alone (Windows, macOS)."""
    NAME = "name"
    """A name in it is reserved, or has a character or an end that is not taken (Windows)."""
    LENGTH = "length"
    """It is too long (Windows)."""


class Unportable(Value):
    """A path that does not work on every system.

    Attributes:
        path: with `/` between its parts.
        obstacle: why.
        other: for `Obstacle.CASE`, the path that it clashes with.
    """

    path: str
    obstacle: Obstacle
    other: str = ""


def unportable(paths: Iterable[str]) -> Iterator[Unportable]:
    """Yield the paths that do not work everywhere, each with the first reason.

    Args:
        paths: of the files of one folder; gone through twice.
    """
    # Paths are compared by hashes first: a million are never in memory.
    in_order = sorted(array("q", (hash(fold(path)) for path in paths)))
    shared = {one for one, other in pairwise(in_order) if one == other}
    seen: dict[str, str] = {}
    for path in paths:
        folded = fold(path)
        other = seen.setdefault(folded, path) if hash(folded) in shared else path
        if other != path:
            yield Unportable(path, Obstacle.CASE, other)
        elif not is_safe_path(path):
            yield Unportable(path, Obstacle.NAME)
        elif len(path) > _MAX_PATH_CHARACTERS:
            yield Unportable(path, Obstacle.LENGTH)
