"""Locks of open files (LockFile), which end with their process."""

from __future__ import annotations

import errno
import os
import time
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from typing import Any

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
