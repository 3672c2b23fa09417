"""Ranges of bytes that exist in a file."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

_WRITTEN = re.compile(r"(\d{1,18})-(\d{1,18})")


@dataclass(frozen=True, slots=True)
class Spans:
    """Sorted, disjoint and non-adjacent ranges of a file.

    Attributes:
        pairs: the first byte of each, and the byte behind its last.
    """

    pairs: tuple[tuple[int, int], ...] = ()

    @classmethod
    def of(cls, pairs: Iterable[tuple[int, int]]) -> Spans:
        """Return the union of ranges in any order."""
        joined: list[tuple[int, int]] = []
        for first, end in sorted(pair for pair in pairs if pair[0] < pair[1]):
            if joined and first <= joined[-1][1]:
                joined[-1] = (joined[-1][0], max(end, joined[-1][1]))
            else:
                joined.append((first, end))
        return cls(tuple(joined))

    @classmethod
    def read(cls, text: str) -> Spans:
        """Parse the output of `str`.

        Raises:
            ValueError: it is something else.
        """
        found = [_WRITTEN.fullmatch(each) for each in text.split(",")] if text else []
        if not all(found):
            raise ValueError(text)
        return cls.of((int(each[1]), int(each[2]) + 1) for each in found if each)

    def __str__(self) -> str:
        """First and last bytes, as in a byte range (RFC 9110, 14.1.2): `0-99,500-509`."""
        return ",".join(f"{first}-{end - 1}" for first, end in self.pairs)

    @property
    def total(self) -> int:
        """Return the number of bytes."""
        return sum(end - first for first, end in self.pairs)

    @property
    def beginning(self) -> int:
        """Return the number of contiguous bytes from the start."""
        return self.pairs[0][1] if self.pairs and self.pairs[0][0] == 0 else 0

    @property
    def is_in_order(self) -> bool:
        """Whether they are all bytes up to some position."""
        return self.total == self.beginning

    def first_gap(self, length: int | None) -> tuple[int, int | None] | None:
        """Return the first missing range, or None.

        Args:
            length: of the file; None if unknown, and then the last gap has no end.
        """
        at = 0
        for first, end in self.pairs:
            if at < first:
                return at, first
            at = end
        return None if at == length else (at, length)

    def fits(self, length: int) -> bool:
        """Whether a file of a given length can contain them."""
        return not self.pairs or self.pairs[-1][1] <= length

    def within(self, length: int) -> Spans:
        """Return the part within a given length."""
        return Spans.of((first, min(end, length)) for first, end in self.pairs)
