"""What the disk is asked for beyond the standard library, on Linux; others do without."""

from __future__ import annotations

import ctypes
import os
from functools import cache
from typing import Any

# linux/fs.h: begin to write out what is dirty in a range, and do not wait for it.
_SYNC_FILE_RANGE_WRITE = 2


def sync_file(path: str, flags: int = os.O_RDONLY) -> None:
    """Make a file, or with `os.O_DIRECTORY` the names in a folder, safe against a power cut.

    Raises:
        OSError: the disk would not take it.
    """
    descriptor = os.open(path, flags)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def sync_file_system(descriptor: int) -> bool:
    """Sync the file system that an open file is on (syncfs(2)); False where that is not known.

    Raises:
        OSError: the disk would not take it.
    """
    syncfs = _function("syncfs")
    if syncfs is None:
        return False
    if syncfs(descriptor) != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))
    return True


def begin_to_write_out(descriptor: int, start: int, end: int) -> None:
    """Have bytes of an open file on their way to the disk (sync_file_range(2)).

    Promises nothing; it only makes a later sync short, since the disk works meanwhile.
    """
    sync_file_range = _function("sync_file_range")
    if sync_file_range is not None:
        length = ctypes.c_int64(end - start)
        sync_file_range(descriptor, ctypes.c_int64(start), length, _SYNC_FILE_RANGE_WRITE)


@cache
def _function(name: str) -> Any:
    """A function of the C library, or None where it has none of that name."""
    try:
        return getattr(ctypes.CDLL(None, use_errno=True), name)
    except (OSError, AttributeError, TypeError):
        return None
