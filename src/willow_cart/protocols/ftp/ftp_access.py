"""FTP and FTPS (RFC 959, 1738, 2428, 3659, 4217) through the standard library's ftplib.

`ftp://` is plain. `ftps://` is secured: on port 990 from the first byte, on any other by AUTH TLS;
where the server does not answer to that, the other way is tried.
"""

from __future__ import annotations

import ftplib
import socket
import ssl
import time
from collections import deque
from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import quote, unquote_to_bytes, urlsplit

from willow_cart.addresses import scheme_of
from willow_cart.defaults import CONNECT_SECONDS, STALL_SECONDS
from willow_cart.errors import (
    ConnectionLost,
    NotServed,
    ProtocolError,
    TransferFailed,
    said_in,
)
from willow_cart.model import Metadata, Validators
from willow_cart.protocols.base import (
    CHUNK,
    MAX_DOCUMENT_BYTES,
    MAX_SMALL_BYTES,
    Access,
    DirectoryEntry,
    DirectoryLister,
    Download,
    FolderEntries,
    Lister,
    Resumability,
    SmallAnswer,
    SmallRequest,
    Unchanged,
    WholeDownload,
    joining_by_time,
    readable_name,
    too_long,
)
from willow_cart.protocols.ftp.ftp_connection import FOREIGN, Connection
from willow_cart.protocols.ftp.ftp_listing import (
    Line,
    NotUnderstoodLine,
    parse_fact_line,
    parse_list_line,
    parse_timestamp,
)
from willow_cart.protocols.ftp.ftp_pool import FtpConnections
from willow_cart.protocols.sockets import RequestPacer
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.origins import NamedOrigins
from willow_cart.sign_in.sign_ins import SignIns
from willow_cart.sign_in.trust import ContextFor, TlsContexts, Trust
from willow_cart.structs import replace
from willow_cart.units import count_of, printable, read_count

if TYPE_CHECKING:
    from willow_cart.protocols.router import AccessSettings


# Connections that small files are fetched over by one thread; more bring nothing.
_MOST_AT_ONCE = 4


class _Fetching(NamedTuple):
    """A small file that is being fetched.

    Attributes:
        place: the index of its address.
        steps: each ends when a command has been sent.
    """

    place: int
    address: str
    connection: Connection
    steps: Generator[None, None, SmallAnswer]


