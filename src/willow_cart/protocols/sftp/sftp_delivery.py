"""A file that is received over SFTP, with several reads on the way at a time."""

from __future__ import annotations

from collections import deque
from concurrent.futures import Future
from typing import TYPE_CHECKING, Any

from willow_cart.model import Metadata
from willow_cart.protocols.base import CHUNK, Download, Resumability

if TYPE_CHECKING:
    from willow_cart.protocols.sftp.sftp_pool import Session, SftpConnections

FIRST_READ_BYTES = 64 << 10
"""What is read with the attributes; most small files are whole then."""

# A block is requested in as many reads as the server allows for one, all at once; while one block
# is written and hashed, the next ones come.
_BLOCK_BYTES = 4 << 20
_BLOCKS_ON_THE_WAY = 2


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
        self.joining = Resumability.SAFE if facts.validators else Resumability.BLIND
        self._pool = pool
        self._session = session
        self._file = file
        self._end: int | None = None
        self._at = 0
        self._ready = memoryview(b"")
        self._coming: deque[tuple[int, Future[bytes]]] = deque()
        self._ended = False

    def begin(self, start: int, end: int | None, beginning: bytes | None) -> None:
        """Begin at a byte.

        Args:
            start: the byte.
            end: the byte before which to end; None for the file's end.
            beginning: what was read from there already; None for nothing.
        """
        self.start = start
        self._end = self.facts.length if end is None else end
        self._ready = memoryview(beginning or b"")
        self._at = start + len(self._ready)
        if beginning is not None:
            left = FIRST_READ_BYTES if self._end is None else self._end - start
            self._ended = len(beginning) < min(left, FIRST_READ_BYTES)
        self._request()

    def read(self) -> bytes:
        """Return the next bytes; empty at the end.

        Raises:
            TransferFailed: the connection was lost, or the file is shorter than it was.
        """
        if not self._ready and self._coming:
            wanted, coming = self._coming.popleft()
            self._ready = memoryview(self._received(coming))
            if len(self._ready) < wanted:
                # It ends here, whatever lies further on: blocks must follow each other.
                self._ended = True
                self._drop()
            self._request()
        piece = bytes(self._ready[:CHUNK])
        self._ready = self._ready[CHUNK:]
        return piece

    def _received(self, coming: Future[bytes]) -> bytes:
        return self._pool.wait_for(self.facts.address, coming, self._pool.stall_after)

    def _request(self) -> None:
        """Keep some blocks on the way."""
        while len(self._coming) < _BLOCKS_ON_THE_WAY and not self._ended:
            left = _BLOCK_BYTES if self._end is None else self._end - self._at
            if left <= 0:
                return
            size = min(left, _BLOCK_BYTES)
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
