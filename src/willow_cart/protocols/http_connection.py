"""HTTP connections with strict parsing and time limits.

The standard library takes the end of a connection for the end of a head, skips one kind of interim
answer, and reads numbers as Python does. An answer that broke off in its head, or whose framing
cannot be understood, would be filed as something else than what was sent.
"""

from __future__ import annotations

import http.client
import io
import re
import socket
import ssl
import time
from typing import Any

from urllib3.connection import HTTPConnection, HTTPSConnection
from urllib3.connectionpool import HTTPConnectionPool, HTTPSConnectionPool
from urllib3.exceptions import ConnectTimeoutError, NameResolutionError, NewConnectionError

from willow_cart.protocols.sockets import SocketGuard, TimedReader

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


class _Supervised:
    """The common part of plain and TLS connections.

    Args:
        supervision: who supervises the socket, and how long an answer may take: the guard, the
            host whose turn a request waits for, and the seconds of `supervise`.
    """

    host: str
    port: int
    sock: Any
    timeout: Any
    _dns_host: str

    def __init__(
        self, *arguments: Any, supervision: tuple[SocketGuard, str, float, float], **more: Any
    ) -> None:
        super().__init__(*arguments, **more)
        self._guard, self._origin_host, self._stall_seconds, self._longest_seconds = supervision
        self._deadline = float("inf")

    def request(self, *arguments: Any, **more: Any) -> None:
        """Send a request when it is the host's turn."""
        if self.sock is None:
            self.connect()  # type: ignore[attr-defined]  # the library's class has it
        if isinstance(self.sock, ssl.SSLSocket):
            # RFC 9112, 9.8: a connection that is cut is not one that has ended.
            self.sock.suppress_ragged_eofs = False  # type: ignore[attr-defined]
            self._guard.watch(self.sock)
        self._guard.wait_turn(self._origin_host)
        self._deadline = time.monotonic() + self._longest_seconds
        super().request(*arguments, **more)  # type: ignore[misc]

    def response_class(self, sock: socket.socket, **more: Any) -> StrictResponse:
        """Create the response."""
        return StrictResponse(
            sock, stall_seconds=self._stall_seconds, deadline=self._deadline, **more
        )

    def _new_conn(self) -> socket.socket:
        """Connect in a way that can be interrupted, with the errors of the library's method."""
        whom: Any = self
        try:
            sock = self._guard.connect((self._dns_host, self.port), self.timeout)
        except socket.gaierror as error:
            raise NameResolutionError(self.host, whom, error) from error
        except TimeoutError as error:
            raise ConnectTimeoutError(self, f"{self.host} timed out") from error
        except OSError as error:
            raise NewConnectionError(whom, f"no connection: {error}") from error
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        return sock


class _Connection(_Supervised, HTTPConnection):  # type: ignore[misc]
    pass


class _SecureConnection(_Supervised, HTTPSConnection):  # type: ignore[misc]
    pass


def supervise(
    pool: HTTPConnectionPool,
    guard: SocketGuard,
    origin_host: str,
    *,
    stall_seconds: float,
    longest_seconds: float | None,
) -> None:
    """Make the connections of a pool parse strictly and respect time limits.

    Args:
        pool: the library's connections to one origin.
        guard: supervises the sockets.
        origin_host: whose turn each request has to wait for.
        stall_seconds: within which a head, or some of a body, must come.
        longest_seconds: within which a head must come in all; None for no limit.
    """
    is_secure = isinstance(pool, HTTPSConnectionPool)
    pool.ConnectionCls = _SecureConnection if is_secure else _Connection
    longest = float("inf") if longest_seconds is None else longest_seconds
    pool.conn_kw["supervision"] = (guard, origin_host, stall_seconds, longest)


def answer_of(response: Any) -> StrictResponse | None:
    """Return the library's response object beneath a response."""
    answer = response._original_response  # noqa: SLF001  # without a public accessor
    return answer if isinstance(answer, StrictResponse) else None
