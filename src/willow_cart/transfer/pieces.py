"""Stretches of a partial file with their digests, by which a later run knows them again."""

from __future__ import annotations

import os
import re
import zlib
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from typing import Self

from willow_cart.destination import Destination
from willow_cart.model import OWN_FOLDER
from willow_cart.platform import files

VOUCHED = f"{OWN_FOLDER}/vouched"
"""The folder of notes on partial files, each with the digests of what has come so far."""

_MAX_NOTE_BYTES = 1 << 20
_NOTE = re.compile(rb"([0-9a-f]{8}) ((?:\d{1,19}-\d{1,19}:[0-9a-f]{8,64} ?)*)\n")


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


def open_note(destination: Destination, name: str) -> int:
    """Return the descriptor of the note on a partial file, which is made if it is not there."""
    destination.make_folder(VOUCHED)
    return destination.open_for(f"{VOUCHED}/{name}", os.O_RDWR | os.O_CREAT)


def delete_note(destination: Destination, name: str) -> None:
    """Delete the note on a partial file; where that fails, the next haul does it."""
    with suppress(OSError):
        destination.delete(f"{VOUCHED}/{name}")


def leave_digests(note: int, pieces: Iterable[Piece]) -> None:
    """Write the digests of what has come of a partial file into its note.

    A process that is killed leaves what it has written; the sum is for a kill within the write.
    """
    text = " ".join(map(str, pieces)).encode()
    files.write_at(note, b"%08x %s\n" % (zlib.crc32(text), text), 0)


def vouched_in(destination: Destination, name: str) -> list[Piece]:
    """Return the pieces in the note on a partial file; none if it cannot be right."""
    try:
        with destination.open(f"{VOUCHED}/{name}") as file:
            note = _NOTE.match(file.read(_MAX_NOTE_BYTES))
    except OSError:
        return []
    if note is None or note[1] != b"%08x" % zlib.crc32(note[2]):
        return []
    return [*map(Piece.parse, note[2].decode("ascii").split())]
