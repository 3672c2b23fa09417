"""HTTP responses with strict parsing and time limits.

The standard library takes the end of a connection for the end of a head, skips one kind of interim
answer, and reads numbers as Python does. An answer that broke off in its head, or whose framing
cannot be understood, would be filed as something else than what was sent.
"""

from __future__ import annotations

import http.client
import io
import re
import zlib
from collections.abc import Callable, Iterator, KeysView, Mapping, Sequence
from typing import Any, BinaryIO, cast

from willow_cart.protocols.sockets import TimedReader

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


_LINE_ENDS = (b"\r\n", b"\n")

# Interim answers before one that counts. Servers send one or two; the rest is a fault or an attack.
MAX_INTERIM_RESPONSES = 20

# Fields in a head, and lines in trailers.
_MAX_FIELDS = 100
_MAX_TRAILER_LINES = 100

# RFC 9112, 4; servers leave out the reason, and the space before it.
_STATUS_LINE = re.compile(r"HTTP/(\d)(?:\.(\d))? +([1-9]\d\d)(?:[ \t](.*))?")

# As many digits as fit in 64 bits; longer ones are no lengths, and cost time to read.
_LENGTH = re.compile(r"[0-9]{1,18}")
_CHUNK_SIZE = re.compile(rb"[0-9A-Fa-f]{1,16}")

# Transfer codings that are undone (RFC 9112, 7).
_PACKED = frozenset({"gzip", "x-gzip", "deflate"})


class FramingError(http.client.HTTPException):
    """A response of undefined length (RFC 9112, 6.3)."""


class Fields(Mapping[str, str]):
    """The fields of a response, by names in any case; repeated ones are joined (RFC 9110, 5.3).

    Args:
        pairs: names and values, in their order.

    Attributes:
        pairs: as they came.
    """

    def __init__(self, pairs: Sequence[tuple[str, str]]) -> None:
        self.pairs = pairs
        self._values: dict[str, list[str]] = {}
        for name, value in pairs:
            self._values.setdefault(name.lower(), []).append(value)

    def __getitem__(self, name: str) -> str:
        return ", ".join(self._values[name.lower()])

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and name.lower() in self._values

    def get(self, name: str, default: Any = None) -> Any:
        """Return the value of a field, or something else if it is missing."""
        values = self._values.get(name.lower())
        if values is None:
            return default
        return values[0] if len(values) == 1 else ", ".join(values)

    def all_of(self, name: str) -> list[str]:
        """Return the values of a field that is not a list, such as Set-Cookie."""
        return self._values.get(name.lower(), [])

    def listed(self, name: str) -> list[str]:
        """Return the members of a list (RFC 9110, 5.6.1), in lower case."""
        return [each.strip().lower() for value in self.all_of(name) for each in value.split(",")]

    def keys(self) -> KeysView[str]:
        """Return the names, in lower case."""
        return self._values.keys()

    def __iter__(self) -> Iterator[str]:
        return iter(self._values)

    def __len__(self) -> int:
        return len(self._values)


class KeptFile(io.BufferedReader):
    """The file of a connection, which stays open for its next response.

    Args:
        reader: reads the socket.

    Attributes:
        reader: reads the socket.
    """

    def __init__(self, reader: TimedReader) -> None:
        super().__init__(reader, 64 << 10)
        self.reader = reader

    def is_empty(self) -> bool:
        """Whether all that was received has been read; receives nothing itself."""
        self.reader.is_paused = True
        try:
            return not self.peek(1)
        finally:
            self.reader.is_paused = False

    def makefile(self, _mode: str) -> KeptFile:
        """Return the file; the library makes one for each response otherwise."""
        return self

    def close(self) -> None:
        """Do nothing: a response has ended, and not the connection."""

    def end(self) -> None:
        """Close the file: the connection has ended."""
        super().close()


