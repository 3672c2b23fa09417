"""FTP and FTPS (RFC 959, 1738, 2428, 3659, 4217) through the standard library's ftplib.

`ftp://` is plain. `ftps://` is secured: on port 990 from the first byte, on any other by AUTH TLS.
"""

from __future__ import annotations

import errno
import ftplib
import socket
import ssl
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from urllib.parse import quote, unquote_to_bytes, urlsplit

from willow_cart.access.ftp_connection import Connection
from willow_cart.access.ftp_listing import Line, parse_fact_line, parse_list_line, parse_timestamp
from willow_cart.access.http_rules import HOW_TO_SIGN_IN
from willow_cart.access.seam import CHUNK, Access, Delivery, Directory, Entry, Joining, Unchanged
from willow_cart.access.sign_ins import SignIns
from willow_cart.addresses import DEFAULT_PORTS, host_of, origin_of, without_secrets
from willow_cart.errors import (
    ConnectionLost,
    HostUnknown,
    NotServed,
    NotTrusted,
    ServerBusy,
    StrangeAnswer,
    TimedOut,
    TransferFailed,
)
from willow_cart.model import Facts, Validators
from willow_cart.units import format_duration

# Who has no name there says so (RFC 1635), and that this program is asking.
_ANONYMOUS = ("anonymous", "willow-cart@")

# A connection that has rested for longer may have been closed on the way, and is tried first.
_RESTS_SAFELY = 10.0

_FOREIGN: tuple[type[Exception], ...] = (*ftplib.all_errors, UnicodeError)


@dataclass(slots=True)
class _Host:
    """The connections to one host.

    Attributes:
        idle: those that nobody uses.
        open: how many there are in all.
        most: as many as the host has allowed; None while it has refused none.
    """

    idle: list[Connection] = field(default_factory=list)
    open: int = 0
    most: int | None = None


