"""FTP and FTPS (RFC 959, 1738, 2428, 3659, 4217) through the standard library's ftplib.

`ftp://` is plain. `ftps://` is secured: on port 990 from the first byte, on any other by AUTH TLS;
where the server does not answer to that, the other way is tried.
"""

from __future__ import annotations

import errno
import ftplib
import re
import socket
import ssl
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Generator, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING
from urllib.parse import quote, unquote_to_bytes, urlsplit

from willow_cart.addresses import host_of, origin_of
from willow_cart.errors import (
    ConnectionLost,
    HostUnknown,
    NotServed,
    NotTrusted,
    ProtocolError,
    ServerBusy,
    TimedOut,
    TransferFailed,
)
from willow_cart.model import Metadata, Validators
from willow_cart.protocols.base import (
    CHUNK,
    Access,
    DirectoryEntry,
    DirectoryLister,
    Download,
    FolderEntries,
    Unchanged,
)
from willow_cart.protocols.ftp_connection import Connection, TlsRefused, begins_secured
from willow_cart.protocols.ftp_delivery import FOREIGN, FtpDownload, ListingLines
from willow_cart.protocols.ftp_listing import (
    Line,
    NotUnderstoodLine,
    parse_fact_line,
    parse_list_line,
    parse_timestamp,
)
from willow_cart.protocols.http.http_rules import HOW_TO_SIGN_IN
from willow_cart.protocols.read_all import MAX_DOCUMENT_BYTES
from willow_cart.protocols.sockets import RequestPacer, SocketGuard
from willow_cart.redaction import without_secrets
from willow_cart.schemes import SCHEMES
from willow_cart.sign_in.sign_ins import SignIns
from willow_cart.units import count_of, format_duration, format_size, printable, read_count

if TYPE_CHECKING:
    from willow_cart.protocols.router import AccessSettings

# Who has no name there says so (RFC 1635), and that this program is asking.
_ANONYMOUS = ("anonymous", "willow-cart@")

# A connection that has rested for longer may have been closed on the way, and is tried first.
_IDLE_CHECK_SECONDS = 10.0

# After this time, a host that refused a connection is asked for another one.
_LIMIT_EXPIRY_SECONDS = 60.0

# How long a connection that is in use is waited for, where the host allows no more.
_CONNECTION_WAIT_SECONDS = 2.0

# How long the greeting of a server is waited for that may be waiting for TLS itself.
_GREETING_SECONDS = 5.0

# What servers say with a 530 that is about their number of connections, and not about who asks.
_TOO_MANY = re.compile(
    r"too many|maximum|max\b|limit|already connected|simultan|connections? (?:from|exceed)",
    re.IGNORECASE,
)


@dataclass(slots=True)
class _Host:
    """The connections to one host.

    Attributes:
        idle: those that are not in use.
        open: how many there are in all.
        most: as many as the host has allowed; None while it has refused none.
        until: when that is forgotten, by the clock of the access.
        implicit: whether TLS begins with the first byte there; None while that is not known.
    """

    idle: list[Connection] = field(default_factory=list)
    open: int = 0
    most: int | None = None
    until: float = 0.0
    implicit: bool | None = None


def connect(settings: AccessSettings) -> FtpAccess:
    """Build the access to FTP servers from the settings."""
    return FtpAccess(
        sign_ins=settings.sign_ins,
        active=settings.active,
        context=settings.trust.context(),
        stall_after=settings.rules.stall_after,
        longest=settings.rules.longest,
        largest_listing=settings.largest_listing,
        pacer=settings.pacer,
    )


