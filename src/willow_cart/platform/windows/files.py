"""Single files: reading and writing at an offset, syncing, renaming, times, modes and names."""

from __future__ import annotations

import errno
import os
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import unquote

from willow_cart.platform.windows import kernel

_BINARY = getattr(os, "O_BINARY", 0)

# A file has one position, so threads that read and write at an offset take turns.
_turn = threading.Lock()

# Programs that look at every new file have it open for a moment, and it keeps its name meanwhile.
_ATTEMPTS = 20
_PAUSE_SECONDS = 0.05

Result = TypeVar("Result")


def read_at(descriptor: int, count: int, start: int) -> bytes:
    """Return up to a number of bytes of a file from an offset."""
    with _turn:
        os.lseek(descriptor, start, os.SEEK_SET)
        return os.read(descriptor, count)


def read_into(descriptor: int, buffer: memoryview, start: int) -> int:
    """Fill a buffer from an offset of a file; return how many bytes there were."""
    data = read_at(descriptor, len(buffer), start)
    buffer[: len(data)] = data
    return len(data)


def write_at(descriptor: int, data: bytes | memoryview, start: int) -> int:
    """Write bytes at an offset of a file; return how many were written."""
    with _turn:
        os.lseek(descriptor, start, os.SEEK_SET)
        return os.write(descriptor, data)


OPEN_TO_SYNC = os.O_RDWR | _BINARY
"""How a file is opened to be synced."""


def sync(descriptor: int) -> None:
    """Sync a file to the disk (FlushFileBuffers).

    Raises:
        OSError: the disk would not take it.
    """
    os.fsync(descriptor)


def replace(
    name: str | Path,
    to: str | Path,
    folder: int | None = None,  # noqa: ARG001  # as POSIX has it
    to_folder: int | None = None,  # noqa: ARG001
) -> None:
    """Give a file a name, in place of one that has it, at once.

    Args:
        name: the path of the file.
        to: the path that it gets.
        folder: None, there are no directory descriptors.
        to_folder: as above.

    Raises:
        OSError: the file cannot be moved.
    """
    _patiently(lambda: os.replace(name, to))


def replace_with_open(descriptor: int, path: Path, to: Path) -> None:
    """Give an open file a name, in place of one that has it, and close it.

    It is closed before, because an open file keeps its name.

    Raises:
        OSError: the file cannot be moved.
    """
    os.close(descriptor)
    replace(path, to)


def move_to_new_name(
    name: str,
    to: str,
    folder: int | None = None,  # noqa: ARG001  # as POSIX has it
    to_folder: int | None = None,  # noqa: ARG001
) -> None:
    """Move a file to a free name, which MoveFile never replaces.

    Args:
        name: as for `replace`, and so are the others.
        to: see there.
        folder: see there.
        to_folder: see there.

    Raises:
        FileExistsError: something has the name.
        OSError: the file cannot be moved.
    """
    if os.path.lexists(to):
        raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), to)
    _patiently(lambda: os.rename(name, to))


def _patiently(change: Callable[[], Result]) -> Result:
    """Try a change until other programs let go of the file.

    Raises:
        OSError: they do not, or something else is wrong.
    """
    for _ in range(_ATTEMPTS - 1):
        try:
            return change()
        except PermissionError:
            time.sleep(_PAUSE_SECONDS)
    return change()


def set_modified(name: str, nanoseconds: int, folder: int | None) -> None:  # noqa: ARG001
    """Set the modification time of a file.

    Raises:
        OSError, OverflowError: the disk cannot write that time.
    """
    os.utime(name, ns=(nanoseconds, nanoseconds))


def open_to_look(path: bytes | str | Path) -> int:
    """Open the file at a path for reading.

    Raises:
        OSError: it cannot be opened.
    """
    return os.open(path, os.O_RDONLY | _BINARY)


def open_private(path: Path) -> int:
    """Open a file to be read and written, below a folder of the user's.

    Raises:
        OSError: it cannot be opened.
    """
    return os.open(path, os.O_RDWR | os.O_CREAT | _BINARY, 0o600)


def give_usual_mode(descriptor: int, like: Path) -> None:
    """Do nothing: what may be done with a file is inherited from its folder."""


def make_private(folder: Path) -> None:
    """Create a folder; below a user's own one, it is for this user alone.

    Raises:
        OSError: it cannot be made.
    """
    folder.mkdir(parents=True, exist_ok=True)


def hide(folder: Path) -> None:
    """Hide a folder from those who look at the one around it."""
    kernel.hide(str(folder))


def name_of(name: str) -> str:
    """Return a name as this program writes it, which is as it is."""
    return name


def path_of_address(address: str) -> bytes:
    r"""Return the path of a `file://` address, `C:\data` or `\\host\share` (RFC 8089, app. E)."""
    path = unquote(address.removeprefix("file://"))
    if not path.startswith("/"):
        path = f"//{path}"  # on a host
    elif path[2:3] == ":":
        path = path[1:]
    return os.fsencode(os.path.normpath(path))


def address_bytes(path: bytes) -> bytes:
    r"""Return the part after `file://` for a full path, before it is quoted."""
    path = path.replace(b"\\", b"/")
    if path.startswith(b"//"):
        return path[2:]  # the host comes first
    return path if path.startswith(b"/") else b"/" + path


# A locked byte cannot be read by others, so it is one that no locked file has; `locking` takes no
# place from 2 GiB on.
_LOCKED_BYTE = (1 << 31) - 2

_WAIT_SECONDS = 0.02


def lock(descriptor: int, *, waits: bool = False) -> None:
    """Lock an open file until it is closed.

    Args:
        descriptor: of the file.
        waits: whether to wait for another that has the lock.

    Raises:
        BlockingIOError: another has it.
        OSError: the disk has no locks.
    """
    while not _try(descriptor):
        if not waits:
            raise BlockingIOError(errno.EAGAIN, "another process has the lock")
        time.sleep(_WAIT_SECONDS)


def is_locked(path: Path) -> bool:
    """Whether a process holds the lock of a file; a killed one does not."""
    try:
        descriptor = os.open(path, os.O_RDWR | getattr(os, "O_BINARY", 0))
    except OSError:
        return False
    try:
        return not _try(descriptor)
    except OSError:
        return False
    finally:
        os.close(descriptor)


def _try(descriptor: int) -> bool:
    """Lock a byte of a file; return False if another has locked it.

    Raises:
        OSError: it cannot be locked at all.
    """
    msvcrt: Any = import_module("msvcrt")
    at = os.lseek(descriptor, 0, os.SEEK_CUR)
    os.lseek(descriptor, _LOCKED_BYTE, os.SEEK_SET)
    try:
        msvcrt.locking(descriptor, msvcrt.LK_NBLCK, 1)
    except OSError as error:
        if error.errno in (errno.EACCES, errno.EDEADLK, errno.EAGAIN):
            return False
        raise
    finally:
        with suppress(OSError):
            os.lseek(descriptor, at, os.SEEK_SET)
    return True