class FtpDownload(Download):
    """A file that is received over a data connection.

    Args:
        pool: of the connection.
        connection: the control connection.
        data: the data connection.
        facts: the metadata of the file.
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
                return piece + extra  # more than it announced, which the reader will not take
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


def connect(settings: AccessSettings) -> FtpAccess:
    """Build the access to FTP servers from the settings."""
    return FtpAccess(
        sign_ins=settings.sign_ins,
        active=settings.connecting.active,
        context_for=TlsContexts(settings.trust, settings.sign_ins.origins),
        stall_after=settings.pace.stall_after,
        longest=settings.pace.time_per_file,
        largest_listing=settings.connecting.largest_listing,
        pacer=settings.pacer,
    )


class FtpAccess(Access, DirectoryLister):
    """Access to FTP servers.

    Args:
        sign_ins: the credentials for each origin; without one, access is anonymous.
        connect_after: seconds after which a connection that is not made is given up.
        stall_after: seconds without a byte after which a connection is given up.
        longest: seconds after which a listing is given up; None for `document_seconds` as usual.
        largest_listing: bytes of a listing that are read.
        pacer: keeps gaps between requests; None for no gaps.
        active: whether servers connect to us for data.
        context_for: the TLS context for an origin; None trusts whom the system trusts.
        now: the clock that dates without a year are placed by.
        clock: a monotonic clock in seconds.
    """

    def __init__(
        self,
        *,
        sign_ins: SignIns | None = None,
        connect_after: float = CONNECT_SECONDS,
        stall_after: float = STALL_SECONDS,
        longest: float | None = None,
        largest_listing: int = MAX_DOCUMENT_BYTES,
        pacer: RequestPacer | None = None,
        active: bool = False,
        context_for: ContextFor | None = None,
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._clock = clock
        self._stall_after = stall_after if longest is None else min(stall_after, longest)
        if longest is not None:
            self.document_seconds = longest
        self._largest_listing = largest_listing
        self._now = now
        self._active = active
        self._pool = FtpConnections(
            sign_ins=SignIns() if sign_ins is None else sign_ins,
            connect_after=connect_after,
            stall_after=self._stall_after,
            pacer=pacer,
            active=active,
            context_for=context_for or TlsContexts(Trust(), NamedOrigins()),
            clock=clock,
        )

    # The seam

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Request a file; its size and date are requested first, and identify its version.

        The protocol knows where to begin (RFC 3659, 5), but not where to end.
        """
        self._pool.wait_turn(address)
        connection = self._pool.take(address)
        try:
            facts = self._facts(connection, address)
            same = validators is not None and facts.validators == validators and bool(validators)
            if same and not start and end is None:
                self._pool.release(address, connection)
                return Unchanged(facts)
            begin = start if same or (start and validators is None) else 0
            if self._pool.is_doubtful(address):
                begin = 0
                connection.use_bytes(again=True)
            try:
                data = connection.open_data(f"RETR {_name_of(address)}", begin)
            except ftplib.error_perm:
                if not begin:
                    raise
                # REST is not known there (RFC 3659, 5.3): the whole, then.
                begin = 0
                data = connection.open_data(f"RETR {_name_of(address)}")
            data.settimeout(self._stall_after)
            joining = joining_by_time(facts, self._now())
            return FtpDownload(self._pool, connection, data, facts, begin, joining=joining)
        except BaseException as error:
            self._pool.drop(address, connection)
            if isinstance(error, FOREIGN):
                raise self._pool.translate(error, address) from error
            raise

    def fetches_small(self, address: str) -> bool:
        """Whether an address is plain FTP, and its server connects to none for data."""
        return scheme_of(address) == "ftp" and not (self._active or self._pool.is_doubtful(address))

    def fetch_small(
        self, asked: Sequence[SmallRequest], at_once: int, is_wanted: Callable[[], bool]
    ) -> Iterator[tuple[int, SmallAnswer]]:
        """Request small files of one host; see `Access.fetch_small`.

        Commands go to several connections in turn: while one server process works, the reply of
        another is read.
        """
        waiting = deque(enumerate(asked))
        going: deque[_Fetching] = deque()
        most = min(at_once, _MOST_AT_ONCE)
        try:
            while is_wanted():
                while waiting and len(going) < most:
                    place, request = waiting.popleft()
                    if (begun := self._begin(place, request)) is None:
                        most = len(going)  # the ordinary way reports why
                    else:
                        going.append(begun)
                if not going:
                    return
                fetching = going.popleft()
                try:
                    next(fetching.steps)
                except StopIteration as end:
                    self._pool.release(fetching.address, fetching.connection)
                    yield fetching.place, end.value
                except (ftplib.error_perm, ProtocolError):
                    self._pool.release(fetching.address, fetching.connection)
                    yield fetching.place, None
                except FOREIGN:
                    self._pool.drop(fetching.address, fetching.connection)
                    most = len(going)  # it may be busy; requests in flight still complete
                else:
                    going.append(fetching)
        finally:
            for each in going:
                self._pool.drop(each.address, each.connection)

    def _begin(self, place: int, asked: SmallRequest) -> _Fetching | None:
        """Return a fetching before its first step; None without a connection for it."""
        try:
            connection = self._pool.take(asked.address, 0.0)
        except TransferFailed:
            return None
        return _Fetching(place, asked.address, connection, self._steps(connection, asked))

    def _steps(
        self, connection: Connection, asked: SmallRequest
    ) -> Generator[None, None, SmallAnswer]:
        began = self._clock()
        name = _name_of(asked.address)
        connection.go_to(_folders_of(asked.address))
        length, stamp = yield from connection.measure_step_by_step(name)
        facts = _facts_of(asked.address, length, stamp)
        if asked.held and facts.validators == asked.held:
            return Unchanged(facts)
        if length is None or length > MAX_SMALL_BYTES or not stamp:
            return None
        content = yield from connection.fetch_step_by_step(name, length)
        if content is None:
            return None
        download = WholeDownload(facts, content)
        download.spent = self._clock() - began
        return download

    def ask(self, address: str) -> Metadata:
        """Request the size and date of a file."""
        with self._pool.lend(address) as connection:
            facts = self._facts(connection, address)
            if facts.length is None and not facts.validators:
                raise NotServed(
                    without_secrets(address), "no such file", "check the address", status=550
                )
            return facts

    def lister(self, address: str, *, webdav: bool = False) -> Lister | None:
        """Return this object."""
        return super().lister(address, webdav=True) if webdav else self

    def abort(self) -> None:
        """End every exchange; see `Access.abort`."""
        self._pool.abort()

    def close(self) -> None:
        """Send QUIT on every connection."""
        self._pool.close()

    # The directory

    def find(self, address: str) -> DirectoryEntry | None:
        """Return the entry for an address: a folder if CWD succeeds, else a file."""
        with self._pool.lend(address) as connection:
            bare = address.rstrip("/")
            if bare.count("/") < 3:
                return DirectoryEntry(f"{bare}/")
            try:
                connection.go_to((*_folders_of(bare), _name_of(bare)))
                return DirectoryEntry(f"{bare}/")
            except ftplib.error_perm:
                pass
            try:
                facts = self._facts(connection, bare)
            except ftplib.error_perm:
                return None
            if facts.length is not None or facts.validators:
                return DirectoryEntry(bare, facts.length, facts.modified)
            # A server that knows neither SIZE nor MDTM still lists.
            found, _ = self._lines(connection, _folders_of(bare))
            lines = {line.name: line for line in found}
            line = lines.get(_name_of(bare))
            return DirectoryEntry(bare, line.size, line.modified) if line else None

    def entries(self, folder: str) -> FolderEntries:
        """List a folder, sorted by name, because servers list in any order."""
        with self._pool.lend(folder) as connection:
            entries = []
            lines, problems = self._lines(connection, _folders_of(folder))
            for line in sorted(lines, key=lambda line: line.name):
                address = folder + quote(line.name.encode("latin-1"), safe="~")
                if line.kind == "link":
                    line = self._resolve(connection, folder, line)  # noqa: PLW2901
                if line.kind == "folder":
                    entries.append(DirectoryEntry(f"{address}/", None, line.modified))
                else:
                    name = readable_name(line.name.encode("latin-1"))
                    entries.append(DirectoryEntry(address, line.size, line.modified, name))
            return FolderEntries(entries, tuple(problems))

    def _lines(
        self, connection: Connection, folders: tuple[str, ...]
    ) -> tuple[list[Line], list[str]]:
        """Return the names in a folder, and problems with the listing."""
        connection.go_to(folders)
        if connection.knows("MLST") or connection.knows("MLSD"):
            try:
                return self._read(connection, "MLSD", parse_fact_line)
            except ftplib.error_perm:
                pass  # announced but not implemented
        now = self._now()
        return self._read(connection, "LIST", lambda line: parse_list_line(line, now))

    def _read(
        self, connection: Connection, command: str, parse: Callable[[str], Line | None]
    ) -> tuple[list[Line], list[str]]:
        """Send a listing command and parse its lines, up to the maximum size."""
        found: list[Line] = []
        strange: list[str] = []
        for line in (lines := ListingLines(self._list(connection, command), self._largest_listing)):
            try:
                read = parse(line)
            except NotUnderstoodLine:
                strange.append(line)
                continue
            if read is not None and read.name not in (".", ".."):
                found.append(read)
        problems = []
        if strange:
            example = printable(readable_name(strange[0].encode("latin-1")) or strange[0])[:80]
            problems.append(
                f"{count_of(len(strange), 'line')} of the listing not understood, such as"
                f" {example!r}; files may be missing"
            )
        if lines.is_cut:
            problems.append(too_long(self._largest_listing))
        return found, problems

    def _list(self, connection: Connection, command: str) -> Generator[bytes, None, None]:
        """Yield the bytes of a listing; if the caller stops early, close the data connection."""
        data = connection.open_data(command)
        data.settimeout(self._stall_after)
        until = self._clock() + self.document_seconds
        with data:
            try:
                while piece := data.recv(CHUNK):
                    yield piece
                    if self._clock() > until:
                        raise TimeoutError("timed out")
            except GeneratorExit:
                data.close()
                with suppress(ftplib.error_temp, ftplib.error_perm):
                    connection.voidresp()  # it states that it could not send the rest
                raise
            if isinstance(data, ssl.SSLSocket):
                with suppress(OSError):
                    data.unwrap()
        connection.voidresp()

    def _resolve(self, connection: Connection, folder: str, line: Line) -> Line:
        """Find out whether a link leads to a folder or to a file."""
        try:
            connection.go_to((*_folders_of(folder), line.name))
            return replace(line, kind="folder")
        except ftplib.error_perm:
            connection.go_to(_folders_of(folder))
            return replace(line, kind="file", size=_size(connection, line.name))

    def _facts(self, connection: Connection, address: str) -> Metadata:
        """Return the size and date of a file (RFC 3659, 3 and 4), which identify its version.

        That files are counted and sent byte by byte is said here, for SIZE and for the RETR that
        follows it.
        """
        connection.go_to(_folders_of(address))
        name = _name_of(address)
        connection.use_bytes(again=self._pool.is_doubtful(address))
        size = _size(connection, name)
        stamp = ""
        with suppress(ftplib.error_perm):
            stamp = connection.sendcmd(f"MDTM {name}").partition(" ")[2].strip()
        return _facts_of(address, size, stamp)