class FtpAccess(Access, DirectoryLister):
    """Access to FTP servers.

    Args:
        sign_ins: who is authorised where; everybody else is anonymous.
        connect_after: seconds after which a connection that is not made is given up.
        stall_after: seconds without a byte after which a connection is given up.
        longest: seconds after which a listing is given up; None for `document_seconds` as usual.
        largest_listing: bytes of a listing that are read.
        pacer: keeps gaps between requests; None for no gaps.
        active: whether servers connect to us for data.
        context: for TLS; None trusts whom the system trusts.
        now: the clock that dates without a year are placed by.
        clock: a monotonic clock in seconds.
    """

    def __init__(
        self,
        *,
        sign_ins: SignIns | None = None,
        connect_after: float = 20.0,
        stall_after: float = 60.0,
        longest: float | None = None,
        largest_listing: int = MAX_DOCUMENT_BYTES,
        pacer: RequestPacer | None = None,
        active: bool = False,
        context: ssl.SSLContext | None = None,
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._clock = clock
        self._sign_ins = sign_ins or SignIns()
        self._connect_after = connect_after
        self._stall_after = stall_after if longest is None else min(stall_after, longest)
        if longest is not None:
            self.document_seconds = longest
        self._largest_listing = largest_listing
        self._guard = SocketGuard(pacer)
        self._active = active
        self._context = context or ssl.create_default_context()
        self._now = now
        self._hosts: defaultdict[str, _Host] = defaultdict(_Host)
        self._change = threading.Condition()

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
        self._wait_turn(address)
        connection = self._take(address)
        try:
            facts = self._facts(connection, address)
            same = validators is not None and facts.validators == validators and bool(validators)
            if same and not start and end is None:
                self.release(address, connection)
                return Unchanged(facts)
            begin = start if same or (start and validators is None) else 0
            try:
                data = connection.open_data(f"RETR {_name_of(address)}", begin)
            except ftplib.error_perm:
                if not begin:
                    raise
                # REST is not known there (RFC 3659, 5.3): the whole, then.
                begin = 0
                data = connection.open_data(f"RETR {_name_of(address)}")
            data.settimeout(self._stall_after)
            return FtpDownload(self, connection, data, facts, begin)
        except BaseException as error:
            self.drop(address, connection)
            if isinstance(error, FOREIGN):
                raise self.translate(error, address) from error
            raise

    def ask(self, address: str) -> Metadata:
        """Request the size and date of a file."""
        with self._connection(address) as connection:
            facts = self._facts(connection, address)
            if facts.length is None and not facts.validators:
                raise NotServed(
                    without_secrets(address), "no such file", "check the address", status=550
                )
            return facts

    def directory(self, address: str) -> DirectoryLister:  # noqa: ARG002  # there is one for all
        """Return this object."""
        return self

    def abort(self) -> None:
        """End every exchange; see `Access.abort`."""
        self._guard.abort()
        with self._change:
            self._change.notify_all()

    def close(self) -> None:
        """Send QUIT on every connection."""
        for host in self._hosts.values():
            for connection in host.idle:
                with suppress(*FOREIGN):
                    connection.quit()
                connection.hang_up()
            host.idle.clear()

    # The directory

    def find(self, address: str) -> DirectoryEntry | None:
        """Return the entry for an address: a folder if CWD succeeds, else a file."""
        with self._connection(address) as connection:
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
        with self._connection(folder) as connection:
            entries = []
            lines, problems = self._lines(connection, _folders_of(folder))
            for line in sorted(lines, key=lambda line: line.name):
                address = folder + quote(line.name.encode("latin-1"), safe="~")
                if line.kind == "link":
                    line = self._resolve(connection, folder, line)  # noqa: PLW2901
                if line.kind == "folder":
                    entries.append(DirectoryEntry(f"{address}/", None, line.modified))
                else:
                    entries.append(
                        DirectoryEntry(address, line.size, line.modified, _readable(line.name))
                    )
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
            example = printable(_readable(strange[0]) or strange[0])[:80]
            problems.append(
                f"{count_of(len(strange), 'line')} of the listing not understood, such as"
                f" {example!r}; files may be missing"
            )
        if lines.is_cut:
            problems.append(
                f"the listing is longer than {format_size(self._largest_listing)}; the rest was not"
                " read (--largest-listing allows more)"
            )
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
                    connection.voidresp()  # it says that it could not send the rest
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
        size = _size(connection, name)
        stamp = ""
        with suppress(ftplib.error_perm):
            stamp = connection.sendcmd(f"MDTM {name}").partition(" ")[2].strip()
        modified = parse_timestamp(stamp)
        mark = f'"{size}-{stamp}"' if modified is not None and size is not None else None
        return Metadata(address, size, Validators(entity_tag=mark), modified)

    # Connections

    @contextmanager
    def _connection(self, address: str) -> Iterator[Connection]:
        """Yield a connection for a few commands."""
        connection = self._take(address)
        try:
            yield connection
        except BaseException as error:
            self.drop(address, connection)
            if isinstance(error, FOREIGN):
                raise self.translate(error, address) from error
            raise
        self.release(address, connection)

    def _wait_turn(self, address: str) -> None:
        try:
            self._guard.wait_turn(host_of(address))
        except OSError as error:
            raise self.translate(error, address) from error

    def _take(self, address: str) -> Connection:
        """Return an idle connection, or a new one if the host allows it.

        Raises:
            ServerBusy: it allows no more, and those that there are stay in use.
            TransferFailed: it cannot be made.
        """
        host = self._hosts[origin_of(address)]
        with self._change:
            if host.most is not None and self._clock() > host.until:
                host.most = None
            while not host.idle and host.most is not None and host.open >= host.most:
                if not self._change.wait(_CONNECTION_WAIT_SECONDS):
                    raise _too_many(address, host.most)
            if host.idle:
                connection = host.idle.pop()
            else:
                connection = None
                host.open += 1
        if connection is None:
            return self._make(address, host)
        if self._clock() - connection.rests_since > _IDLE_CHECK_SECONDS and not _is_alive(
            connection
        ):
            self.drop(address, connection)
            return self._take(address)
        return connection

    def _make(self, address: str, host: _Host) -> Connection:
        """Return a new connection, which was already counted.

        One that is refused shows the host's limit.
        """
        try:
            return self._connect(address, host)
        except BaseException as error:
            refused = isinstance(error, ServerBusy) and error.status == 421
            limit = 0
            with self._change:
                host.open -= 1
                if refused or isinstance(error, ConnectionLost):
                    limit = host.open
                if limit:
                    # It has as many as it wants.
                    host.most = limit
                    host.until = self._clock() + _LIMIT_EXPIRY_SECONDS
                self._change.notify()
            if limit:
                raise _too_many(address, limit) from error
            raise

    def _connect(self, address: str, host: _Host) -> Connection:
        """Connect and sign in; find out which kind of TLS the server expects."""
        if urlsplit(address).scheme != "ftps":
            return self._try_to_connect(address, implicit=False, greeting=self._stall_after)
        if host.implicit is not None:
            return self._try_to_connect(address, implicit=host.implicit, greeting=self._stall_after)
        usual = begins_secured(urlsplit(address).port or 0)
        greeting = min(_GREETING_SECONDS, self._stall_after)
        ways = [(usual, greeting), (not usual, greeting)]
        if not usual:
            # A greeting may be late only because a name is looked up.
            ways.append((usual, self._stall_after))
        failures: list[TransferFailed] = []
        for implicit, seconds in ways:
            try:
                made = self._try_to_connect(address, implicit=implicit, greeting=seconds)
            except (TimedOut, NotTrusted, ProtocolError, ConnectionLost) as error:
                if isinstance(
                    error.__cause__, ssl.SSLCertVerificationError | ConnectionRefusedError
                ):
                    raise  # the certificate or the server is wrong, not the way
                failures.append(error)
            else:
                host.implicit = implicit
                return made
        raise self._not_secured(address, failures)

    def _not_secured(self, address: str, failures: list[TransferFailed]) -> TransferFailed:
        shown = without_secrets(address)
        if all(isinstance(each, TimedOut | ConnectionLost) for each in failures):
            return TimedOut(
                shown,
                f"{host_of(address)} answers neither to AUTH TLS nor to TLS from the first byte",
                "check the port: 21 is usual for the first way and 990 for the second",
            )
        return NotTrusted(
            shown,
            f"{host_of(address)} offers neither AUTH TLS nor TLS from the first byte:"
            f" {failures[0].reason}",
            "check the port: 21 is usual for the first way and 990 for the second",
        )

    def _try_to_connect(self, address: str, *, implicit: bool, greeting: float) -> Connection:
        parts = urlsplit(address)
        port = parts.port or SCHEMES[parts.scheme].port or 0
        connection = None
        try:
            connection = Connection(
                parts.hostname or "", port, secure=parts.scheme == "ftps", implicit=implicit,
                context=self._context, active=self._active, connect_after=self._connect_after,
                reply_seconds=self._stall_after, greeting_seconds=greeting, guard=self._guard,
            )  # fmt: skip
            connection.sign_in(*(self._sign_ins.password_for(address) or _ANONYMOUS))
        except FOREIGN as error:
            if connection is not None:
                connection.hang_up()
            raise self.translate(error, address) from error
        return connection

    def release(self, address: str, connection: Connection) -> None:
        """Keep a connection for the next request."""
        connection.rests_since = self._clock()
        with self._change:
            self._hosts[origin_of(address)].idle.append(connection)
            self._change.notify()

    def drop(self, address: str, connection: Connection) -> None:
        """Close a connection."""
        connection.hang_up()
        with self._change:
            self._hosts[origin_of(address)].open -= 1
            self._change.notify()

    def translate(self, error: BaseException, address: str) -> TransferFailed:
        """Translate an exception of ftplib or the system into one of ours."""
        shown, host = without_secrets(address), host_of(address)
        said = " ".join(str(error).split())[:200]
        match error:
            case socket.gaierror() if error.errno != socket.EAI_AGAIN:
                return HostUnknown(shown, f"unknown host {host}", "check the spelling")
            case ssl.SSLCertVerificationError():
                reason = f"no secure connection to {host}: {error.verify_message.rstrip('.')}"
                return NotTrusted(
                    shown, reason, "check the address, or use --ca to trust another authority"
                )
            case ssl.SSLError():
                return NotTrusted(
                    shown, f"no secure connection to {host}: {said}",
                    "ftps:// on port 990 is secured at once, on others by AUTH TLS",
                )  # fmt: skip
            case TlsRefused():
                return NotTrusted(
                    shown,
                    f"{host} does not offer TLS: {said}",
                    "use ftp:// for an unencrypted connection",
                )
            case TimeoutError():
                waited = format_duration(self._stall_after)
                return TimedOut(shown, f"no data for {waited}", "try later")
            case ftplib.error_temp() | ftplib.error_perm():
                signed = self._sign_ins.password_for(address) is not None
                return _refused(said, shown, signed=signed)
            case ftplib.error_proto() | ftplib.error_reply() | UnicodeError():
                return ProtocolError(shown, f"invalid FTP reply: {said}", "check the address")
            case OSError() if error.errno == errno.ECONNREFUSED:
                return ConnectionLost(
                    shown, f"connection refused by {host}", "check that the server is running"
                )
            case _:
                return ConnectionLost(shown, f"the connection to {host} broke", "try again later")


def _refused(said: str, shown: str, *, signed: bool = False) -> TransferFailed:
    """Return the error for a reply 4xx or 5xx (RFC 959, 4.2.1)."""
    reason = said
    if said.startswith("530") and _TOO_MANY.search(said):
        return ServerBusy(shown, reason, "try again later", wait=None, status=421)
    if said.startswith("4"):
        return ServerBusy(shown, reason, "try again later", wait=None, status=int(said[:3]))
    if said.startswith("530"):
        reason = f"sign-in refused: {said}"
        advice = "check the name and the secret" if signed else HOW_TO_SIGN_IN
        return NotServed(shown, reason, advice, status=530)
    return NotServed(shown, reason, "check the address", status=int(said[:3]))


def _too_many(address: str, most: int) -> ServerBusy:
    return ServerBusy(
        without_secrets(address),
        f"{host_of(address)} allows no more than {count_of(most, 'connection')}",
        "use fewer lanes",
        wait=None,
        status=421,
        most=most,
    )


def _size(connection: Connection, name: str) -> int | None:
    connection.use_bytes()
    try:
        answer = connection.sendcmd(f"SIZE {name}").partition(" ")[2].strip()
    except ftplib.error_perm:
        return None
    return read_count(answer)


def _is_alive(connection: Connection) -> bool:
    """Whether an idle connection still works."""
    try:
        connection.voidcmd("NOOP")
    except FOREIGN:
        return False
    return True


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


def _readable(name: str) -> str | None:
    """Return a readable form of a name that is not UTF-8; None if the address is readable."""
    raw = name.encode("latin-1")
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("cp1252", "replace")
    return None
