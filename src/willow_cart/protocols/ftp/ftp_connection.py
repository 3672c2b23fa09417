"""One FTP connection: sign-in, TLS, data connections, current folder, and its replies."""

from __future__ import annotations

import errno
import ftplib
import io
import re
import socket
import ssl
from collections.abc import Generator
from contextlib import suppress
from typing import Any

from willow_cart.addresses import host_of
from willow_cart.errors import (
    ConnectionLost,
    HostUnknown,
    NotServed,
    NotTrusted,
    ProtocolError,
    ServerBusy,
    TimedOut,
    TransferFailed,
    said_in,
)
from willow_cart.protocols.http.http_rules import HOW_TO_SIGN_IN
from willow_cart.protocols.sockets import SocketGuard, TimedReader
from willow_cart.redaction import without_secrets
from willow_cart.units import count_of, format_duration, read_count

_ENCODING = "latin-1"
"""One character a byte, so that names go back to the server as they came."""

_IMPLICIT_PORT = 990

# A reply of more lines is one without end; greetings have a page at most.
_MAX_REPLY_LINES = 1000


class TlsRefused(ftplib.error_perm):
    """The server does not support AUTH TLS (RFC 4217, 4)."""


class PassiveRefused(ftplib.Error):
    """The server opens no port for data, and does not connect to this machine either."""


class ActiveRefused(ftplib.Error):
    """The server does not connect to this machine for data."""


