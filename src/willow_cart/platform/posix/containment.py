"""Reach files below one folder without following links, by directory descriptors.

No path is resolved by the system in one go. Every part of it is opened from the folder before it,
and a link in the path is an error (POSIX.1-2017, openat, O_NOFOLLOW). What is put in place of a
folder in the meantime changes nothing.
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Self

from willow_cart.platform.own_folders import LinkFound, leads_astray
from willow_cart.platform.posix import files

assert sys.platform != "win32", "there is another family for it"

_NO_FOLLOW = os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC


class Place:
    """A name in an open folder, which is closed at the end unless it is kept open.

    Attributes:
        folder: its directory descriptor.
        name: in that folder.
    """

    __slots__ = ("_closes", "folder", "name")

    def __init__(self, folder: int, name: str, *, closes: bool) -> None:
        self.folder = folder
        self.name = name
        self._closes = closes

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        if self._closes:
            os.close(self.folder)

    @property
    def around(self) -> int:
        """What functions that list a folder take for the one that it is in."""
        return self.folder

    def open(self, flags: int) -> int:
        """Open the file, but no link and no pipe's end.

        Raises:
            OSError: it cannot be opened; ELOOP for a link.
        """
        return os.open(self.name, flags | _NO_FOLLOW, 0o666, dir_fd=self.folder)

    def delete_tree(self) -> None:
        """Delete a folder and its content, as far as possible."""
        shutil.rmtree(self.name, ignore_errors=True, dir_fd=self.folder)


# As many folders may be held open for a batch of files.
_MOST_HELD = 64


class _Held(threading.local):
    """The folders that a thread holds open, by their paths; None outside `held_open`."""

    folders: dict[str, int] | None = None


class Folders:
    """The folders below a root.

    Args:
        root: the folder, which may be given by way of a link.

    Attributes:
        made: in which folders others have been made since this was emptied.

    Raises:
        OSError: it is not there, or is not a folder.
    """

    def __init__(self, root: Path) -> None:
        self.made: set[str] = set()
        self._kept: dict[str, int] = {}
        self._deleted: list[int] = []
        self._held = _Held()
        self._root = os.open(root, _FOLDER)

    def close(self) -> None:
        """Close the open folders."""
        for folder in (*self._kept.values(), *self._deleted):
            os.close(folder)
        self._kept.clear()
        self._deleted.clear()
        if self._root >= 0:
            os.close(self._root)
            self._root = -1

    def keep_open(self, folder: str) -> None:
        """Create a folder and keep it open, because many files are created in it.

        Raises:
            OSError: it cannot be made, or a link leads to it.
        """
        with self.place(f"{folder}/x", makes=True) as place:
            self._kept[folder] = os.dup(place.folder)

    @contextmanager
    def held_open(self) -> Iterator[None]:
        """Keep the folders open that this thread uses while the context lasts, for a moment.

        What is moved or swapped for a link meanwhile is still the folder that was opened.
        """
        self._held.folders = {}
        try:
            yield
        finally:
            self.let_go()
            self._held.folders = None

    def let_go(self) -> bool:
        """Close the folders that this thread holds open; return whether there were any."""
        held = self._held.folders
        if not held:
            return False
        for folder in held.values():
            os.close(folder)
        held.clear()
        return True

    def renew(self, folder: str) -> bool:
        """Create a folder again that is kept open and was deleted; return False for any other."""
        if (deleted := self._kept.pop(folder, None)) is None:
            return False
        self._deleted.append(deleted)  # another thread may be using it
        self.keep_open(folder)
        return True

    def place(self, path: str, *, makes: bool = False) -> Place:
        """Open the folder that contains a path.

        Args:
            path: with `/` between its parts.
            makes: whether folders that are not there are made.

        Raises:
            LinkFound: a link is in the path.
            OSError: a folder in the path does not exist, is not a folder, or cannot be made.
        """
        folder, slash, name = path.rpartition("/")
        if leads_astray(name) or (slash and not folder):
            raise OSError(errno.EINVAL, "not a path below the folder", path)
        if (kept := self._kept.get(folder)) is not None:
            return Place(kept, name, closes=False)
        held = self._held.folders
        if held is not None and (kept := held.get(folder)) is not None:
            return Place(kept, name, closes=False)
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
        closes = at != self._root
        if held is not None and closes and len(held) < _MOST_HELD:
            held[folder] = at
            closes = False
        return Place(at, name, closes=closes)

    def _step(self, at: int, part: str, folder: str, number: int, *, makes: bool) -> int:
        """Open a folder inside the open folder."""
        if leads_astray(part):
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
        self.made.add("/".join(folder.split("/")[:number]))
        return os.open(part, _FOLDER | _NO_FOLLOW, dir_fd=at)

    def sync(self, folder: str) -> None:
        """Sync the names in a folder to the disk.

        A folder that was deleted or swapped for a link meanwhile has no names to keep.

        Raises:
            OSError: the disk refuses them.
        """
        with (
            suppress(FileNotFoundError, NotADirectoryError, LinkFound),
            self.place(f"{folder}/x".lstrip("/")) as place,
        ):
            files.sync(place.folder)
