"""Disks: syncing whole ones, their room, the largest file they take, and the boot they are of."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

from willow_cart.platform.windows import kernel

_FAT = ("FAT", "FAT32")


def sync_file_system(descriptor: int) -> bool:  # noqa: ARG001  # as POSIX has it
    """Return False: only an administrator can sync a whole disk."""
    return False


def begin_to_write_out(descriptor: int) -> None:
    """Do nothing: the system writes when it likes."""


def space_in(folder: Path | int) -> tuple[int, int]:
    """Return the free and all bytes of the disk of an existing folder, or of an open file.

    Raises:
        OSError: it cannot be determined.
    """
    if isinstance(folder, int):
        folder = Path(kernel.path_of(folder)).parent
    usage = shutil.disk_usage(folder)
    return usage.free, usage.total


def is_fat(folder: Path) -> bool:
    """Whether an existing folder is on a disk of the FAT family, where files end at 4 GiB."""
    return kernel.kind_of_disk(Path(os.path.abspath(folder)).anchor) in _FAT


def boot_mark() -> str:
    """Return an identifier of the current boot; empty if missing.

    Until the next start, what a program has written to a file is there, synced or not.
    """
    number = kernel.boot_number()
    return "" if number is None else f"start {number}"
