"""Stretches of a partial file with their digests, by which a later run knows them again."""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from typing import Self

from willow_cart.platform import files


@dataclass(frozen=True, slots=True, order=True)
class Piece:
    """Bytes of a partial file with their digest, which shows a later run that they are unchanged.

    Attributes:
        start: the first byte.
        end: the byte behind the last.
        digest: hexadecimal: the SHA-256 of the piece that begins the file, which is made anyway,
            and the CRC-32 of others, which costs a tenth.
    """

    start: int
    end: int
    digest: str

    def __str__(self) -> str:
        return f"{self.start}-{self.end}:{self.digest}"

    @classmethod
    def parse(cls, text: str) -> Self:
        """Parse a stored piece; the ledger's entries are validated when they are read."""
        span, _, digest = text.partition(":")
        start, _, end = span.partition("-")
        return cls(int(start), int(end), digest)


def crc32_between(file: int, start: int, end: int) -> str:
    """Return the CRC-32 of a stretch of a file, in hexadecimal."""
    crc32 = 0
    while start < end and (data := files.read_at(file, min(end - start, 1 << 20), start)):
        crc32 = zlib.crc32(data, crc32)
        start += len(data)
    return f"{crc32:08x}"