class Connection(ftplib.FTP_TLS):
    """A control connection (RFC 959), with or without TLS (RFC 4217).

    Args:
        host, port: where to.
        secure: whether with TLS.
        implicit: whether TLS begins with the first byte, instead of with AUTH TLS.
        context: for TLS.
        active: whether the server connects to us for data, instead of us to it.
        connect_after: seconds after which a connection that is not made is given up.
        reply_seconds: within which each reply must have come.
        greeting_seconds: as above the first.
        guard: supervises the sockets.

    Attributes:
        features: what the server has announced that it can do (RFC 2389).
        rests_since: when it was last given back, by the clock of its user.
    """

    def __init__(
        self,
        host: str,
        port: int,
        *,
        secure: bool,
        implicit: bool,
        context: ssl.SSLContext,
        active: bool,
        connect_after: float,
        reply_seconds: float,
        greeting_seconds: float,
        guard: SocketGuard,
    ) -> None:
        super().__init__(context=context, encoding=_ENCODING, timeout=connect_after)
        self._secure = secure
        self._extended = True
        self._reply_seconds = reply_seconds
        self._guard = guard
        self._here: tuple[str, ...] | None = None
        self._is_binary = False
        self.features: frozenset[str] = frozenset()
        self.rests_since = float("inf")
        self.set_pasv(not active)
        self.host, self.port = host, port
        sock = guard.connect((host, port), connect_after)
        try:
            self.af = sock.family
            if implicit:
                sock.settimeout(min(connect_after, reply_seconds))
                sock = self.context.wrap_socket(sock, server_hostname=host)
                guard.watch(sock)
            self._use(sock, greeting_seconds)
            self._reader.allow(greeting_seconds)
            self.welcome = ftplib.FTP.getresp(self)
            if secure and not implicit:
                try:
                    self.auth()
                except ftplib.error_perm as error:
                    raise TlsRefused(str(error)) from error
                assert self.sock is not None, "it is connected"
                guard.watch(self.sock)
                self._use(self.sock, reply_seconds)
            else:
                self._use(sock, reply_seconds)
        except BaseException:
            self.hang_up()  # the file that reads it keeps a socket open
            sock.close()
            raise

    def _use(self, sock: socket.socket, seconds: float) -> None:
        """Read replies from a socket with a time limit."""
        sock.settimeout(seconds)
        self.sock = sock
        self._reader = TimedReader(sock, seconds)
        self.file = io.TextIOWrapper(io.BufferedReader(self._reader), encoding=self.encoding)

    def getresp(self) -> str:
        """Read a reply within the time limit.

        Raises:
            TimeoutError: it has not come.
        """
        self._reader.allow(self._reply_seconds)
        return super().getresp()

    def getmultiline(self) -> str:
        """Read the lines of a reply (RFC 959, 4.2).

        Raises:
            ftplib.error_proto: they have no end.
        """
        line = self.getline()
        lines = [line]
        if line[3:4] == "-":
            code = line[:3]
            while not (line[:3] == code and line[3:4] != "-"):
                line = self.getline()
                lines.append(line)
                if len(lines) > _MAX_REPLY_LINES:
                    raise ftplib.error_proto("an endless reply")
        return "\n".join(lines)

    def sign_in(self, user: str, password: str) -> None:
        """Sign in, protect the data connections, and request the features of the server."""
        ftplib.FTP.login(self, user, password)
        if self._secure:
            self.prot_p()
        with suppress(ftplib.error_perm, ftplib.error_temp):
            lines = self.sendcmd("FEAT").splitlines()[1:-1]
            self.features = frozenset(line.strip().upper() for line in lines)
        if "UTF8" in self.features:
            with suppress(ftplib.error_perm, ftplib.error_temp):
                self.sendcmd("OPTS UTF8 ON")
        self._home = self.pwd()
        self._here = ()

    def use_bytes(self, *, again: bool = False) -> None:
        """Switch to binary transfers (RFC 959, 3.1.1.3), unless that has been done.

        Done again after a listing: there are servers that fall back to text then, change line ends,
        and count what they would be.

        Args:
            again: whether to do it in any case.
        """
        if again or not self._is_binary:
            self.voidcmd("TYPE I")
            self._is_binary = True

    def knows(self, feature: str) -> bool:
        """Whether the server has announced a feature (RFC 2389)."""
        return any(line.split(" ")[0] == feature for line in self.features)

    def go_to(self, folders: tuple[str, ...]) -> None:
        """Change to a folder relative to the initial one (RFC 1738, 3.2.2).

        Step by step, since some servers reject paths with spaces or foreign separators.
        """
        if self._here == folders:
            return
        self._here = None
        if folders and folders[0] == "":
            # An address whose path begins with an encoded slash starts at the root.
            self.cwd("/")
            folders_below = folders[1:]
        else:
            self.cwd(self._home)
            folders_below = folders
        for folder in folders_below:
            if folder:
                self.sendcmd(f"CWD {folder}")
        self._here = folders

    def makepasv(self) -> tuple[str, int]:
        """Request a data port: extended (RFC 2428), else plain.

        The host is the control connection's in either case: an answer that names another could
        make this machine knock elsewhere.
        """
        if self._extended:
            try:
                return self._port_in(self.sendcmd("EPSV"))
            except (ftplib.error_perm, ftplib.error_proto):
                self._extended = False
        try:
            return self._peer[0], ftplib.parse227(self.sendcmd("PASV"))[1]
        except (ftplib.error_perm, ftplib.error_temp) as error:
            if isinstance(error, ftplib.error_temp) and not str(error).startswith("425"):
                raise  # it is busy
            raise PassiveRefused(str(error)) from error

    def _port_in(self, reply: str) -> tuple[str, int]:
        """Return the host and the port in a reply to EPSV."""
        return self._peer[0], ftplib.parse229(reply, self._peer)[1]

    @property
    def _peer(self) -> Any:
        """The address of the server."""
        assert self.sock is not None, "it is connected"
        return self.sock.getpeername()

    def open_data(self, command: str, start: int = 0) -> socket.socket:
        """Open a data connection for a command, starting at a byte (REST, RFC 3659, 5)."""
        self._is_binary &= command.startswith("RETR ")
        try:
            connection, _ = ftplib.FTP.ntransfercmd(self, command, start or None)
        except PassiveRefused as refused:
            connection = self._open_actively(command, start, refused)
        try:
            self._guard.watch(connection)
            if not self._secure:
                return connection
            # Servers demand the session of the control connection, to know who connects.
            session = self.sock.session if isinstance(self.sock, ssl.SSLSocket) else None
            secured = self.context.wrap_socket(
                connection, server_hostname=self.host, session=session
            )
            self._guard.watch(secured)
        except BaseException:
            connection.close()
            raise
        return secured

    def measure_step_by_step(self, name: str) -> Generator[None, None, tuple[int | None, str]]:
        """Request the size and date of a file; each step ends when a command has been sent.

        Returns:
            What SIZE and MDTM say (RFC 3659, 3 and 4).

        Raises:
            Exception: one of `FOREIGN`.
        """
        self.use_bytes()
        self.putcmd(f"SIZE {name}")
        yield
        length = read_count(self._value())
        self.putcmd(f"MDTM {name}")
        yield
        return length, self._value()

    def fetch_step_by_step(self, name: str, length: int) -> Generator[None, None, bytes | None]:
        """Fetch a small file; as above.

        Returns:
            None if it has another length, and where the server knows no EPSV (RFC 2428).

        Raises:
            Exception: one of `FOREIGN`.
        """
        if not self._extended:
            return None
        self.putcmd("EPSV")
        yield
        with socket.create_connection(self._port_in(self.getresp()), self._reply_seconds) as data:
            self._guard.watch(data)
            self.putcmd(f"RETR {name}")
            yield
            if not self.getresp().startswith("1"):
                raise ftplib.error_reply("no file")
            content = b""
            while len(content) <= length and (piece := data.recv(length + 1)):
                content += piece
        self.voidresp()
        return content if len(content) == length else None

    def _value(self) -> str:
        """Return the text of a reply after its code."""
        return self.getresp().partition(" ")[2].strip()

    def _open_actively(self, command: str, start: int, refused: PassiveRefused) -> socket.socket:
        """Have the server connect to this machine, and keep to that if it does.

        Raises:
            PassiveRefused: it does not do that either.
        """
        self.set_pasv(False)
        try:
            connection, _ = ftplib.FTP.ntransfercmd(self, command, start or None)
        except ActiveRefused as error:
            raise refused from error
        except (TimeoutError, ConnectionError) as error:
            raise refused from error
        return connection

    def makeport(self) -> socket.socket:
        """Listen for the server's connection, and tell it where.

        Raises:
            ActiveRefused: it does not connect to others.
        """
        try:
            return super().makeport()
        except (ftplib.error_perm, ftplib.error_temp) as error:
            raise ActiveRefused(str(error)) from error

    def hang_up(self) -> None:
        """Close everything at once."""
        with suppress(OSError, EOFError):
            self.close()


