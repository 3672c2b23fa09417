"""Access the files below one folder without following links.

Whatever a folder holds may have been put there by someone else: a link may stand where a folder or
a file is expected, and may be put there while a haul is running. So no path is resolved by the
system in one go. Every part of it is opened from the folder before it, as a directory descriptor,
and a link on the way is an error (POSIX.1-2017, openat, O_NOFOLLOW). Where a system has no
directory descriptors every step is checked before the path is used.
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Self

from willow_cart.destination.disk import move_to_new_name

HAS_DESCRIPTORS = os.open in os.supports_dir_fd and hasattr(os, "O_NOFOLLOW")
"""Whether this system opens files from directory descriptors."""

_CLOEXEC = getattr(os, "O_CLOEXEC", 0)
_NO_FOLLOW = getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0) | _CLOEXEC
_FOLDER = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0) | _CLOEXEC
_BINARY = getattr(os, "O_BINARY", 0)


class LinkFound(OSError):
    """A link in place of a folder or file; `filename` is its path."""

    def __init__(self, path: str) -> None:
        super().__init__(errno.ELOOP, "is a link", path)


@dataclass(frozen=True, slots=True)
class Stamp:
    """The size in bytes and modification time in nanoseconds that identify a version of a file."""

    size: int
    mtime_ns: int

    @classmethod
    def of(cls, status: os.stat_result) -> Stamp:
        """Return the stamp of a file status."""
        return cls(status.st_size, status.st_mtime_ns)


class _Place:
    """A name in an open folder, which is closed at the end unless it is kept open.

    Attributes:
        folder: a directory descriptor; None where `name` is a full path.
        name: in that folder.
    """

    __slots__ = ("_closes", "folder", "name")

    def __init__(self, folder: int | None, name: str, *, closes: bool) -> None:
        self.folder = folder
        self.name = name
        self._closes = closes

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        if self._closes and self.folder is not None:
            os.close(self.folder)


class FileTree:
    """The files below a folder; paths are relative to it, with `/` as separator.

    Safe for several threads.

    Args:
        root: the folder, which may be given by way of a link.
        by_descriptor: whether files are reached from directory descriptors.

    Raises:
        OSError: it is not there, or is not a folder.
    """

    def __init__(self, root: Path, *, by_descriptor: bool = HAS_DESCRIPTORS) -> None:
        self.root = root
        self._by_descriptor = by_descriptor
        # Folders in which names were given or taken that a power cut can still undo.
        self._unsynced: set[str] = set()
        self._kept: dict[str, int] = {}
        self._deleted: list[int] = []
        self._root = -1
        if by_descriptor:
            self._root = os.open(root, _FOLDER)
        elif not root.is_dir():
            raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), str(root))

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Close the open folders."""
        for folder in (*self._kept.values(), *self._deleted):
            os.close(folder)
        self._kept.clear()
        self._deleted.clear()
        if self._root >= 0:
            os.close(self._root)
            self._root = -1

    def full_path(self, path: str) -> Path:
        """Return the full path, to be shown or passed to another program."""
        return self.root / path

    def keep_open(self, folder: str) -> None:
        """Create a folder and keep it open, because many files are created in it.

        Raises:
            OSError: it cannot be made, or a link leads to it.
        """
        with self._place(f"{folder}/x", makes=True) as place:
            if place.folder is not None:
                self._kept[folder] = os.dup(place.folder)

    def _renew(self, folder: str) -> bool:
        """Create a folder again that is kept open and was deleted; return False for any other."""
        if (deleted := self._kept.pop(folder, None)) is None:
            return False
        self._deleted.append(deleted)  # another thread may be using it
        self.keep_open(folder)
        return True

    # Looking

    def status(self, path: str) -> os.stat_result | None:
        """Return the status of a path without following links; None if it does not exist."""
        try:
            with self._place(path) as place:
                return os.stat(place.name, dir_fd=place.folder, follow_symlinks=False)
        except OSError:
            return None

    def stamp(self, path: str) -> Stamp | None:
        """Return the stamp of a regular file, or None."""
        status = self.status(path)
        if status is None or not stat.S_ISREG(status.st_mode):
            return None
        return Stamp.of(status)

    def open(self, path: str) -> BinaryIO:
        """Open a regular file for reading.

        Raises:
            LinkFound: it is a link, or a link leads to it.
            OSError: it cannot be opened, or is not a regular file.
        """
        return os.fdopen(self.open_for(path, os.O_RDONLY), "rb")

    def open_for(self, path: str, flags: int) -> int:
        """Open a regular file; return its descriptor.

        Args:
            path: of the file.
            flags: as open(2) takes them. A file that is opened to be written must not have
                further names: what is written would appear under those too.

        Raises:
            LinkFound, OSError: as for `open`.
        """
        try:
            file = self._open(path, flags)
        except FileNotFoundError:
            if not (flags & os.O_CREAT and self._renew(_folder_of(path))):
                raise
            file = self._open(path, flags)
        status = os.fstat(file)
        writes = flags & (os.O_WRONLY | os.O_RDWR)
        if not stat.S_ISREG(status.st_mode) or (writes and status.st_nlink > 1):
            os.close(file)
            raise OSError(errno.EINVAL, "not a regular file of its own", path)
        return file

    def _open(self, path: str, flags: int) -> int:
        with self._place(path) as place:
            if place.folder is None and os.path.islink(place.name):
                raise LinkFound(path)
            try:
                return os.open(place.name, flags | _NO_FOLLOW | _BINARY, 0o666, dir_fd=place.folder)
            except OSError as error:
                if error.errno == errno.ELOOP:
                    raise LinkFound(path) from None
                error.filename = str(self.full_path(path))
                raise

    def names(self, folder: str) -> list[str]:
        """Return the names in a folder.

        Raises:
            OSError: it cannot be read, or a link leads to it.
        """
        with self._place(f"{folder}/x") as place:
            return os.listdir(os.path.dirname(place.name) if place.folder is None else place.folder)

    def files(self, *, without: str = "") -> Iterator[tuple[str, os.stat_result]]:
        """Yield everything except folders, in the order of the paths; links are not followed.

        Args:
            without: the path of a folder to leave out.

        Raises:
            OSError: a folder cannot be read.
        """
        pending = [""]
        while pending:
            folder = pending.pop()
            found = self._entries(folder)
            below = [name for name, status in found if stat.S_ISDIR(status.st_mode)]
            prefix = f"{folder}/" if folder else ""
            for name, status in found:
                if not stat.S_ISDIR(status.st_mode):
                    yield f"{prefix}{name}", status
            paths = (f"{prefix}{name}" for name in reversed(below))
            pending += [path for path in paths if path != without]

    def _entries(self, folder: str) -> list[tuple[str, os.stat_result]]:
        with self._place(f"{folder}/x" if folder else "x") as place:
            there = os.path.dirname(place.name) if place.folder is None else place.folder
            found = []
            with os.scandir(there) as entries:
                for entry in entries:
                    with suppress(FileNotFoundError):  # it went away meanwhile
                        found.append((entry.name, entry.stat(follow_symlinks=False)))
        return sorted(found, key=lambda each: each[0])

    # Changing

    def create(self, path: str) -> BinaryIO:
        """Create a new file, and open it unbuffered for writing.

        Raises:
            OSError: something is there, or it cannot be made.
        """
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL
        return os.fdopen(self.open_for(path, flags), "wb", buffering=0)

    def make_folder(self, path: str) -> None:
        """Create a folder and its parents if they do not exist.

        Raises:
            OSError: it cannot be made, or a link leads to it.
        """
        with self._place(f"{path}/x", makes=True):
            pass

    def move(self, path: str, to: str, *, replaces: bool) -> None:
        """Rename a file atomically; parent folders are created.

        Args:
            path: where it lies.
            to: where it will lie.
            replaces: whether a file there is replaced.

        Raises:
            FileExistsError: the path exists, and is not to be replaced.
            OSError: it cannot be moved.
        """
        with self._place(path) as old, self._place(to, makes=True) as new:
            if replaces:
                os.replace(old.name, new.name, src_dir_fd=old.folder, dst_dir_fd=new.folder)
            else:
                move_to_new_name(old.name, new.name, old.folder, new.folder)
        self._unsynced.update((_folder_of(path), _folder_of(to)))

    def link(self, path: str, to: str) -> None:
        """Create a hard link to a file.

        Raises:
            OSError: it cannot have one, or the path exists.
        """
        with self._place(path) as old, self._place(to, makes=True) as new:
            os.link(old.name, new.name, src_dir_fd=old.folder, dst_dir_fd=new.folder)
        self._unsynced.add(_folder_of(to))

    def link_or_copy(self, path: str, to: Path) -> None:
        """Create a hard link outside the folder, or a copy if that is impossible.

        Raises:
            LinkFound, OSError: it cannot be opened, or cannot lie there.
        """
        with self.open(path) as file:
            with suppress(OSError), self._place(path) as place:
                os.link(place.name, to, src_dir_fd=place.folder)
                return
            with open(to, "xb") as copy:
                shutil.copyfileobj(file, copy)

    def delete(self, path: str) -> None:
        """Delete a file or a link.

        Raises:
            OSError: it is not there, or cannot be deleted.
        """
        with self._place(path) as place:
            os.unlink(place.name, dir_fd=place.folder)
        self._unsynced.add(_folder_of(path))

    def delete_folder(self, path: str) -> None:
        """Delete an empty folder.

        Raises:
            OSError: it is not empty, is not there, or is a link.
        """
        with self._place(path) as place:
            os.rmdir(place.name, dir_fd=place.folder)
        self._unsynced.discard(path)
        self._unsynced.add(_folder_of(path))

    def empty_folder(self, path: str) -> None:
        """Create an empty folder at a path, deleting what is in it.

        Raises:
            OSError: it cannot be made or emptied, or a link leads to it.
        """
        with self._place(path, makes=True) as place:
            if place.folder is None:
                shutil.rmtree(place.name, ignore_errors=True)
            else:
                shutil.rmtree(place.name, ignore_errors=True, dir_fd=place.folder)
            os.mkdir(place.name, dir_fd=place.folder)

    def set_modified(self, path: str, nanoseconds: int) -> int:
        """Set the modification time; return the time as stored, in nanoseconds.

        Raises:
            OSError, OverflowError: the disk cannot write that time.
        """
        times = (nanoseconds, nanoseconds)
        with self._place(path) as place:
            follows = place.folder is None
            os.utime(place.name, ns=times, dir_fd=place.folder, follow_symlinks=follows)
            status = os.stat(place.name, dir_fd=place.folder, follow_symlinks=False)
        return status.st_mtime_ns

    # Making it last

    def sync(self, path: str) -> None:
        """Sync the content of a file to the disk.

        Raises:
            OSError: it is not there, or the disk would not take them.
        """
        file = self.open_for(path, os.O_RDONLY)
        try:
            os.fsync(file)
        finally:
            os.close(file)

    def sync_folders(self) -> None:
        """Sync the folders in which names were created or removed.

        Raises:
            OSError: the disk would not take them.
        """
        while self._unsynced:
            folder = self._unsynced.pop()
            if not self._by_descriptor:
                continue  # such systems write names through
            # A folder that was deleted or swapped for a link meanwhile has no names to keep.
            with (
                suppress(FileNotFoundError, NotADirectoryError, LinkFound),
                self._place(f"{folder}/x".lstrip("/")) as place,
            ):
                assert place.folder is not None, "it is reached by descriptor"
                os.fsync(place.folder)

    # Getting there

    def _place(self, path: str, *, makes: bool = False) -> _Place:
        """Open the folder that contains a path.

        Args:
            path: with `/` between its parts.
            makes: whether folders that are not there are made.

        Raises:
            LinkFound: a link stands on the way.
            OSError: a folder on the way is not there, is not a folder, or cannot be made.
        """
        folder, slash, name = path.rpartition("/")
        if _leads_astray(name) or (slash and not folder):
            raise OSError(errno.EINVAL, "not a path below the folder", path)
        if (kept := self._kept.get(folder)) is not None:
            return _Place(kept, name, closes=False)
        if not self._by_descriptor:
            return self._place_by_path(folder, name, makes=makes)
        at = self._root
        try:
            for number, part in enumerate(folder.split("/") if folder else ()):
                above = at
                at = self._step(at, part, folder, number, makes=makes)
                if above != self._root:
                    os.close(above)
        except BaseException:
            if at != self._root:
                os.close(at)
            raise
        return _Place(at, name, closes=at != self._root)

    def _step(self, at: int, part: str, folder: str, number: int, *, makes: bool) -> int:
        """Open a folder inside the open folder."""
        if _leads_astray(part):
            raise OSError(errno.EINVAL, "not a path below the folder", folder)
        try:
            return os.open(part, _FOLDER | _NO_FOLLOW, dir_fd=at)
        except FileNotFoundError:
            if not makes:
                raise
        except OSError as error:
            if error.errno in (errno.ELOOP, errno.ENOTDIR):
                status = os.stat(part, dir_fd=at, follow_symlinks=False)
                if stat.S_ISLNK(status.st_mode):
                    raise LinkFound("/".join(folder.split("/")[: number + 1])) from None
            raise
        with suppress(FileExistsError):  # another thread was faster
            os.mkdir(part, dir_fd=at)
        self._unsynced.add("/".join(folder.split("/")[:number]))
        return os.open(part, _FOLDER | _NO_FOLLOW, dir_fd=at)

    def _place_by_path(self, folder: str, name: str, *, makes: bool) -> _Place:
        """Check each step of a path by name, where descriptors are unavailable."""
        at = self.root
        for part in folder.split("/") if folder else ():
            if _leads_astray(part):
                raise OSError(errno.EINVAL, "not a path below the folder", folder)
            at /= part
            if makes:
                with suppress(FileExistsError):
                    at.mkdir()
            status = at.lstat()
            if stat.S_ISLNK(status.st_mode):
                raise LinkFound(at.relative_to(self.root).as_posix())
            if not stat.S_ISDIR(status.st_mode):
                raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), str(at))
        return _Place(None, str(at / name), closes=False)


def _leads_astray(part: str) -> bool:
    return part in ("", ".", "..") or "\0" in part


def _folder_of(path: str) -> str:
    return path.rpartition("/")[0]
