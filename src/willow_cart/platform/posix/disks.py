"""Disks: syncing whole ones, their room, the largest file they take, and the boot they are of."""

from __future__ import annotations

import ctypes
import os
import sys
from pathlib import Path

from willow_cart.platform.posix.c_library import function

assert sys.platform != "win32", "there is another family for it"

# linux/fs.h: begin to write out what is dirty in a range, and do not wait for it.
_SYNC_FILE_RANGE_WRITE = 2

# proc(5): random for every start.
_BOOT_ID = Path("/proc/sys/kernel/random/boot_id")

# proc(5): a line for each disk, with the numbers of its device and, after a dash, its kind.
_MOUNTS = Path("/proc/self/mountinfo")

_FAT = ("vfat", "msdos", "fat32")


def sync_file_system(descriptor: int) -> bool:
    """Sync the file system of an open file (syncfs(2)); return False if unsupported.

    Raises:
        OSError: the disk would not take it.
    """
    syncfs = function("syncfs")
    if syncfs is None:
        return False
    if syncfs(descriptor) != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))
    return True


def begin_to_write_out(descriptor: int) -> None:
    """Start writing the dirty pages of a file to the disk (sync_file_range(2)).

    Promises nothing; it only makes a later sync short, since the disk works meanwhile.
    """
    sync_file_range = function("sync_file_range")
    if sync_file_range is not None:
        to_its_end = ctypes.c_int64(0)
        sync_file_range(descriptor, ctypes.c_int64(0), to_its_end, _SYNC_FILE_RANGE_WRITE)


def space_in(folder: Path | int) -> tuple[int, int]:
    """Return the free and all bytes of the disk of an existing folder, or of an open file.

    Raises:
        OSError: it cannot be determined.
    """
    status = os.statvfs(folder)
    return status.f_bavail * status.f_frsize, status.f_blocks * status.f_frsize


def is_fat(folder: Path) -> bool:
    """Whether an existing folder is on a disk of the FAT family, where files end at 4 GiB."""
    return _kind_of_disk(folder) in _FAT


if sys.platform == "darwin":

    def _kind_of_disk(folder: Path) -> str:
        """Return the kind of a disk (statfs(2) of macOS: `f_fstypename` is at byte 72)."""
        answer = ctypes.create_string_buffer(4096)
        statfs = function("statfs$INODE64") or function("statfs")
        if statfs is None or statfs(os.fsencode(folder), answer) != 0:
            return ""
        return answer.raw[72:88].partition(b"\0")[0].decode("ascii", "replace")

else:

    def _kind_of_disk(folder: Path) -> str:
        """Return the kind of a disk; empty if unknown."""
        device = os.stat(folder).st_dev
        numbers = f"{os.major(device)}:{os.minor(device)}"
        try:
            for line in _MOUNTS.read_text(encoding="utf-8", errors="replace").splitlines():
                fields, _, kind = line.partition(" - ")
                if fields.split()[2] == numbers:
                    return kind.split()[0]
        except (OSError, IndexError):
            pass  # it is no Linux, or has no such file
        return ""


def boot_mark() -> str:
    """Return an identifier of the current boot; empty if missing.

    Until the next start, what a program has written to a file is there, synced or not.
    """
    try:
        return _BOOT_ID.read_text(encoding="ascii").strip()
    except OSError:
        return ""
