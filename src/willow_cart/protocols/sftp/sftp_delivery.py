"""A file that is received over SFTP, with several reads on the way at a time."""

from __future__ import annotations

import time
from collections import deque
from concurrent.futures import Future
from dataclasses import replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from willow_cart.errors import ConnectionLost, NotServed
from willow_cart.model import Metadata
from willow_cart.protocols.base import CHUNK, Download, joining_by_time

if TYPE_CHECKING:
    from willow_cart.protocols.sftp.sftp_pool import Session, SftpConnections

FIRST_READ_BYTES = 64 << 10
"""What is read with the attributes; most small files are whole then."""

# A block is requested in as many reads as the server allows for one, all at once; while one block
# is written and hashed, the next ones come.
_MAX_BLOCK_BYTES = 4 << 20
_BLOCKS_ON_THE_WAY = 2

# A block says nothing until it is there, so on a slow line small ones are requested.
_MIN_BLOCK_BYTES = 16 << 10
_FIRST_BLOCK_BYTES = 256 << 10
_QUICK_SECONDS, _SLOW_SECONDS = 0.5, 2.0


class SftpDownload(Download):
    """A file that is read in blocks.

    Args:
        pool: of the session.
        session: where the file is open; None if it is closed, because its first bytes are all.
        file: what asyncssh knows it by; None likewise.
        facts: what is known of it.
    """

    in_parts = True

    def __init__(
        self, pool: SftpConnections, session: Session | None, file: Any, facts: Metadata
    ) -> None:
        self.facts = facts
        self.start = 0
        self.joining = joining_by_time(facts, datetime.now(UTC))
        self._pool = pool
        self._session = session
        self._file = file
        self._end: int | None = None
        self._at = 0
        self._ready = memoryview(b"")
        self._coming: deque[tuple[int, Future[bytes]]] = deque()
        self._ended = False
        self._block_bytes = _FIRST_BLOCK_BYTES
        self._came_at = time.monotonic()

    def begin(self, start: int, end: int | None, beginning: bytes | None) -> None:
        """Begin at a byte.

        Args:
            start: the byte.
            end: the byte before which to end; None for the file's end.
            beginning: what was read from there already; None for nothing.
        """
        self.start = start
        # Some servers say that files have no bytes that are made when they are read. One byte more
        # is requested than there are said to be, which shows if there are more.
        length = self.facts.length
        self._end = length and length + 1 if end is None else end
        if length == 0 and beginning:
            self._end = None
            self.facts = replace(self.facts, length=None)
        self._ready = memoryview(beginning or b"")
        self._at = start + len(self._ready)
        if beginning is not None:
            left = FIRST_READ_BYTES if self._end is None else self._end - start
            self._ended = self._file is None or len(beginning) < min(left, FIRST_READ_BYTES)
        self._request()

    def read(self) -> bytes:
        """Return the next bytes; empty at the end.

        Raises:
            TransferFailed: the connection was lost, or the file is shorter than it was.
        """
        if not self._ready and self._coming:
            wanted, coming = self._coming.popleft()
            self._ready = memoryview(self._received(coming))
            self._adapt()
            if len(self._ready) < wanted:
                # It ends here, whatever lies further on: blocks must follow each other.
                self._ended = True
                self._drop()
            self._request()
        size = len(self._ready) if len(self._ready) <= CHUNK + 1 else CHUNK
        piece = bytes(self._ready[:size])
        self._ready = self._ready[size:]
        return piece

    def _adapt(self) -> None:
        """Request larger blocks while they come quickly, and smaller ones on a slow line."""
        took = time.monotonic() - self._came_at
        self._came_at += took
        if took < _QUICK_SECONDS:
            self._block_bytes = min(2 * self._block_bytes, _MAX_BLOCK_BYTES)
        elif took > _SLOW_SECONDS:
            self._block_bytes = max(self._block_bytes // 4, _MIN_BLOCK_BYTES)

    def _received(self, coming: Future[bytes]) -> bytes:
        try:
            return self._pool.wait_for(self.facts.address, coming, self._pool.stall_after)
        except NotServed as error:
            # It has opened the file, so this is about one read of it.
            raise ConnectionLost(error.thing, error.reason, "try again later") from error

    def _request(self) -> None:
        """Keep some blocks on the way."""
        while len(self._coming) < _BLOCKS_ON_THE_WAY and not self._ended:
            left = self._block_bytes if self._end is None else self._end - self._at
            if left <= 0:
                return
            size = left if left <= self._block_bytes + 1 else self._block_bytes
            self._coming.append((size, self._pool.start(self._file.read(size, self._at))))
            self._at += size

    def close(self) -> None:
        """Close the file; reads that are on the way are dropped."""
        session, self._session = self._session, None
        if session is None:
            return
        self._drop()
        if self._file is not None:
            self._pool.close_file(session, self._file)
        self._pool.release(session)

    def _drop(self) -> None:
        for _, coming in self._coming:
            coming.cancel()
        self._coming.clear()
