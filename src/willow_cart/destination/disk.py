"""The disk of a destination: its room, its largest file, and whether case counts in its names."""

from __future__ import annotations

from pathlib import Path

from willow_cart.model import OWN_FOLDER
from willow_cart.platform import disks

# What is left free for the ledger when a file would fill the disk, unless that is very small.
_RESERVED_BYTES = 16 << 20

# Microsoft's specification of FAT32: sizes of files have 32 bits.
_LARGEST_ON_FAT = (4 << 30) - 1


def room_at(folder: str | Path) -> int:
    """Return the free bytes for a folder, existing or not, without a reserve.

    Raises:
        OSError: it cannot be determined.
    """
    return room_in(_existing(folder))


def room_in(folder: Path | int) -> int:
    """Return the free bytes in an existing folder, without a reserve.

    Args:
        folder: its path, or the descriptor of an open file in it.

    Raises:
        OSError: it is not.
    """
    free, whole = disks.space_in(folder)
    return max(0, free - min(_RESERVED_BYTES, whole // 8))


def largest_file_at(folder: Path) -> int | None:
    """Return the bytes of the largest file that the disk of a folder takes; None for no limit."""
    return _LARGEST_ON_FAT if disks.is_fat(_existing(folder)) else None


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


def _existing(folder: str | Path) -> Path:
    """Return a folder, or the nearest one above it that exists."""
    place = Path(folder).absolute()
    while not place.exists() and place != place.parent:
        place = place.parent
    return place
