"""Decode content and transfer codings, and detect truncated data."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Sequence

GZIP_MAGIC = b"\x1f\x8b"
"""The first bytes of a gzip member (RFC 1952, 2.3.1)."""

NAMES = {"gzip": "gzip", "x-gzip": "gzip", "deflate": "deflate"}
"""Codings that can be undone (RFC 9110, 8.4.1), by the names that servers use."""

# So much is made of what came before more is requested; a kilobyte can become a gigabyte.
_CHUNK_BYTES = 1 << 20


class BrokenCoding(Exception):
    """Data that is not in the expected coding."""


class EndsEarly(Exception):
    """Data that ends before its coding does."""


class Decoder:
    """A stream with one coding removed.

    Args:
        coding: `gzip` (RFC 1952) or `deflate` (RFC 1950; by mistake also RFC 1951).
        source: gives the next coded bytes; empty at the end.
    """

    def __init__(self, coding: str, source: Callable[[], bytes]) -> None:
        self._source = source
        self._is_gzip = coding == "gzip"
        self._unzip = zlib.decompressobj(31 if self._is_gzip else 15)
        self._rest = b""
        self._began = False

    def read(self) -> bytes:
        """Return the next decoded bytes, waiting for at least one; empty at the end.

        Raises:
            BrokenCoding: they are not in this coding.
            EndsEarly: the source has ended, and the coding has not.
        """
        while True:
            data = self._rest or self._source()
            self._rest = b""
            if not data:
                if not self._began or self._unzip.eof:
                    return b""
                if out := self._unzip.decompress(b"", _CHUNK_BYTES):
                    return out  # what was made already, and did not fit into the last piece
                raise EndsEarly
            if out := self._undo(data):
                return out

    def _undo(self, data: bytes) -> bytes:
        if self._unzip.eof:
            # RFC 1952, 2.2: members follow each other. What else follows is padding, or nothing
            # that is read.
            if not (self._is_gzip and data.startswith(GZIP_MAGIC)):
                return b""
            self._unzip = zlib.decompressobj(31)
        try:
            out = self._unzip.decompress(data, _CHUNK_BYTES)
        except zlib.error as error:
            if self._began or self._is_gzip:
                raise BrokenCoding(str(error)) from None
            # Servers that forget the two bytes around the data (RFC 9110, 8.4.1.2, note).
            self._unzip = zlib.decompressobj(-15)
            try:
                out = self._unzip.decompress(data, _CHUNK_BYTES)
            except zlib.error:
                raise BrokenCoding(str(error)) from None
        self._began = True
        self._rest = self._unzip.unconsumed_tail or self._unzip.unused_data
        return out


def decoded(codings: Sequence[str], source: Callable[[], bytes]) -> Callable[[], bytes]:
    """Remove codings, given in the order in which they were applied."""
    for coding in reversed(codings):
        source = Decoder(NAMES[coding], source).read
    return source


def is_gzip_within(beginning: bytes) -> bool:
    """Whether gzip data contains gzip data, judging by its start."""
    try:
        return zlib.decompressobj(31).decompress(beginning, 16).startswith(GZIP_MAGIC)
    except zlib.error:
        return False
