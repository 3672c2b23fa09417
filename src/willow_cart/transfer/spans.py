"""Which bytes of a partial file exist, and the notes that vouch for them."""

from __future__ import annotations

import os
import re
import zlib
from collections.abc import Iterable
from contextlib import suppress
from typing import Self

from willow_cart.destination import Destination
from willow_cart.model import OWN_FOLDER
from willow_cart.platform import files
from willow_cart.structs import Value

_WRITTEN = re.compile(r"(\d{1,18})-(\d{1,18})")


class Spans(Value):
    """Sorted, disjoint and non-adjacent ranges of a file.

    Attributes:
        pairs: the first byte of each, and the byte after its last.
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


# More than any note has.
_MAX_NOTE_BYTES = 1 << 20


def cut_to(file: int, spans: Spans, length: int | None) -> None:
    """Truncate a file to its ranges."""
    size = os.fstat(file).st_size
    if spans.pairs and spans.pairs[-1][1] > size:
        spans = Spans()  # it is another file than the one that was synced
    settle_end(file, spans, length)


def settle_end(file: int, spans: Spans, length: int | None) -> None:
    """Make a file end so that its ranges can be found."""
    if spans.is_in_order:
        os.ftruncate(file, spans.total)
    else:
        leave_note(file, spans, length)


def leave_note(file: int, spans: Spans, length: int | None) -> None:
    """Write the existing ranges after the file's future end."""
    assert length is not None, "only a file of known length comes in several strands"
    text = str(spans).encode()
    # The sum is for a kill in the middle of the write.
    files.write_at(file, b"%08x %s\n" % (zlib.crc32(text), text), length)


def spans_in(file: int, length: int | None) -> Spans | None:
    """Return the ranges in a file; None if its note is damaged."""
    size = os.fstat(file).st_size
    if length is None or size <= length:
        return Spans.of([(0, size)])
    line = files.read_at(file, min(size - length, _MAX_NOTE_BYTES), length).partition(b"\n")[0]
    check, _, text = line.partition(b" ")
    if check != b"%08x" % zlib.crc32(text):
        return None
    try:
        spans = Spans.read(text.decode("ascii"))
    except ValueError:
        return None
    return spans if spans.fits(length) else None


VOUCHED = f"{OWN_FOLDER}/vouched"
"""The folder of notes on partial files, each with the digests of the bytes received so far."""

_MAX_DIGESTS_BYTES = 1 << 20
_NOTE = re.compile(rb"([0-9a-f]{8}) ((?:\d{1,19}-\d{1,19}:[0-9a-f]{8,64} ?)*)\n")


class Piece(Value, order=True):
    """Bytes of a partial file with their digest, which shows a later run that they are unchanged.

    Attributes:
        start: the first byte.
        end: the byte after the last.
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
    """Write the digests of a partial file into its note.

    A process that is killed leaves what it has written; the sum is for a kill within the write.
    """
    text = " ".join(map(str, pieces)).encode()
    files.write_at(note, b"%08x %s\n" % (zlib.crc32(text), text), 0)


def vouched_in(destination: Destination, name: str) -> list[Piece]:
    """Return the pieces in the note on a partial file; none if it cannot be right."""
    try:
        with destination.open(f"{VOUCHED}/{name}") as file:
            note = _NOTE.match(file.read(_MAX_DIGESTS_BYTES))
    except OSError:
        return []
    if note is None or note[1] != b"%08x" % zlib.crc32(note[2]):
        return []
    return [*map(Piece.parse, note[2].decode("ascii").split())]
