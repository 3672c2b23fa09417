"""The disk of a destination: its room, its largest file, and whether case counts in its names."""

from __future__ import annotations

import os
from pathlib import Path

from willow_cart.errors import CannotStore
from willow_cart.model import OWN_FOLDER
from willow_cart.platform import disks
from willow_cart.units import format_size

# What is left free for the ledger when a file would fill the disk, unless that is very small.
_RESERVED_BYTES = 16 << 20

# Files up to this size are begun without looking; the disk says when it is full.
_SMALL_BYTES = 1 << 20

LARGEST_ON_FAT = (4 << 30) - 1
"""The bytes of the largest file on a FAT disk, whose sizes have 32 bits."""


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


def takes(length: int, folder: Path) -> bool:
    """Whether the disk of a folder, existing or not, takes files of a length in bytes."""
    return length <= LARGEST_ON_FAT or not disks.is_fat(_existing(folder))


class DiskRoom:
    """The room on the disk of a destination.

    Args:
        folder: the destination.
        descriptor: of an open file in it.
    """

    def __init__(self, folder: Path, descriptor: int) -> None:
        self._folder = folder
        self._descriptor = descriptor

    def free(self) -> int:
        """Return the free bytes, except for a reserve for the ledger.

        Raises:
            OSError: it cannot be determined.
        """
        return room_in(self._descriptor)

    def require(self, path: str, length: int, have: int) -> None:
        """Refuse a file that there is no room for, so that smaller ones still fit.

        Args:
            length: its bytes.
            have: how many of them are here.

        Raises:
            CannotStore: there is not enough room, or the disk takes no file of that length.
        """
        to_come = length - have
        if to_come <= _SMALL_BYTES:
            return
        if not takes(length, self._folder):
            raise CannotStore(
                path,
                f"{format_size(length)}, but this disk takes files of at most"
                f" {format_size(LARGEST_ON_FAT)} (FAT)",
                "haul it to a folder on another disk",
            )
        if to_come > (room := self.free()):
            raise CannotStore(
                path,
                f"{format_size(to_come)} needed, but only {format_size(room)} free",
                "free some space and run the same command to resume",
            )


def is_case_sensitive(folder: Path) -> bool:
    """Whether names that differ only in case are distinct in a folder.

    Asked of the nearest folder that exists and has a letter in its name: nothing is written.
    """
    for there in (folder / OWN_FOLDER, *(folder.resolve() / "x").parents):
        other = there.name.swapcase()
        if other == there.name or not there.exists():
            continue
        if not there.with_name(other).exists():
            return True
        # Both are there. That they have one number says nothing: some disks make numbers up.
        try:
            return other in os.listdir(there.parent)
        except OSError:
            return True
    return True


def _existing(folder: str | Path) -> Path:
    """Return a folder, or the nearest one above it that exists."""
    place = Path(folder).absolute()
    while not place.exists() and place != place.parent:
        place = place.parent
    return place
