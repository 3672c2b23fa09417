"""The connections to FTP servers: as many as there are lanes, kept for the next request."""

from __future__ import annotations

import ssl
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from urllib.parse import urlsplit

from willow_cart.addresses import host_of, origin_of
from willow_cart.errors import (
    ConnectionLost,
    NotTrusted,
    ProtocolError,
    ServerBusy,
    TimedOut,
    TransferFailed,
)
from willow_cart.protocols.ftp.ftp_connection import (
    FOREIGN,
    Connection,
    begins_secured,
    too_many,
    translate,
)
from willow_cart.protocols.sockets import RequestPacer, SocketGuard
from willow_cart.redaction import without_secrets
from willow_cart.schemes import SCHEMES
from willow_cart.sign_in.sign_ins import SignIns
from willow_cart.sign_in.trust import ContextFor
from willow_cart.structs import Record, field

# Who has no name there states it (RFC 1635), and that this program is asking.
_ANONYMOUS = ("anonymous", "willow-cart@")

# A connection that has rested for longer may have been closed by a device between, and is tried
# first.
_IDLE_CHECK_SECONDS = 10.0

# After this time, a host that refused a connection is asked for another one.
_LIMIT_EXPIRY_SECONDS = 60.0

# How long a connection that is in use is waited for, where the host allows no more.
_CONNECTION_WAIT_SECONDS = 2.0

# How long the greeting of a server is waited for that may be waiting for TLS itself.
_GREETING_SECONDS = 5.0


class _Host(Record):
    """The connections to one host.

    Attributes:
        idle: those that are not in use.
        open: how many there are in all.
        most: as many as the host has allowed; None while it has refused none.
        until: when that is forgotten, by the clock of the access.
        implicit: whether TLS begins with the first byte there; None while that is not known.
        is_doubtful: whether it has sent more than it announced.
    """

    idle: list[Connection] = field(default_factory=list)
    open: int = 0
    most: int | None = None
    until: float = 0.0
    implicit: bool | None = None
    is_doubtful: bool = False


class FtpConnections:
    """The connections to all hosts; thread-safe.

    Args:
        sign_ins: the credentials for each origin; without one, access is anonymous.
        connect_after: seconds after which a connection that is not made is given up.
        stall_after: seconds without a byte after which a connection is given up.
        pacer: keeps gaps between requests; None for no gaps.
        active: whether servers connect to us for data.
        context_for: the TLS context for an origin.
        clock: a monotonic clock in seconds.
    """

    def __init__(
        self,
        *,
        sign_ins: SignIns,
        connect_after: float,
        stall_after: float,
        pacer: RequestPacer | None,
        active: bool,
        context_for: ContextFor,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.stall_after = stall_after
        self._clock = clock
        self._sign_ins = sign_ins
        self._connect_after = connect_after
        self._guard = SocketGuard(pacer)
        self._active = active
        self._context_for = context_for
        self._hosts: defaultdict[str, _Host] = defaultdict(_Host)
        self._change = threading.Condition()

    def abort(self) -> None:
        """End every exchange in progress; each fails, and no new one starts."""
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

    def translate(
        self, error: BaseException, address: str, *, greeted: bool = True
    ) -> TransferFailed:
        """Translate an exception of ftplib or the system into one of ours."""
        signed = self._sign_ins.password_for(address) is not None
        return translate(
            error, address, stall_after=self.stall_after, signed=signed, greeted=greeted
        )

    @contextmanager
    def lend(self, address: str) -> Iterator[Connection]:
        """Yield a connection for a few commands."""
        connection = self.take(address)
        try:
            yield connection
        except BaseException as error:
            self.drop(address, connection)
            if isinstance(error, FOREIGN):
                raise self.translate(error, address) from error
            raise
        self.release(address, connection)

    def wait_turn(self, address: str) -> None:
        """Wait until the host may be asked again.

        Raises:
            TransferFailed: everything ends.
        """
        try:
            self._guard.wait_turn(host_of(address))
        except OSError as error:
            raise self.translate(error, address) from error

    def take(self, address: str, patience: float = _CONNECTION_WAIT_SECONDS) -> Connection:
        """Return an idle connection, or a new one if the host allows it.

        Args:
            patience: seconds to wait for one that is in use, where the host allows no more.

        Raises:
            ServerBusy: it allows no more, and those that there are stay in use.
            TransferFailed: it cannot be made.
        """
        host = self._hosts[origin_of(address)]
        with self._change:
            if host.most is not None and self._clock() > host.until:
                host.most = None
            while not host.idle and host.most is not None and host.open >= host.most:
                if not self._change.wait(patience):
                    raise too_many(address, host.most)
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
            return self.take(address, patience)
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
                raise too_many(address, limit) from error
            raise

    def _connect(self, address: str, host: _Host) -> Connection:
        """Connect and sign in; find out which kind of TLS the server expects."""
        if urlsplit(address).scheme != "ftps":
            return self._try_to_connect(address, implicit=False, greeting=self.stall_after)
        if host.implicit is not None:
            return self._try_to_connect(address, implicit=host.implicit, greeting=self.stall_after)
        usual = begins_secured(urlsplit(address).port or 0)
        greeting = min(_GREETING_SECONDS, self.stall_after)
        ways = [(usual, greeting), (not usual, greeting)]
        if not usual:
            # A greeting may be late only because a name is looked up.
            ways.append((usual, self.stall_after))
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
                context=self._context_for(origin_of(address)), active=self._active,
                connect_after=self._connect_after, reply_seconds=self.stall_after,
                greeting_seconds=greeting, guard=self._guard,
            )  # fmt: skip
            connection.sign_in(*(self._sign_ins.password_for(address) or _ANONYMOUS))
        except FOREIGN as error:
            if connection is not None:
                connection.hang_up()
            raise self.translate(error, address, greeted=connection is not None) from error
        return connection

    def note_surplus(self, address: str) -> None:
        """Record that a host has sent more than it announced.

        It may have fallen back to text since SIZE, or have ignored REST.
        """
        self._hosts[origin_of(address)].is_doubtful = True

    def is_doubtful(self, address: str) -> bool:
        """Whether a host has sent more than it announced."""
        return self._hosts[origin_of(address)].is_doubtful

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


def _is_alive(connection: Connection) -> bool:
    """Whether an idle connection still works."""
    try:
        connection.voidcmd("NOOP")
    except FOREIGN:
        return False
    return True
