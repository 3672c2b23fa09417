"""Record exchanges as sent and received."""

from __future__ import annotations

import tempfile
import threading
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, BinaryIO, cast
from urllib.parse import urlsplit

from willow_cart.addresses import host_of
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value
from willow_cart.units import read_count

if TYPE_CHECKING:
    from willow_cart.protocols.http.http_response import StrictResponse

Fields = Sequence[tuple[str, str]]

# Larger bodies wait on the disk until they are complete.
_MAX_MEMORY_BYTES = 1 << 20

# What requests may say openly; everything else may be a credential.
_OPEN = frozenset(
    "accept accept-encoding host if-modified-since if-none-match if-range range user-agent".split()
)
_SECRET_ANSWERS = frozenset(("set-cookie", "set-cookie2"))
_HIDDEN = "***"


class Exchange(Value):
    """A request and its response, without credentials.

    Attributes:
        address: what was requested.
        target: of the request line (RFC 9112, 3.2).
        asked: the request's fields.
        protocol: of the answer, such as `HTTP/1.1`.
        status: the answer's, with its reason phrase.
        fields: the answer's fields, in their order.
        body: the answer's, with the framing of its transfer coding if it has one; at its beginning.
        is_whole: whether it came to its end.
        moment: the time when the answer began, in UTC.
    """

    method: str
    address: str
    target: str
    asked: Fields
    protocol: str
    status: str
    fields: Fields
    body: BinaryIO
    is_whole: bool
    moment: datetime


class ExchangeRecorder:
    """Records each exchange when its response is complete.

    Args:
        tell: called with each, one after the other.
    """

    def __init__(self, tell: Callable[[Exchange], None]) -> None:
        self._tell = tell
        self._lock = threading.Lock()
        self._open: dict[int, _Overheard] = {}

    def overhear(
        self, answer: StrictResponse, method: str, address: str, fields: Mapping[str, str]
    ) -> None:
        """Record the body of a response from now on."""
        line: Any = answer  # whose file is the only place where bytes are as sent
        shown = without_secrets(address)
        parts = urlsplit(shown)
        heard = _Overheard(
            line.fp,
            {
                "method": method,
                "address": shown,
                "target": f"{parts.path}?{parts.query}" if parts.query else parts.path,
                "asked": [("Host", host_of(shown)), *_openly(fields)],
                "protocol": f"HTTP/{answer.version // 10}.{answer.version % 10}",
                "status": f"{answer.status} {answer.reason or ''}".rstrip(),
                "fields": [
                    (name, _HIDDEN if name.lower() in _SECRET_ANSWERS else value)
                    for name, value in line.fields.pairs
                ],
                "moment": datetime.now(UTC),
            },
            self._ended,
        )
        with self._lock:
            self._open[id(heard)] = heard
        if line.fp is None:
            heard.end()  # without a body
        else:
            line.fp = heard

    def end(self) -> None:
        """Record the exchanges that are not complete."""
        for heard in list(self._open.values()):
            heard.end()

    def _ended(self, heard: _Overheard, exchange: Exchange) -> None:
        with self._lock:
            if self._open.pop(id(heard), None) is not None:
                self._tell(exchange)


class _Overheard:
    """A connection's file that keeps a copy of everything read."""

    def __init__(
        self,
        file: Any,
        facts: dict[str, Any],
        ended: Callable[[_Overheard, Exchange], None],
    ) -> None:
        self._file = file
        self._facts = facts
        self._ended = ended
        self._kept = tempfile.SpooledTemporaryFile(_MAX_MEMORY_BYTES)  # noqa: SIM115  # outlives this
        self._is_over = False

    def read(self, *sizes: int) -> bytes:
        """Read bytes."""
        return self._keep(self._file.read(*sizes))

    def read1(self, *sizes: int) -> bytes:
        """Read available bytes."""
        return self._keep(self._file.read1(*sizes))

    def readline(self, *sizes: int) -> bytes:
        """Read a line of the chunk framing."""
        return self._keep(self._file.readline(*sizes))

    def readinto(self, buffer: memoryview) -> int:
        """Read into a buffer."""
        count: int = self._file.readinto(buffer)
        self._keep(bytes(memoryview(buffer)[:count]))
        return count

    def close(self) -> None:
        """Record the end of the response, complete or not."""
        self._file.close()
        self.end()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)

    def _keep(self, data: bytes) -> bytes:
        self._kept.write(data)
        return data

    def end(self) -> None:
        """Pass the exchange on, as far as it was received."""
        if self._is_over:
            return
        self._is_over = True
        size = self._kept.tell()
        self._kept.seek(0)
        exchange = Exchange(
            body=cast(BinaryIO, self._kept), is_whole=self._is_whole(size), **self._facts
        )
        self._ended(self, exchange)
        self._kept.close()

    def _is_whole(self, size: int) -> bool:
        """Whether a body is complete (RFC 9112, 6.3 and 8)."""
        fields = {name.lower(): value for name, value in self._facts["fields"]}
        if self._facts["method"] == "HEAD" or self._facts["status"][:3] in ("204", "304"):
            return True
        if "chunked" in fields.get("transfer-encoding", "").lower():
            self._kept.seek(max(0, size - 5))
            is_whole = self._kept.read() == b"0\r\n\r\n"
            self._kept.seek(0)
            return is_whole
        length = read_count(fields.get("content-length", ""))
        return length is None or size >= length


def _openly(fields: Mapping[str, str]) -> Fields:
    return [(name, value if name.lower() in _OPEN else _HIDDEN) for name, value in fields.items()]