class StrictResponse(http.client.HTTPResponse):
    """A response that is parsed by the rules of RFC 9112.

    Args:
        file: where it comes from.
        stall_seconds: without a complete head, after which the answer is given up; an interim
            answer allows as many more.
        deadline: by the monotonic clock, by which the head must have come in any case.

    Attributes:
        fields: of its head.
        reader: reads the socket.
        transfer_codings: what is to be undone of the body, outermost last.
        is_delimited: whether the answer says where its body ends.
    """

    def __init__(
        self, file: KeptFile, *, stall_seconds: float, deadline: float, **more: Any
    ) -> None:
        super().__init__(file, **more)  # type: ignore[arg-type]  # only its file is asked for
        self.reader = file.reader
        self.fields = Fields(())
        self.transfer_codings: tuple[str, ...] = ()
        self.is_delimited = True
        self._stall_seconds = stall_seconds
        self._last_moment = deadline
        self._allow()

    def _allow(self) -> None:
        self.reader.allow(self._stall_seconds)
        self.reader.deadline = min(self.reader.deadline, self._last_moment)

    def begin(self) -> None:
        """Read the head, and skip interim responses (RFC 9110, 15.2).

        Raises:
            http.client.RemoteDisconnected: the connection ended before the head did.
            http.client.HTTPException: it is no HTTP.
            FramingError: it cannot be told where the body ends, or the head has no end.
        """
        head = _HeadLines(self.fp)
        self._read_head(head)
        while 100 <= self.status < 200 and self.status != 101:
            self._allow()
            self._read_head(head)
        if self.status == 101:
            raise FramingError("an answer 101 that was not asked for")
        self.headers = self.msg = cast("http.client.HTTPMessage", self.fields)
        self._read_framing()

    def _read_head(self, head: _HeadLines) -> None:
        """Read a status line (RFC 9112, 4) and the fields that follow it."""
        line = head.read_start()
        match = _STATUS_LINE.fullmatch(line)
        if match is None:
            raise http.client.BadStatusLine(repr(line[:60]))
        self.version = 11 if match[1] == "1" and match[2] != "0" else 10
        self.code = self.status = int(match[3])
        self.reason = (match[4] or "").strip()
        self.fields = Fields(head.read_fields())

    def _read_framing(self) -> None:
        """Determine the length of the body (RFC 9112, 6.1 to 6.3)."""
        self.chunked = False
        self.chunk_left = None
        self.length = None
        self.will_close = self._check_close()  # type: ignore[attr-defined]  # the library's
        if self.status in (204, 304) or self._method == "HEAD":  # type: ignore[attr-defined]
            self.length = 0
            return
        codings = self.fields.listed("Transfer-Encoding")
        if codings and codings != ["identity"]:  # that meant nothing (RFC 2616, 3.6)
            *inner, last = codings
            self.chunked = last == "chunked"
            packed = inner if self.chunked else codings
            if not _PACKED.issuperset(packed) or len(packed) > 1:
                raise FramingError(f"the transfer coding {', '.join(codings)[:60]}")
            self.transfer_codings = tuple(packed)
        elif lengths := set(self.fields.listed("Content-Length")):
            length = lengths.pop()
            if lengths or not _LENGTH.fullmatch(length):
                raise FramingError("a Content-Length that is not a number")
            self.length = int(length)
        if not self.chunked and self.length is None:
            self.is_delimited = False
            self.will_close = True

    def _read_next_chunk_size(self) -> int:
        """Parse a chunk size strictly (RFC 9112, 7.1); the library takes signs and underscores."""
        line = self.fp.readline(_MAX_LINE_BYTES + 1)
        if not line.endswith(b"\n"):
            raise http.client.IncompleteRead(b"")
        size = line.partition(b";")[0].strip()
        if not _CHUNK_SIZE.fullmatch(size):
            raise http.client.IncompleteRead(
                b""
            )  # corrupted in transit, which is likelier than a bad original
        return int(size, 16)

    def _read_and_discard_trailer(self) -> None:
        """Skip the trailers (RFC 9112, 7.1.2)."""
        for _ in range(_MAX_TRAILER_LINES):
            self._allow()
            if self.fp.readline(_MAX_LINE_BYTES + 1) in (*_LINE_ENDS, b""):
                return
        raise FramingError("endless trailers")


# The longest line that the library reads in a head.
_MAX_LINE_BYTES = 65536


class _HeadLines:
    """Reads the lines of heads, and limits their number and length.

    Args:
        file: the connection's.
    """

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self._heads = 0

    def read_start(self) -> str:
        """Read the first line of a head."""
        self._heads += 1
        line = self._file.readline(_MAX_LINE_BYTES + 1)
        if self._heads > MAX_INTERIM_RESPONSES + 1:
            raise FramingError("endless interim answers")
        if not line.endswith(b"\n") and line.startswith(b"HTTP/"[: len(line)]):
            raise http.client.RemoteDisconnected("the connection ended within a head")
        return line.rstrip(b"\r\n").decode("latin-1")

    def read_fields(self) -> list[tuple[str, str]]:
        """Read the fields of a head (RFC 9112, 5).

        A continued line is joined to its field (5.2); a line that is not a field is skipped.
        """
        fields: list[tuple[str, str]] = []
        readline = self._file.readline
        for _ in range(_MAX_FIELDS + 1):
            line = readline(_MAX_LINE_BYTES + 1)
            if line in _LINE_ENDS:
                return fields
            if not line.endswith(b"\n"):
                if len(line) > _MAX_LINE_BYTES:
                    raise http.client.LineTooLong("field")
                raise http.client.RemoteDisconnected("the connection ended within a head")
            text = line.decode("latin-1")
            name, colon, value = text.partition(":")
            if text[0] in " \t" and fields:
                name, before = fields.pop()
                value = f"{before} {text.strip()}"
            elif not colon:
                continue
            # RFC 9112, 2.2: a carriage return by itself is a space; so is a zero (RFC 9110, 5.5).
            value = value.replace("\r\n", "").replace("\r", " ").replace("\0", " ")
            fields.append((name.rstrip(), value.strip()))
        raise http.client.HTTPException(f"more than {_MAX_FIELDS} fields")
