"""Reach files below one folder without following links, by looking at every step of a path.

There are no directory descriptors, so a folder that is swapped for a link between the look and the
use is followed; making links takes rights there that few have.
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Self

from willow_cart.platform.own_folders import LinkFound, leads_astray

# Longer paths are only understood with a prefix, unless the machine was told otherwise.
_LONG = 240
_PREFIX = "\\\\?\\"

# Junctions are links between folders that anyone can make (IO_REPARSE_TAG_MOUNT_POINT).
_JUNCTION = 0xA0000003

_BINARY = getattr(os, "O_BINARY", 0)


class Place:
    """A path whose every step has been looked at.

    Attributes:
        folder: None, there are no directory descriptors.
        name: the full path.
    """

    __slots__ = ("name",)
    folder = None

    def __init__(self, name: str) -> None:
        self.name = name

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        """Do nothing: nothing is open."""

    @property
    def around(self) -> str:
        """What functions that list a folder take for the one that it is in."""
        return os.path.dirname(self.name)

    def open(self, flags: int) -> int:
        """Open the file, but no link.

        Raises:
            OSError: it cannot be opened; ELOOP for a link.
        """
        with suppress(FileNotFoundError):
            if _is_link(os.lstat(self.name)):
                raise OSError(errno.ELOOP, "is a link", self.name)
        return os.open(self.name, flags | _BINARY, 0o666)

    def delete_tree(self) -> None:
        """Delete a folder and its content, as far as possible."""
        shutil.rmtree(self.name, ignore_errors=True)


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
        if not root.is_dir():
            os.listdir(root)  # for what the system says about it
            raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), str(root))
        self._root = Path(os.path.abspath(root))
        self._kept: set[str] = set()
        self.made: set[str] = set()

    def close(self) -> None:
        """Do nothing: nothing is open."""

    def keep_open(self, folder: str) -> None:
        """Create a folder, because many files are created in it.

        Raises:
            OSError: it cannot be made, or a link leads to it.
        """
        self.place(f"{folder}/x", makes=True)
        self._kept.add(folder)

    @contextmanager
    def held_open(self) -> Iterator[None]:
        """Do nothing: no folder is opened."""
        yield

    def let_go(self) -> bool:
        """Return False: none is held open."""
        return False

    def renew(self, folder: str) -> bool:
        """Create a folder again that is used often and was deleted; return False for any other."""
        if folder not in self._kept:
            return False
        self.keep_open(folder)
        return True

    def place(self, path: str, *, makes: bool = False) -> Place:
        """Look at every step to a path.

        Args:
            path: with `/` between its parts.
            makes: whether folders that are not there are made.

        Raises:
            LinkFound: a link is in the path.
            OSError: a folder in the path does not exist, is not a folder, or cannot be made.
        """
        folder, slash, name = path.rpartition("/")
        if _leads_out(name) or (slash and not folder):
            raise OSError(errno.EINVAL, "not a path below the folder", path)
        at = self._root
        for part in folder.split("/") if folder else ():
            if _leads_out(part):
                raise OSError(errno.EINVAL, "not a path below the folder", folder)
            at /= part
            there = _reachable(str(at))
            if makes:
                with suppress(FileExistsError):
                    os.mkdir(there)
                    self.made.add(at.parent.relative_to(self._root).as_posix().strip("."))
            status = os.lstat(there)
            if _is_link(status):
                raise LinkFound(at.relative_to(self._root).as_posix())
            if not stat.S_ISDIR(status.st_mode):
                raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), str(at))
        return Place(_reachable(str(at / name)))

    def sync(self, folder: str) -> None:
        """Do nothing: NTFS keeps names in a journal, and a folder cannot be synced."""


def _leads_out(part: str) -> bool:
    r"""Whether a part leads elsewhere than to a name in its folder: `..`, `a\b`, `C:x`, `x:y`."""
    return leads_astray(part) or "\\" in part or ":" in part


def _is_link(status: os.stat_result) -> bool:
    return stat.S_ISLNK(status.st_mode) or getattr(status, "st_reparse_tag", 0) == _JUNCTION


def _reachable(path: str) -> str:
    """Return a path by which a file with a long path is reached too (MAX_PATH)."""
    if os.sep != "\\" or len(path) < _LONG or path.startswith(_PREFIX):
        return path
    if path.startswith("\\\\"):
        return f"{_PREFIX}UNC{path[1:]}"
    return _PREFIX + path
