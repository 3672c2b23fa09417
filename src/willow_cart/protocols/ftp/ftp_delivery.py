"""Data received over an FTP data connection: a file, or the lines of a listing."""

from __future__ import annotations

import ftplib
import socket
import ssl
from collections.abc import Generator, Iterator
from contextlib import suppress
from typing import TYPE_CHECKING

from willow_cart.errors import ConnectionLost, said_in
from willow_cart.model import Metadata
from willow_cart.protocols.base import CHUNK, Download, Resumability
from willow_cart.protocols.ftp.ftp_connection import Connection
from willow_cart.protocols.ftp.ftp_errors import FOREIGN
from willow_cart.redaction import without_secrets

if TYPE_CHECKING:
    from willow_cart.protocols.ftp.ftp_pool import FtpConnections


class FtpDownload(Download):
    """A file that is received over a data connection.

    Args:
        pool: of the connection.
        connection: the control connection.
        data: the data connection.
        facts: what is known of the file.
        start: its first byte.
        joining: how its parts join.
    """

    def __init__(
        self,
        pool: FtpConnections,
        connection: Connection,
        data: socket.socket,
        facts: Metadata,
        start: int,
        *,
        joining: Resumability,
    ) -> None:
        self.facts = facts
        self.start = start
        self.joining = joining
        self._pool = pool
        self._connection: Connection | None = connection
        self._data = data
        self._left = None if facts.length is None else facts.length - start
        self._ended = False

    def read(self) -> bytes:
        """Return the bytes of one receive call.

        With the last byte the server has to say that it was all (RFC 959, 5.4), which makes the
        control connection free for the next file.
        """
        if self._ended or self._connection is None:
            return b""
        try:
            piece = self._data.recv(CHUNK)
            if self._left is not None:
                self._left -= len(piece)
                if self._left < 0:
                    self._pool.note_surplus(self.facts.address)
            if piece and self._left != 0:
                return piece
            if piece and (extra := self._data.recv(CHUNK)):
                self._pool.note_surplus(self.facts.address)
                return piece + extra  # more than it has said, which the reader will not take
            self._end(self._connection)
        except (ftplib.error_temp, ftplib.error_perm) as error:
            raise ConnectionLost(
                without_secrets(self.facts.address),
                f"the server ended the transfer: {said_in(error)}",
                "try again",
            ) from error
        except FOREIGN as error:
            raise self._pool.translate(error, self.facts.address) from error
        return piece

    def _end(self, connection: Connection) -> None:
        """Close the data connection, and wait for the reply that confirms the transfer."""
        if isinstance(self._data, ssl.SSLSocket):
            with suppress(OSError):
                self._data.unwrap()
        self._data.close()
        connection.voidresp()
        self._ended = True

    def close(self) -> None:
        """Return the connection after a whole file; close it in the middle of one."""
        connection, self._connection = self._connection, None
        self._data.close()
        if connection is None:
            return
        if self._ended:
            self._pool.release(self.facts.address, connection)
        else:
            self._pool.drop(self.facts.address, connection)


class ListingLines:
    """The lines of a listing as ISO 8859-1.

    Args:
        pieces: the bytes, in pieces; closed when enough of them have come.
        most: bytes that are read.

    Attributes:
        is_cut: whether there were more.
    """

    def __init__(self, pieces: Generator[bytes, None, None], most: int) -> None:
        self._pieces = pieces
        self._most = most
        self.is_cut = False

    def __iter__(self) -> Iterator[str]:
        rest = b""
        received = 0
        for piece in self._pieces:
            received += len(piece)
            *lines, rest = (rest + piece).split(b"\n")
            for line in lines:
                yield line.rstrip(b"\r").decode("latin-1")
            if received > self._most:
                self.is_cut = True
                self._pieces.close()
                return
        if rest:
            yield rest.rstrip(b"\r").decode("latin-1")
