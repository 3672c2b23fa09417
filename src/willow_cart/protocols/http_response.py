"""HTTP responses with strict parsing and time limits.

The standard library takes the end of a connection for the end of a head, skips one kind of interim
answer, and reads numbers as Python does. An answer that broke off in its head, or whose framing
cannot be understood, would be filed as something else than what was sent.
"""

from __future__ import annotations

import http.client
import io
import re
import socket
from typing import Any

from willow_cart.protocols.sockets import TimedReader

_LINE_ENDS = (b"\r\n", b"\n")

# Interim answers before one that counts. Servers send one or two; the rest is a fault or an attack.
_MAX_INTERIM_RESPONSES = 20

# Lines in a head, interim answers included, and in trailers. The library allows a hundred fields.
_MAX_HEAD_LINES = 2500
_MAX_TRAILER_LINES = 100

# As many digits as fit in 64 bits; longer ones are no lengths, and cost time to read.
_LENGTH = re.compile(r"[0-9]{1,18}")
_CHUNK_SIZE = re.compile(rb"[0-9A-Fa-f]{1,16}")

# Transfer codings that are undone (RFC 9112, 7).
_PACKED = frozenset({"gzip", "x-gzip", "deflate"})


class FramingError(http.client.HTTPException):
    """A response of undefined length (RFC 9112, 6.3)."""


class StrictResponse(http.client.HTTPResponse):
    """A response that is parsed by the rules of RFC 9112.

    Args:
        sock: where it comes from.
        stall_seconds: without a complete head, after which the answer is given up; an interim
            answer allows as many more.
        deadline: by the monotonic clock, by which the head must have come in any case.

    Attributes:
        reader: reads the socket.
        transfer_codings: what is to be undone of the body, outermost last.
        is_delimited: whether the answer says where its body ends.
    """

    def __init__(
        self, sock: socket.socket, *, stall_seconds: float, deadline: float, **more: Any
    ) -> None:
        super().__init__(sock, **more)
        self.fp.close()
        self.reader = TimedReader(sock, stall_seconds)
        self.reader.deadline = min(self.reader.deadline, deadline)
        self.fp = io.BufferedReader(self.reader, 64 << 10)
        self.transfer_codings: tuple[str, ...] = ()
        self.is_delimited = True
        self._stall_seconds = stall_seconds
        self._last_moment = deadline

    def begin(self) -> None:  # a loop around the library's own, which knows the format
        """Read the head, and skip interim responses (RFC 9110, 15.2).

        Raises:
            http.client.RemoteDisconnected: the connection ended before the head did.
            FramingError: it cannot be told where the body ends, or the head has no end.
        """
        file = self.fp
        lines: Any = _HeadLines(file)
        self.fp = lines
        try:
            while True:
                self._begin_one(lines)
                if not 100 <= self.status < 200 or self.status == 101:
                    break
                # The library forgets one kind of interim answer by itself, and takes others for
                # the answer.
                self.headers = self.msg = None  # type: ignore[assignment]
                self.reader.allow(self._stall_seconds)
                self.reader.deadline = min(self.reader.deadline, self._last_moment)
        finally:
            # An answer without a body has closed its file now.
            self.fp = file if self.fp is lines else self.fp
        if self.status == 101:
            raise FramingError("an answer 101 that was not asked for")
        self._read_framing()

    def _begin_one(self, lines: _HeadLines) -> None:
        try:
            super().begin()
        except http.client.BadStatusLine:
            if lines.last.endswith(b"\n") or not lines.last.startswith(b"HTTP/"[: len(lines.last)]):
                raise  # it did not break off, or was no HTTP at all
        if lines.last not in _LINE_ENDS:
            raise http.client.RemoteDisconnected("the connection ended within a head")

    def _read_framing(self) -> None:
        """Determine the length of the body (RFC 9112, 6.1 to 6.3)."""
        if self.status in (204, 304) or self._method == "HEAD":  # type: ignore[attr-defined]
            return
        codings = _listed(self.headers.get_all("Transfer-Encoding"))
        if codings and codings != ["identity"]:  # that meant nothing (RFC 2616, 3.6)
            *inner, last = codings
            chunked = last == "chunked"
            packed = inner if chunked else codings
            if not _PACKED.issuperset(packed) or len(packed) > 1:
                raise FramingError(f"the transfer coding {', '.join(codings)[:60]}")
            self.transfer_codings = tuple(packed)
            self.chunked = chunked
            self.chunk_left = None
            self.length = None
            if not chunked:
                self.will_close = True
                self.is_delimited = False
            return
        lengths = set(_listed(self.headers.get_all("Content-Length")))
        if not lengths:
            self.is_delimited = False
        elif len(lengths) > 1 or not _LENGTH.fullmatch(next(iter(lengths))):
            raise FramingError("a Content-Length that is not a number")

    def _read_next_chunk_size(self) -> int:
        """Parse a chunk size strictly (RFC 9112, 7.1); the library takes signs and underscores."""
        line = self.fp.readline(_MAX_LINE_BYTES + 1)
        if not line.endswith(b"\n"):
            raise http.client.IncompleteRead(b"")
        size = line.partition(b";")[0].strip()
        if not _CHUNK_SIZE.fullmatch(size):
            raise http.client.IncompleteRead(
                b""
            )  # garbled on the way, more often than at its place
        return int(size, 16)

    def _read_and_discard_trailer(self) -> None:
        """Skip the trailers (RFC 9112, 7.1.2)."""
        for _ in range(_MAX_TRAILER_LINES):
            if self.fp.readline(_MAX_LINE_BYTES + 1) in (*_LINE_ENDS, b""):
                return
        raise FramingError("endless trailers")


# The longest line that the library reads in a head.
_MAX_LINE_BYTES = 65536


def _listed(fields: list[str] | None) -> list[str]:
    """Parse fields that contain lists (RFC 9110, 5.6.1), in lower case."""
    return [each.strip().lower() for field in fields or () for each in field.split(",")]


class _HeadLines:
    """A file for reading heads: it keeps the last line, and limits their number."""

    def __init__(self, file: Any) -> None:
        self._file = file
        self._lines = 0
        self._heads = 0
        self.last = b""

    def readline(self, *sizes: int) -> bytes:
        """Read a line."""
        self.last = self._file.readline(*sizes)
        self._lines += 1
        self._heads += self.last.startswith(b"HTTP/")
        if self._lines > _MAX_HEAD_LINES or self._heads > _MAX_INTERIM_RESPONSES + 1:
            raise FramingError("endless interim answers")
        return self.last

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)
