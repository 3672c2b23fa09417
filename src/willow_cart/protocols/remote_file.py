"""A remote file that is read in parts, and not fetched whole."""

from __future__ import annotations

import io
from collections.abc import Iterator

from willow_cart.errors import ConnectionLost, NoParts
from willow_cart.model import Metadata, Validators
from willow_cart.protocols.base import Access, Download
from willow_cart.redaction import without_secrets

# What is fetched at a time. Libraries read headers in pieces of some bytes, and each request costs
# a round trip, in which a fast line carries more than this.
_BLOCK_BYTES = 32 << 10


class TooMuchRead(Exception):
    """More of the file would have to be fetched than was allowed."""


def open_range(access: Access, address: str, facts: Metadata, start: int, end: int) -> Download:
    """Request a range of a file.

    The version is compared here, so that servers with weak validators serve it as well.

    Args:
        facts: what was known of it when it was asked about first.
        start: the first byte.
        end: the byte before which it ends.

    Raises:
        NoParts: the server does not serve any.
        ConnectionLost: it has another version now.
    """
    delivery = access.open(address, start=start, end=end)
    assert isinstance(delivery, Download), "no condition was made"
    shown = without_secrets(address)
    now = delivery.facts
    try:
        if now.length != facts.length or not _may_be_one(facts.validators, now.validators):
            raise ConnectionLost(shown, "has changed while it was read")
        if delivery.start != start:
            raise NoParts(shown, "can only be fetched whole", "haul it")
    except BaseException:
        delivery.close()
        raise
    return delivery


def read_beginning(access: Access, address: str, count: int) -> tuple[Metadata, bytes]:
    """Fetch the first bytes of a file, in one request.

    Args:
        count: how many bytes; fewer are returned of a shorter file.

    Raises:
        TransferFailed: the bytes could not be fetched.
    """
    delivery = access.open(address, end=count)
    assert isinstance(delivery, Download), "no condition was made"
    try:
        return delivery.facts, _read(delivery, count)
    finally:
        delivery.close()


class RemoteFile(io.RawIOBase):
    """A remote file, of which only the blocks that are read are fetched, each once.

    Args:
        facts: the server's metadata.
        length: its length in bytes.
        tail_bytes: how many of its last bytes are fetched together, as soon as one is read.
        beginning: bytes that were fetched already.
        most: how many bytes may be fetched; None for all.

    Attributes:
        fetched: how many bytes came over the line.
        is_exhausted: whether more was wanted than `most`.
    """

    def __init__(
        self,
        access: Access,
        address: str,
        facts: Metadata,
        length: int,
        *,
        tail_bytes: int = 0,
        beginning: bytes = b"",
        most: int | None = None,
    ) -> None:
        self._access = access
        self._address = address
        self._facts = facts
        self._length = length
        self._tail_from = max(0, length - tail_bytes) // _BLOCK_BYTES
        self._most = most
        self._at = 0
        self.fetched = len(beginning)
        self.is_exhausted = False
        whole = min(length, len(beginning))
        self._blocks = {
            start // _BLOCK_BYTES: beginning[start : start + _BLOCK_BYTES]
            for start in range(0, whole, _BLOCK_BYTES)
            if start + _BLOCK_BYTES <= whole or whole == length
        }

    def readable(self) -> bool:
        """Return True."""
        return True

    def seekable(self) -> bool:
        """Return True."""
        return True

    def tell(self) -> int:
        """Return the current position."""
        return self._at

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Seek to a position.

        Raises:
            ValueError: the byte would be before the first.
        """
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._length}[whence]
        if base + offset < 0:
            raise ValueError("it is too short")
        self._at = base + offset
        return self._at

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        """Fill a buffer, and return how many bytes were read.

        Raises:
            TransferFailed: the bytes could not be fetched.
            TooMuchRead: more would have to be fetched than was allowed.
        """
        end = min(self._length, self._at + len(buffer))
        if end <= self._at:
            return 0
        first, last = self._at // _BLOCK_BYTES, (end - 1) // _BLOCK_BYTES
        self._require(first, last)
        joined = b"".join(self._blocks[number] for number in range(first, last + 1))
        offset = self._at - first * _BLOCK_BYTES
        count = end - self._at
        buffer[:count] = joined[offset : offset + count]
        self._at = end
        return count

    def readall(self) -> bytes:
        """Read all that follows."""
        return self.read(max(0, self._length - self._at)) or b""

    def _require(self, first: int, last: int) -> None:
        """Fetch the blocks from one to another that are not here."""
        if last >= self._tail_from and last not in self._blocks:
            first, last = min(first, self._tail_from), (self._length - 1) // _BLOCK_BYTES
        for start, end in self._missing(first, last):
            self._fetch(start * _BLOCK_BYTES, min(end * _BLOCK_BYTES, self._length))

    def _missing(self, first: int, last: int) -> Iterator[tuple[int, int]]:
        """Yield the runs of missing blocks, with the block after each run."""
        start = None
        for number in range(first, last + 2):
            if number <= last and number not in self._blocks:
                start = number if start is None else start
            elif start is not None:
                yield start, number
                start = None

    def _fetch(self, start: int, end: int) -> None:
        if self._most is not None and self.fetched + end - start > self._most:
            self.is_exhausted = True
            raise TooMuchRead
        delivery = open_range(self._access, self._address, self._facts, start, end)
        try:
            data = _read(delivery, end - start)
        finally:
            delivery.close()
        self.fetched += len(data)
        if len(data) < end - start:
            raise ConnectionLost(without_secrets(self._address), "stopped short")
        for offset in range(0, len(data), _BLOCK_BYTES):
            number = (start + offset) // _BLOCK_BYTES
            self._blocks[number] = data[offset : offset + _BLOCK_BYTES]


def _read(delivery: Download, count: int) -> bytes:
    """Read this many bytes; fewer if it ends before."""
    data = bytearray()
    while len(data) < count and (piece := delivery.read()):
        data += piece
    return bytes(data[:count])


def _may_be_one(one: Validators, other: Validators) -> bool:
    """Whether two versions may be the same."""
    pairs = ((one.entity_tag, other.entity_tag), (one.last_modified, other.last_modified))
    return all(a == b for a, b in pairs if a is not None and b is not None)
