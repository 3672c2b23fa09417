"""What the disk is asked for beyond the standard library, on Linux; others do without."""

from __future__ import annotations

import ctypes
import os
from functools import cache
from pathlib import Path
from typing import Any

from willow_cart.model import OWN_FOLDER

# linux/fs.h: begin to write out what is dirty in a range, and do not wait for it.
_SYNC_FILE_RANGE_WRITE = 2

# proc(5): random for every start.
_BOOT_ID = Path("/proc/sys/kernel/random/boot_id")


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


def begin_to_write_out(descriptor: int) -> None:
    """Have what was written of an open file on its way to the disk (sync_file_range(2)).

    Promises nothing; it only makes a later sync short, since the disk works meanwhile.
    """
    sync_file_range = _function("sync_file_range")
    if sync_file_range is not None:
        to_its_end = ctypes.c_int64(0)
        sync_file_range(descriptor, ctypes.c_int64(0), to_its_end, _SYNC_FILE_RANGE_WRITE)


def is_case_sensitive(folder: Path) -> bool:
    """Return whether names that differ only in case are two names in a folder.

    Asked of the nearest folder that exists and has a letter in its name: nothing is written.
    """
    for there in (folder / OWN_FOLDER, *(folder.resolve() / "x").parents):
        other = there.name.swapcase()
        if other == there.name or not there.exists():
            continue
        try:
            return not there.with_name(other).samefile(there)
        except OSError:
            return True
    return True


def boot_mark() -> str:
    """What tells this start of the machine from every other; empty where nothing does.

    Until the next start, what a program has written to a file is there, synced or not.
    """
    try:
        return _BOOT_ID.read_text(encoding="ascii").strip()
    except OSError:
        return ""


@cache
def _function(name: str) -> Any:
    """A function of the C library, or None where it has none of that name."""
    try:
        return getattr(ctypes.CDLL(None, use_errno=True), name)
    except (OSError, AttributeError, TypeError):
        return None
