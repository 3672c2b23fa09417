"""How far an archive may swell: a small file can be made to unpack to more than any disk holds."""

from __future__ import annotations

import re
from dataclasses import dataclass

from willow_cart.errors import BadOption, NotUnpacked
from willow_cart.units import format_size, parse_size

MOST_MEMBERS = 1_000_000
"""What holds more is meant to fill the disk with names."""

# Up to here nobody is harmed, and tables of zeros swell by more than any ratio.
_LITTLE = 100_000_000

_RATIO = re.compile(r"(\d{1,6}(?:\.\d{1,6})?)x", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Bounds:
    """How much may come out of one archive, with all that is nested in it.

    Attributes:
        ratio: how many times its own size, where that is more than 100 MB.
        most: how many bytes; None for as many as there is room for.
    """

    ratio: float = 1000.0
    most: int | None = None

    @classmethod
    def parse(cls, text: str) -> Bounds:
        """Read bounds as people write them: `200x`, `50GB`, or both with a comma.

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
                        text, "is no bound", "write times its size, a size, or both: 200x,50GB"
                    ) from None
        return bounds

    def require(self, archive: str, packed: int, swollen: int, members: int) -> None:
        """Refuse an archive that goes beyond them.

        Args:
            archive: its name.
            packed: bytes that it has.
            swollen: bytes that have come out of it.
            members: how many files have.

        Raises:
            NotUnpacked: it does.
        """
        if members > MOST_MEMBERS:
            raise NotUnpacked(archive, f"holds more than {MOST_MEMBERS:,} files", "look into it")
        most = max(_LITTLE, self.ratio * packed)
        if self.most is not None:
            most = min(most, self.most)
        if swollen > most:
            raise NotUnpacked(
                archive,
                f"has {format_size(packed)} and swells to more than {format_size(int(most))}",
                "if it is meant to, allow it with --swell-at-most",
            )
