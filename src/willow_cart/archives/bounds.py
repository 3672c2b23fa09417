"""Limits on the unpacked size of an archive, against decompression bombs."""

from __future__ import annotations

import re
from collections.abc import Callable

from willow_cart.errors import BadOption, NotUnpacked
from willow_cart.structs import Value
from willow_cart.units import format_size, parse_size

MAX_MEMBERS = 1_000_000
"""What holds more is meant to fill the disk with names."""

# So little fills no disk, and tables of zeros swell by more than any ratio.
_ALWAYS_ALLOWED_BYTES = 100_000_000

_RATIO = re.compile(r"(\d{1,6}(?:\.\d{1,6})?)x", re.IGNORECASE)


class Bounds(Value):
    """The limits on the unpacked size of one archive, nested archives included.

    Attributes:
        ratio: how many times its own size, where that is more than 100 MB.
        most: how many bytes; None for as many as there is room for.
    """

    ratio: float = 1000.0
    most: int | None = None

    @classmethod
    def parse(cls, text: str) -> Bounds:
        """Parse limits: `200x`, `50GB`, or both with a comma.

        Raises:
            BadOption: they cannot be read.
        """
        bounds = cls()
        for part in text.split(","):
            if found := _RATIO.fullmatch(part.strip()):
                bounds = cls(float(found[1]), bounds.most)
            else:
                try:
                    bounds = cls(bounds.ratio, parse_size(part))
                except BadOption:
                    raise BadOption(
                        text,
                        "not a valid limit",
                        "write times its size, a size, or both: 200x,50GB",
                    ) from None
        return bounds

    def most_of(self, packed: int) -> int:
        """Return the maximum unpacked size of an archive, given its size in bytes."""
        most = max(_ALWAYS_ALLOWED_BYTES, int(self.ratio * packed))
        return most if self.most is None else min(most, self.most)


class Outflow:
    """The bytes and members unpacked so far from one archive; enforces its limits.

    Bytes count as they are unpacked, also those of members that are skipped on the way to others.

    Args:
        archive: its name.
        packed: its size in bytes.
        bounds: how far it may swell.
        unpacked: called with the number of bytes unpacked; may raise to stop.
    """

    def __init__(
        self,
        archive: str,
        packed: int,
        bounds: Bounds,
        unpacked: Callable[[int], None] = lambda _: None,
    ) -> None:
        self.archive = archive
        self._packed = packed
        self._most = bounds.most_of(packed)
        self._unpacked = unpacked
        self._bytes = self._members = 0

    def count(self, size: int) -> None:
        """Count unpacked bytes.

        Raises:
            NotUnpacked: they are too many.
        """
        self._bytes += size
        if self._bytes > self._most:
            raise NotUnpacked(
                self.archive,
                f"has {format_size(self._packed)} and decompresses to more than"
                f" {format_size(self._most)}",
                "if this is expected, raise --swell-at-most",
            )
        self._unpacked(size)

    def count_member(self) -> None:
        """Count a member.

        Raises:
            NotUnpacked: they are too many.
        """
        self._members += 1
        if self._members > MAX_MEMBERS:
            raise NotUnpacked(
                self.archive, f"contains more than {MAX_MEMBERS:,} files", "check its content"
            )
