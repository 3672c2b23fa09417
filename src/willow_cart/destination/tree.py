"""Access the files below one folder without following links.

The content of a folder may be hostile: a link may be where a folder or
a file is expected, and may be put there while a haul is running. So no path is resolved by the
system in one go; how its steps are taken is the platform's (`willow_cart.platform.containment`).
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
from collections.abc import Iterator
from contextlib import AbstractContextManager, suppress
from pathlib import Path
from typing import BinaryIO, Self

from willow_cart.platform import containment, files
from willow_cart.platform.own_folders import LinkFound
from willow_cart.structs import Value


class Stamp(Value):
    """The size in bytes and modification time in nanoseconds that identify a version of a file."""

    size: int
    mtime_ns: int

    @classmethod
    def of(cls, status: os.stat_result) -> Stamp:
        """Return the stamp of a file status."""
        return cls(status.st_size, status.st_mtime_ns)


class FileTree:
    """The files below a folder; paths are relative to it, with `/` as separator.

    Safe for several threads.

    Args:
        root: the folder, which may be given by way of a link.

    Raises:
        OSError: it is not there, or is not a folder.
    """

    def __init__(self, root: Path) -> None:
        self.root = root
        self._folders = containment.Folders(root)
        # Folders in which names were given or taken that a power cut can still undo.
        self._unsynced = self._folders.made

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Close the open folders."""
        self._folders.close()

    def full_path(self, path: str) -> Path:
        """Return the full path, to be shown or passed to another program."""
        return self.root / path

    def keep_open(self, folder: str) -> None:
        """Create a folder and keep it open, because many files are created in it.

        Raises:
            OSError: it cannot be made, or a link leads to it.
        """
        self._folders.keep_open(folder)

    def holding_folders(self) -> AbstractContextManager[None]:
        """Keep open the folders that this thread uses, for a batch of files."""
        return self._folders.held_open()

    # Looking

    def status(self, path: str) -> os.stat_result | None:
        """Return the status of a path without following links; None if it does not exist."""
        try:
            with self._folders.place(path) as place:
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
            flags: as open(2) takes them. A file that is opened to be written must not have
                further names: what is written would appear under those too.

        Raises:
            LinkFound, OSError: as for `open`.
        """
        try:
            file = self._open(path, flags)
        except FileNotFoundError:
            if not (flags & os.O_CREAT and self._folders.renew(_folder_of(path))):
                raise
            file = self._open(path, flags)
        status = os.fstat(file)
        writes = flags & (os.O_WRONLY | os.O_RDWR)
        if not stat.S_ISREG(status.st_mode) or (writes and status.st_nlink > 1):
            os.close(file)
            raise OSError(errno.EINVAL, "not a regular file of its own", path)
        return file

    def _open(self, path: str, flags: int) -> int:
        with self._folders.place(path) as place:
            try:
                return place.open(flags)
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
        with self._folders.place(f"{folder}/x") as place:
            return [files.name_of(name) for name in os.listdir(place.around)]

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
        with self._folders.place(f"{folder}/x" if folder else "x") as place:
            found = []
            with os.scandir(place.around) as entries:
                for entry in entries:
                    with suppress(FileNotFoundError):  # it went away meanwhile
                        found.append((files.name_of(entry.name), entry.stat(follow_symlinks=False)))
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
        with self._folders.place(f"{path}/x", makes=True):
            pass

    def move(self, path: str, to: str, *, replaces: bool) -> None:
        """Rename a file atomically; parent folders are created.

        Args:
            path: its path.
            to: its new path.
            replaces: whether a file there is replaced.

        Raises:
            FileExistsError: the path exists, and is not to be replaced.
            OSError: it cannot be moved.
        """
        try:
            self._move(path, to, replaces=replaces)
        except FileNotFoundError:
            if not self._folders.let_go():  # the folder may have been deleted meanwhile
                raise
            self._move(path, to, replaces=replaces)
        self._unsynced.update((_folder_of(path), _folder_of(to)))

    def _move(self, path: str, to: str, *, replaces: bool) -> None:
        with self._folders.place(path) as old, self._folders.place(to, makes=True) as new:
            if replaces:
                files.replace(old.name, new.name, old.folder, new.folder)
            else:
                files.move_to_new_name(old.name, new.name, old.folder, new.folder)

    def link(self, path: str, to: str) -> None:
        """Create a hard link to a file.

        Raises:
            OSError: it cannot have one, or the path exists.
        """
        with self._folders.place(path) as old, self._folders.place(to, makes=True) as new:
            os.link(old.name, new.name, src_dir_fd=old.folder, dst_dir_fd=new.folder)
        self._unsynced.add(_folder_of(to))

    def link_or_copy(self, path: str, to: Path) -> None:
        """Create a hard link outside the folder, or a copy if that is impossible.

        Raises:
            LinkFound, OSError: it cannot be opened, or cannot be stored there.
        """
        with self.open(path) as file:
            with suppress(OSError), self._folders.place(path) as place:
                os.link(place.name, to, src_dir_fd=place.folder)
                return
            with open(to, "xb") as copy:
                shutil.copyfileobj(file, copy)

    def delete(self, path: str) -> None:
        """Delete a file or a link.

        Raises:
            OSError: it is not there, or cannot be deleted.
        """
        with self._folders.place(path) as place:
            os.unlink(place.name, dir_fd=place.folder)
        self._unsynced.add(_folder_of(path))

    def delete_folder(self, path: str) -> None:
        """Delete an empty folder.

        Raises:
            OSError: it is not empty, is not there, or is a link.
        """
        with self._folders.place(path) as place:
            os.rmdir(place.name, dir_fd=place.folder)
        self._unsynced.discard(path)
        self._unsynced.add(_folder_of(path))

    def empty_folder(self, path: str) -> None:
        """Create an empty folder at a path, deleting its content.

        Raises:
            OSError: it cannot be made or emptied, or a link leads to it.
        """
        with self._folders.place(path, makes=True) as place:
            place.delete_tree()
            os.mkdir(place.name, dir_fd=place.folder)

    def set_modified(self, path: str, nanoseconds: int) -> int:
        """Set the modification time; return the time as stored, in nanoseconds.

        Raises:
            OSError, OverflowError: the disk cannot write that time.
        """
        with self._folders.place(path) as place:
            files.set_modified(place.name, nanoseconds, place.folder)
            status = os.stat(place.name, dir_fd=place.folder, follow_symlinks=False)
        return status.st_mtime_ns

    # Making it last

    def sync(self, path: str) -> None:
        """Sync the content of a file to the disk.

        Raises:
            OSError: it is not there, or the disk refuses them.
        """
        file = self._open(path, files.OPEN_TO_SYNC)
        try:
            files.sync(file)
        finally:
            os.close(file)

    def sync_folders(self) -> None:
        """Sync the folders in which names were created or removed.

        Raises:
            OSError: the disk refuses them.
        """
        while self._unsynced:
            self._folders.sync(self._unsynced.pop())


def _folder_of(path: str) -> str:
    return path.rpartition("/")[0]