class FtpAccess(Access, Directory):
    """Talk to FTP servers.

    Args:
        sign_ins: who is let in where; everybody else is anonymous.
        connect_after: seconds after which a connection that is not made is given up.
        stall_after: seconds without a byte after which a connection is given up.
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
        active: bool = False,
        context: ssl.SSLContext | None = None,
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._clock = clock
        self._sign_ins = sign_ins or SignIns()
        self._connect_after = connect_after
        self._stall_after = stall_after
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
    ) -> Delivery | Unchanged:
        """Ask for a file (see the seam); size and date are asked first, and mark its version.

        The protocol knows where to begin (RFC 3659, 5), but not where to end.
        """
        connection = self._take(address)
        try:
            facts = self._facts(connection, address)
            same = validators is not None and facts.validators == validators and bool(validators)
            if same and not start and end is None:
                self.give_back(address, connection)
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
            return FtpDelivery(self, connection, data, facts, begin)
        except BaseException as error:
            self.drop(address, connection)
            if isinstance(error, _FOREIGN):
                raise self.translate(error, address) from error
            raise

    def ask(self, address: str) -> Facts:
        """Ask for size and date."""
        with self._connection(address) as connection:
            facts = self._facts(connection, address)
            if facts.length is None and not facts.validators:
                raise NotServed(
                    without_secrets(address), "is not there", "check the address", status=550
                )
            return facts

    def directory(self, address: str) -> Directory:  # noqa: ARG002  # there is one for all
        """Itself."""
        return self

    def close(self) -> None:
        """Say goodbye on every connection."""
        for host in self._hosts.values():
            for connection in host.idle:
                with suppress(*_FOREIGN):
                    connection.quit()
                connection.hang_up()
            host.idle.clear()

    # The directory

    def find(self, address: str) -> Entry | None:
        """What an address stands for: a folder if one can change to it, else a file."""
        with self._connection(address) as connection:
            bare = address.rstrip("/")
            if bare.count("/") < 3:
                return Entry(f"{bare}/")
            try:
                connection.go_to((*_folders_of(bare), _name_of(bare)))
                return Entry(f"{bare}/")
            except ftplib.error_perm:
                pass
            try:
                facts = self._facts(connection, bare)
            except ftplib.error_perm:
                return None
            if facts.length is not None or facts.validators:
                return Entry(bare, facts.length, facts.modified)
            # A server that knows neither SIZE nor MDTM still lists.
            lines = {line.name: line for line in self._lines(connection, _folders_of(bare))}
            line = lines.get(_name_of(bare))
            return Entry(bare, line.size, line.modified) if line else None

    def entries(self, folder: str) -> list[Entry]:
        """What is right in a folder, by name: servers list in any order."""
        with self._connection(folder) as connection:
            entries = []
            lines = self._lines(connection, _folders_of(folder))
            for line in sorted(lines, key=lambda line: line.name):
                address = folder + quote(line.name.encode("latin-1"), safe="~")
                if line.kind == "link":
                    line = self._resolve(connection, folder, line)  # noqa: PLW2901
                if line.kind == "folder":
                    entries.append(Entry(f"{address}/", None, line.modified))
                else:
                    entries.append(Entry(address, line.size, line.modified, _readable(line.name)))
            return entries

    def _lines(self, connection: Connection, folders: tuple[str, ...]) -> list[Line]:
        connection.go_to(folders)
        if connection.knows("MLST") or connection.knows("MLSD"):
            try:
                read = map(parse_fact_line, self._list(connection, "MLSD"))
                return [line for line in read if line and line.name not in (".", "..")]
            except ftplib.error_perm:
                pass  # announced, and not done
        now = self._now()
        lines = self._list(connection, "LIST")
        return [line for each in lines if (line := parse_list_line(each, now))]

    def _list(self, connection: Connection, command: str) -> list[str]:
        """The lines that a listing command sends."""
        data = connection.open_data(command)
        data.settimeout(self._stall_after)
        content = bytearray()
        with data:
            while piece := data.recv(CHUNK):
                content += piece
            if isinstance(data, ssl.SSLSocket):
                with suppress(OSError):
                    data.unwrap()
        connection.voidresp()
        return bytes(content).decode("latin-1").replace("\r\n", "\n").rstrip("\n").split("\n")

    def _resolve(self, connection: Connection, folder: str, line: Line) -> Line:
        """Tell whether a link leads to a folder or to a file."""
        try:
            connection.go_to((*_folders_of(folder), line.name))
            return replace(line, kind="folder")
        except ftplib.error_perm:
            connection.go_to(_folders_of(folder))
            return replace(line, kind="file", size=_size(connection, line.name))

    def _facts(self, connection: Connection, address: str) -> Facts:
        """Size and date of a file (RFC 3659, 3 and 4), which together mark its version."""
        connection.go_to(_folders_of(address))
        name = _name_of(address)
        size = _size(connection, name)
        stamp = ""
        with suppress(ftplib.error_perm):
            stamp = connection.sendcmd(f"MDTM {name}").partition(" ")[2].strip()
        modified = parse_timestamp(stamp)
        mark = f'"{size}-{stamp}"' if modified is not None and size is not None else None
        return Facts(address, size, Validators(entity_tag=mark), modified)

    # Connections

    @contextmanager
    def _connection(self, address: str) -> Iterator[Connection]:
        """A connection for a few commands."""
        connection = self._take(address)
        try:
            yield connection
        except BaseException as error:
            self.drop(address, connection)
            if isinstance(error, _FOREIGN):
                raise self.translate(error, address) from error
            raise
        self.give_back(address, connection)

    def _take(self, address: str) -> Connection:
        """A connection that nobody uses, or a new one if the host allows one more."""
        host = self._hosts[origin_of(address)]
        while True:
            with self._change:
                while not host.idle and host.most is not None and host.open >= host.most:
                    if not self._change.wait(self._stall_after):
                        raise ServerBusy(
                            without_secrets(address), "no connection became free",
                            "use fewer lanes", wait=None, status=421,
                        )  # fmt: skip
                if host.idle:
                    connection = host.idle.pop()
                    break
                host.open += 1
            try:
                connection = self._connect(address)
                break
            except BaseException as error:
                with self._change:
                    host.open -= 1
                    if isinstance(error, ServerBusy) and error.status == 421 and host.open:
                        # It has as many as it wants: wait for one of these.
                        host.most = host.open
                        continue
                    self._change.notify()
                raise
        if self._clock() - connection.rests_since > _RESTS_SAFELY and not _is_alive(connection):
            self.drop(address, connection)
            return self._take(address)
        return connection

    def _connect(self, address: str) -> Connection:
        parts = urlsplit(address)
        port = parts.port or DEFAULT_PORTS[parts.scheme] or 0
        connection = None
        try:
            connection = Connection(
                parts.hostname or "", port, secure=parts.scheme == "ftps",
                context=self._context, active=self._active, connect_after=self._connect_after,
            )  # fmt: skip
            connection.sign_in(*(self._sign_ins.password_for(address) or _ANONYMOUS))
        except _FOREIGN as error:
            if connection is not None:
                connection.hang_up()
            raise self.translate(error, address) from error
        return connection

    def give_back(self, address: str, connection: Connection) -> None:
        """Keep a connection for whoever needs one next."""
        connection.rests_since = self._clock()
        with self._change:
            self._hosts[origin_of(address)].idle.append(connection)
            self._change.notify()

    def drop(self, address: str, connection: Connection) -> None:
        """Be done with a connection."""
        connection.hang_up()
        with self._change:
            self._hosts[origin_of(address)].open -= 1
            self._change.notify()

    def translate(self, error: BaseException, address: str) -> TransferFailed:
        """Turn what ftplib or the system raised into an error of this house."""
        shown, host = without_secrets(address), host_of(address)
        said = " ".join(str(error).split())[:200]
        match error:
            case socket.gaierror() if error.errno != socket.EAI_AGAIN:
                return HostUnknown(shown, f"no host is known as {host}", "check it for slips")
            case ssl.SSLCertVerificationError():
                reason = f"no secure connection to {host}: {error.verify_message.rstrip('.')}"
                return NotTrusted(shown, reason, "check the address, or name its keeper by --ca")
            case ssl.SSLError():
                return NotTrusted(
                    shown, f"no secure connection to {host}: {said}",
                    "ftps:// on port 990 is secured at once, on others by AUTH TLS",
                )  # fmt: skip
            case TimeoutError():
                waited = format_duration(self._stall_after)
                return TimedOut(shown, f"nothing came for {waited}", "try later")
            case ftplib.error_temp():
                return ServerBusy(
                    shown, f"the server answers {said}", "try again later",
                    wait=None, status=int(said[:3]),
                )  # fmt: skip
            case ftplib.error_perm() if said.startswith("530"):
                return NotServed(
                    shown, f"the server does not let you in: {said}", HOW_TO_SIGN_IN, status=530
                )
            case ftplib.error_perm():
                return NotServed(
                    shown, f"the server answers {said}", "check the address", status=int(said[:3])
                )
            case ftplib.error_proto() | ftplib.error_reply() | UnicodeError():
                return StrangeAnswer(shown, f"breaks the rules of FTP: {said}", "check the address")
            case OSError() if error.errno == errno.ECONNREFUSED:
                return ConnectionLost(
                    shown, f"nothing answers at {host} (connection refused)", "see whether it is up"
                )
            case _:
                return ConnectionLost(shown, f"the connection to {host} broke", "try again later")


class FtpDelivery(Delivery):
    """A file on its way over a data connection."""

    def __init__(
        self,
        access: FtpAccess,
        connection: Connection,
        data: socket.socket,
        facts: Facts,
        start: int,
    ) -> None:
        self.facts = facts
        self.start = start
        self.joining = Joining.SAFE if facts.validators else Joining.BLIND
        self._access = access
        self._connection: Connection | None = connection
        self._data = data
        self._ended = False

    def read(self) -> bytes:
        """Return what one receive brings; at the end the server has to say that it was all."""
        if self._ended or self._connection is None:
            return b""
        try:
            if piece := self._data.recv(CHUNK):
                return piece
            if isinstance(self._data, ssl.SSLSocket):
                with suppress(OSError):
                    self._data.unwrap()
            self._data.close()
            self._connection.voidresp()
        except (ftplib.error_temp, ftplib.error_perm) as error:
            said = " ".join(str(error).split())[:200]
            raise ConnectionLost(
                without_secrets(self.facts.address), f"the server broke off: {said}", "try again"
            ) from error
        except _FOREIGN as error:
            raise self._access.translate(error, self.facts.address) from error
        self._ended = True
        return b""

    def close(self) -> None:
        """Give the connection back after a whole file; hang up in the middle of one."""
        connection, self._connection = self._connection, None
        self._data.close()
        if connection is None:
            return
        if self._ended:
            self._access.give_back(self.facts.address, connection)
        else:
            self._access.drop(self.facts.address, connection)


def _size(connection: Connection, name: str) -> int | None:
    try:
        answer = connection.sendcmd(f"SIZE {name}").partition(" ")[2].strip()
    except ftplib.error_perm:
        return None
    return int(answer) if answer.isdigit() else None


def _is_alive(connection: Connection) -> bool:
    """Whether a connection that was idle still is one."""
    try:
        connection.voidcmd("NOOP")
    except _FOREIGN:
        return False
    return True


def _folders_of(address: str) -> tuple[str, ...]:
    """The names of the folders that a file is in, or that a folder is; one character a byte."""
    path = urlsplit(address).path.lstrip("/").rpartition("/")[0]
    return tuple(_as_sent(segment) for segment in path.split("/")) if path else ()


def _name_of(address: str) -> str:
    return _as_sent(urlsplit(address).path.rpartition("/")[2])


def _as_sent(segment: str) -> str:
    """A segment of an address as it goes to the server.

    Raises:
        StrangeAnswer: it holds a line break, which would be a command of its own.
    """
    text = unquote_to_bytes(segment).decode("latin-1")
    if "\r" in text or "\n" in text or "\0" in text:
        raise StrangeAnswer(segment, "holds a line break, which FTP cannot say", "leave it out")
    return text


def _readable(name: str) -> str | None:
    """How a name reads that is not in UTF-8; None where the address says it well."""
    raw = name.encode("latin-1")
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("cp1252", "replace")
    return None
