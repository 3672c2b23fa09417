"""Disk functions of Linux beyond the standard library; they do nothing elsewhere."""

from __future__ import annotations

import ctypes
import errno
import os
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

from willow_cart.model import OWN_FOLDER

# linux/fs.h: begin to write out what is dirty in a range, and do not wait for it.
_SYNC_FILE_RANGE_WRITE = 2

# What is left free for the ledger when a file would fill the disk, unless that is very small.
_RESERVED_BYTES = 16 << 20

# linux/fs.h: fail rather than replace a file that has the name.
_RENAME_NOREPLACE = 1

# proc(5): random for every start.
_BOOT_ID = Path("/proc/sys/kernel/random/boot_id")


def sync_file_system(descriptor: int) -> bool:
    """Sync the file system of an open file (syncfs(2)); return False if unsupported.

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


def move_to_new_name(
    name: str, to: str, folder: int | None = None, to_folder: int | None = None
) -> None:
    """Move a file to a free name (renameat2(2), RENAME_NOREPLACE).

    Where the system or the disk cannot do that, the name is looked at just before.

    Args:
        name: of the file in its folder.
        to: the name that it gets.
        folder: the directory descriptor of its folder; None where the names are full paths.
        to_folder: likewise of the one that it is moved to.

    Raises:
        FileExistsError: something has the name.
        OSError: the file cannot be moved.
    """
    renameat2 = _function("renameat2")
    if renameat2 is not None and folder is not None and to_folder is not None:
        names = os.fsencode(name), os.fsencode(to)
        if renameat2(folder, names[0], to_folder, names[1], _RENAME_NOREPLACE) == 0:
            return
        number = ctypes.get_errno()
        if number not in (errno.ENOSYS, errno.EINVAL):
            raise OSError(number, os.strerror(number), to)
    with suppress(FileNotFoundError):
        os.stat(to, dir_fd=to_folder, follow_symlinks=False)
        raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), to)
    os.replace(name, to, src_dir_fd=folder, dst_dir_fd=to_folder)


def forget_cached(descriptor: int, start: int, end: int) -> None:
    """Have the next read of a range come from the disk (posix_fadvise(2), POSIX_FADV_DONTNEED).

    On a network file system, another machine may have written there since this one has read.

    Raises:
        OSError: the disk would not take what was written here.
    """
    if hasattr(os, "posix_fadvise"):
        os.fsync(descriptor)  # what is still to be written is not forgotten
        os.posix_fadvise(descriptor, start, end - start, os.POSIX_FADV_DONTNEED)


def begin_to_write_out(descriptor: int) -> None:
    """Start writing the dirty pages of a file to the disk (sync_file_range(2)).

    Promises nothing; it only makes a later sync short, since the disk works meanwhile.
    """
    sync_file_range = _function("sync_file_range")
    if sync_file_range is not None:
        to_its_end = ctypes.c_int64(0)
        sync_file_range(descriptor, ctypes.c_int64(0), to_its_end, _SYNC_FILE_RANGE_WRITE)


def room_at(folder: str | Path) -> int:
    """Return the free bytes for a folder, existing or not, without a reserve.

    Raises:
        OSError: it cannot be determined.
    """
    place = Path(folder).absolute()
    while not place.exists() and place != place.parent:
        place = place.parent
    return room_in(str(place))


def room_in(folder: str | int) -> int:
    """Return the free bytes in an existing folder, without a reserve.

    Args:
        folder: its path, or the descriptor of a file in it.

    Raises:
        OSError: it is not.
    """
    status = os.statvfs(folder)
    reserve = min(_RESERVED_BYTES, status.f_blocks * status.f_frsize // 8)
    return max(0, status.f_bavail * status.f_frsize - reserve)


def is_case_sensitive(folder: Path) -> bool:
    """Whether names that differ only in case are distinct in a folder.

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
    """Return an identifier of the current boot; empty if missing.

    Until the next start, what a program has written to a file is there, synced or not.
    """
    try:
        return _BOOT_ID.read_text(encoding="ascii").strip()
    except OSError:
        return ""


@cache
def _function(name: str) -> Any:
    """Return a function of the C library; None if it does not exist."""
    try:
        return getattr(ctypes.CDLL(None, use_errno=True), name)
    except (OSError, AttributeError, TypeError):
        return None