def _facts_of(address: str, size: int | None, stamp: str) -> Metadata:
    """Return what the replies to SIZE and MDTM say of a file."""
    modified = parse_timestamp(stamp)
    mark = f'"{size}-{stamp}"' if modified is not None and size is not None else None
    return Metadata(address, size, Validators(entity_tag=mark), modified)


def _size(connection: Connection, name: str) -> int | None:
    for again in (False, True):  # servers that fell back to text refuse SIZE
        connection.use_bytes(again=again)
        with suppress(ftplib.error_perm):
            return read_count(connection.sendcmd(f"SIZE {name}").partition(" ")[2].strip())
    return None


def _folders_of(address: str) -> tuple[str, ...]:
    """Return the folders in the path of an address.

    Each character stands for a byte.
    """
    path = urlsplit(address).path.lstrip("/").rpartition("/")[0]
    return tuple(_as_sent(segment) for segment in path.split("/")) if path else ()


def _name_of(address: str) -> str:
    return _as_sent(urlsplit(address).path.rpartition("/")[2])


def _as_sent(segment: str) -> str:
    """Decode a segment of an address for use in an FTP command.

    Raises:
        ProtocolError: it holds a line break, which would be a command of its own.
    """
    text = unquote_to_bytes(segment).decode("latin-1")
    if "\r" in text or "\n" in text or "\0" in text:
        raise ProtocolError(segment, "contains a line break, which FTP cannot send", "leave it out")
    return text