def begins_secured(port: int) -> bool:
    """Whether TLS starts with the first byte on a port (IANA, `ftps`)."""
    return port == _IMPLICIT_PORT


FOREIGN: tuple[type[Exception], ...] = (*ftplib.all_errors, UnicodeError)
"""What the library and the system raise."""

# Texts of a 530 reply that is about load, and not about the user.
_TOO_MANY = re.compile(
    r"too many|maximum|max\b|limit|already connected|simultan|connections? (?:from|exceed)"
    r"|later|again|temporar|busy|overload|in use",
    re.IGNORECASE,
)


def translate(
    error: BaseException, address: str, *, stall_after: float, signed: bool, greeted: bool = True
) -> TransferFailed:
    """Translate an exception of ftplib or the system into one of ours.

    Args:
        error: one of `FOREIGN`.
        address: what was asked for.
        stall_after: seconds without a byte after which a connection is given up.
        signed: whether a name and a secret were sent.
        greeted: whether it has shown itself to be an FTP server.
    """
    shown, host = without_secrets(address), host_of(address)
    said = said_in(error)
    match error:
        case socket.gaierror() if error.errno != socket.EAI_AGAIN:
            return HostUnknown(shown, f"unknown host {host}", "check the spelling")
        case ssl.SSLError() | TlsRefused():
            return _not_secured(error, shown, host, said)
        case PassiveRefused() | ActiveRefused():
            return _no_data(error, shown, host, said.rstrip("."))
        case TimeoutError():
            waited = format_duration(stall_after)
            return TimedOut(shown, f"no data for {waited}", "try later")
        case ftplib.error_temp() | ftplib.error_perm():
            return _refused(said, shown, signed=signed)
        case ftplib.error_proto() | ftplib.error_reply() if greeted:
            # Replies and commands are out of step; those of a new connection are not.
            return ConnectionLost(shown, f"unexpected FTP reply: {said}", "try again later")
        case ftplib.error_proto() | ftplib.error_reply() | UnicodeError():
            return ProtocolError(shown, f"invalid FTP reply: {said}", "check the address")
        case OSError() if error.errno == errno.ECONNREFUSED:
            return ConnectionLost(
                shown, f"connection refused by {host}", "check that the server is running"
            )
        case _:
            return ConnectionLost(shown, f"the connection to {host} broke", "try again later")


def _not_secured(error: BaseException, shown: str, host: str, said: str) -> NotTrusted:
    """Return the error for a server with which TLS fails."""
    match error:
        case ssl.SSLCertVerificationError():
            reason = f"no secure connection to {host}: {error.verify_message.rstrip('.')}"
            advice = "check the address, or use --ca to trust another authority"
        case ssl.SSLError():
            reason = f"no secure connection to {host}: {said}"
            advice = "ftps:// on port 990 is secured at once, on others by AUTH TLS"
        case _:
            reason = f"{host} does not offer TLS: {said}"
            advice = "use ftp:// for an unencrypted connection"
    return NotTrusted(shown, reason, advice)


def _no_data(error: BaseException, shown: str, host: str, said: str) -> NotServed:
    """Return the error for a server that makes no data connection."""
    status = _status_in(said)
    if isinstance(error, ActiveRefused):
        return NotServed(
            shown, f"{host} refuses active mode ({said})", "leave out --active", status=status
        )
    return NotServed(
        shown,
        f"{host} refuses passive mode ({said}), and does not reach this machine in active mode",
        "let it connect to this machine, as --active has it, or ask for passive mode there",
        status=status,
    )


def _status_in(said: str) -> int:
    return int(said[:3]) if said[:3].isdigit() else 550


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


def too_many(address: str, most: int) -> ServerBusy:
    """Return the error for a host that allows no further connection."""
    return ServerBusy(
        without_secrets(address),
        f"{host_of(address)} allows no more than {count_of(most, 'connection')}",
        "use fewer lanes",
        wait=None,
        status=421,
        most=most,
    )
