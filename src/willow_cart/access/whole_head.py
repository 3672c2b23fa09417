"""Answers whose heads came to their ends: what breaks off in a head has said nothing.

The standard library takes the end of a connection for the end of a head. An answer that broke off
in the midst of its fields would be one of no length, or of a length whose last digits are missing,
and an empty or a short file would be taken for the whole.
"""

from __future__ import annotations

import http.client
from typing import Any

from urllib3.connection import HTTPConnection, HTTPSConnection
from urllib3.connectionpool import HTTPConnectionPool, HTTPSConnectionPool

_ENDS = (b"\r\n", b"\n")


class WholeHead(http.client.HTTPResponse):
    """An answer of which a head without its last, empty line is none (RFC 9112, 2.1 and 8)."""

    def begin(self) -> None:
        """Read the head.

        Raises:
            http.client.RemoteDisconnected: the connection ended before it did.
        """
        file = self.fp
        lines: Any = _LastLine(file)
        self.fp = lines
        try:
            super().begin()
        except http.client.BadStatusLine:
            if lines.last.endswith(b"\n") or not lines.last.startswith(b"HTTP/"[: len(lines.last)]):
                raise  # it did not break off, or was never one
        finally:
            # An answer without a body has let go of it by now.
            self.fp = file if self.fp is lines else self.fp
        if lines.last not in _ENDS:
            raise http.client.RemoteDisconnected("the connection ended in the midst of a head")


class _LastLine:
    """A file that remembers the last line that was read from it."""

    def __init__(self, file: Any) -> None:
        self._file = file
        self.last = b""

    def readline(self, *sizes: int) -> bytes:
        """Read a line."""
        self.last = self._file.readline(*sizes)
        return self.last

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


class _Connection(HTTPConnection):
    response_class = WholeHead


class _SecureConnection(HTTPSConnection):
    response_class = WholeHead


def ask_for_whole_heads(pool: HTTPConnectionPool) -> None:
    """Have every connection of a pool take only answers with whole heads."""
    is_secure = isinstance(pool, HTTPSConnectionPool)
    pool.ConnectionCls = _SecureConnection if is_secure else _Connection
