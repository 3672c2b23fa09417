"""Connections to web servers, directly or through proxies, and those of one origin as a pool.

They are the standard library's, with our sockets below (`protocols.sockets`) and our responses
above (`protocols.http.http_response`).
"""

from __future__ import annotations

import http.client
import re
import socket
import ssl
import threading
import time
from collections import OrderedDict, defaultdict, deque
from collections.abc import Mapping
from ipaddress import ip_address
from typing import Any
from urllib.parse import unquote, urlsplit

from willow_cart.errors import TOO_MANY_FILES, BadOption
from willow_cart.platform import processes
from willow_cart.protocols.http.http_response import Fields, KeptFile, StrictResponse
from willow_cart.protocols.http.http_rules import basic_credentials
from willow_cart.protocols.sockets import SocketGuard, TimedReader
from willow_cart.structs import Value

_KNOWN = frozenset({"http", "https"})


def proxy_for(origin: str, environment: Mapping[str, str]) -> str | None:
    """Return the proxy for an origin; None for a direct connection.

    `http_proxy`, `https_proxy` and `all_proxy` name proxies, in either case of letters, but for
    `HTTP_PROXY`: a web server that runs this program would set that to a field of a request.
    `no_proxy` names hosts to be asked directly, with commas between them: `*`, or a host, which
    stands for those below it too, with a port if only that is meant. This machine itself is always
    asked directly: to a proxy it is another.

    Args:
        origin: scheme, host and port.
        environment: variables by name.

    Raises:
        BadOption: the variable names no proxy, or one with an unsupported scheme.
    """
    parts = urlsplit(origin)
    host = (parts.hostname or "").lower()
    port = parts.port or (443 if parts.scheme == "https" else 80)
    if is_this_machine(host) or _is_excepted(host, port, _value(environment, "no_proxy")):
        return None
    specific = f"{parts.scheme}_proxy"
    if parts.scheme == "http":
        proxy = environment.get(specific) or _value(environment, "all_proxy")
    else:
        proxy = _value(environment, specific) or _value(environment, "all_proxy")
    if not proxy:
        return None
    if "://" not in proxy:
        proxy = f"http://{proxy}"
    try:
        read = urlsplit(proxy)
        is_address = bool(read.hostname) and read.port != 0 and proxy.isprintable()
    except ValueError:
        is_address = False
    if not is_address or " " in proxy:
        raise BadOption(specific, "does not name a proxy", "set it to http://HOST:PORT")
    scheme = read.scheme.lower()
    if scheme not in _KNOWN:
        raise BadOption(specific, f"unsupported proxy scheme {scheme}://", "use an http proxy")
    return proxy


def _value(environment: Mapping[str, str], name: str) -> str:
    return environment.get(name) or environment.get(name.upper()) or ""


def is_this_machine(host: str) -> bool:
    """Whether a host is the loopback (RFC 1122, 3.2.1.3; RFC 4291, 2.5.3; RFC 6761, 6.3)."""
    if host == "localhost" or host.endswith(".localhost"):
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def _is_excepted(host: str, port: int, exceptions: str) -> bool:
    for written in exceptions.split(","):
        exception = written.strip().lower()
        name, colon, only = exception.rpartition(":")
        if colon and re.fullmatch(r"\d{1,5}", only) and not name.endswith(":"):
            if int(only) != port:
                continue
            exception = name
        exception = exception.strip("[]").removeprefix("*").lstrip(".")
        if written.strip() == "*" or (
            exception and (host == exception or host.endswith(f".{exception}"))
        ):
            return True
    return False


_PORTS = {"http": 80, "https": 443}

# The server has closed a connection for being idle, or does not answer for this host on it.
_OTHER_CONNECTION = frozenset({408, 421})


class CannotConnect(Exception):
    """A connection that could not be made; the cause says why."""


class Supervision(Value):
    """Who supervises the sockets of a connection, and how long an answer may take.

    Attributes:
        guard: supervises the sockets.
        host: whose turn each request has to wait for.
        connect_seconds: after which a connection that is not made is given up.
        stall_seconds: within which a head, or some of a body, must come.
        longest_seconds: the longest time for a whole head.
    """

    guard: SocketGuard
    host: str
    connect_seconds: float
    stall_seconds: float
    longest_seconds: float


class Route(Value):
    """How a connection gets to an origin.

    Attributes:
        origin: scheme, host and port.
        proxy: the address of the proxy; None for a direct connection.
        context: for TLS with the origin.
        proxy_context: for TLS with the proxy.
    """

    origin: str
    proxy: str | None
    context: ssl.SSLContext
    proxy_context: ssl.SSLContext

    @property
    def is_nested(self) -> bool:
        """Whether there is TLS within TLS."""
        return (self.proxy or "").startswith("https:") and self.origin.startswith("https:")

    @property
    def is_relayed(self) -> bool:
        """Whether a proxy gets the whole address of each request (RFC 9112, 3.2.2)."""
        return self.proxy is not None and self.origin.startswith("http:")

    @property
    def proxy_fields(self) -> dict[str, str]:
        """Return the Proxy-Authorization field (RFC 9110, 11.7.2)."""
        parts = urlsplit(self.proxy or "")
        if parts.username is None:
            return {}
        user, password = unquote(parts.username), unquote(parts.password or "")
        return {"Proxy-Authorization": basic_credentials(user, password)}


class WebConnection(http.client.HTTPConnection):
    """A connection to a web server, or to a proxy that leads to it.

    Args:
        route: how it gets there.
        supervision: of its socket.
    """

    sock: Any

    def __init__(self, route: Route, supervision: Supervision) -> None:
        first, origin = urlsplit(route.proxy or route.origin), urlsplit(route.origin)
        super().__init__(first.hostname or "", first.port or _PORTS[first.scheme])
        self.default_port = _PORTS[origin.scheme]
        self._route = route
        self._supervision = supervision
        self._deadline = float("inf")
        self._file: KeptFile | None = None
        self._origin_host = origin.hostname or ""
        if route.proxy and not route.is_relayed:
            port = origin.port or self.default_port
            self.set_tunnel(self._origin_host, port, route.proxy_fields)

    def connect(self) -> None:
        """Connect in a way that can be interrupted.

        Raises:
            CannotConnect: the connection cannot be made, or is not trusted.
        """
        supervision = self._supervision
        try:
            sock = supervision.guard.connect((self.host, self.port), supervision.connect_seconds)
            sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            self.sock = sock
            if (self._route.proxy or "").startswith("https:"):
                self.sock = self._secure(sock, self.host, self._route.proxy_context)
            if self._route.proxy and not self._route.is_relayed:
                self._tunnel()  # type: ignore[attr-defined]  # the library's own connect calls it
                self._drop_file()
            if self._route.origin.startswith("https:"):
                self.sock = self._secure(self.sock, self._origin_host, self._route.context)
            self.sock.settimeout(supervision.stall_seconds)
            supervision.guard.watch(self.sock)
        except (OSError, http.client.HTTPException) as error:
            self.end()
            raise CannotConnect from error

    def _secure(self, sock: Any, host: str, context: ssl.SSLContext) -> Any:
        host = host.rstrip(".")  # no certificate has the dot of a complete name (RFC 6125, 6.4)
        if isinstance(sock, ssl.SSLSocket):
            from urllib3.util.ssltransport import SSLTransport  # TLS within TLS, which few need

            return SSLTransport(sock, context, server_hostname=host, suppress_ragged_eofs=False)
        # RFC 9112, 9.8: a connection that is cut is not one that has ended.
        return context.wrap_socket(sock, server_hostname=host, suppress_ragged_eofs=False)

    def ask(
        self, method: str, target: str, fields: Mapping[str, str], body: bytes = b""
    ) -> StrictResponse:
        """Send a request when it is the host's turn, and read the head of its response.

        Raises:
            http.client.HTTPException, OSError: no valid response came.
        """
        self._supervision.guard.wait_turn(self._supervision.host)
        self._deadline = time.monotonic() + self._supervision.longest_seconds
        self.request(method, target, body or None, headers=fields)
        answer = self.getresponse()
        assert isinstance(answer, StrictResponse), "it is made here"
        return answer

    def response_class(self, sock: socket.socket, **more: Any) -> StrictResponse:  # type: ignore[override]
        """Create the response; see `http.client.HTTPConnection`."""
        seconds = self._supervision.stall_seconds
        if self._file is None:
            self._file = KeptFile(TimedReader(sock, seconds))
        return StrictResponse(self._file, stall_seconds=seconds, deadline=self._deadline, **more)

    def lent(self) -> socket.socket:
        """Return the socket for one who sends and reads there without blocking."""
        self._drop_file()
        self.sock.setblocking(False)
        assert isinstance(self.sock, socket.socket), "there is no TLS within TLS"
        return self.sock

    def taken_back(self) -> WebConnection:
        """Return the connection, whose socket is its own again."""
        self.sock.settimeout(self._supervision.stall_seconds)
        return self

    def end(self) -> None:
        """Close the connection, and the file that its responses are read from."""
        self.close()
        self._drop_file()

    def _drop_file(self) -> None:
        if self._file is not None:
            self._file.end()
            self._file = None

    def is_usable(self) -> bool:
        """Whether a connection can carry another request: nothing has come, not even its end.

        More than the last answer said would be read as the answer to the next request.
        """
        if self.sock is None or not (self._file is None or self._file.is_empty()):
            return False
        if isinstance(self.sock, ssl.SSLSocket):
            decrypted = self.sock.pending()
        else:  # of TLS within TLS it is not known
            decrypted = 0 if isinstance(self.sock, socket.socket) else 1
        return not decrypted and not processes.has_something(self.sock)


class IdleConnections:
    """Connections of all origins that are kept open for further requests (RFC 9112, 9.3).

    Thread-safe. Of too many, that which was used the longest ago is closed.

    Args:
        most: how many are kept open.
        most_per_origin: how many of one origin.
    """

    def __init__(self, most: int, most_per_origin: int) -> None:
        self._most = most
        self._most_per_origin = most_per_origin
        self._by_origin: defaultdict[str, deque[WebConnection]] = defaultdict(deque)
        self._in_order: OrderedDict[WebConnection, str] = OrderedDict()
        self._lock = threading.Lock()

    def take(self, origin: str) -> WebConnection | None:
        """Return a usable connection, the one that was used last; None if there is none."""
        while True:
            with self._lock:
                if not (idle := self._by_origin.get(origin)):
                    return None
                connection = idle.pop()
                del self._in_order[connection]
            if connection.is_usable():
                return connection
            connection.end()

    def keep(self, origin: str, connection: WebConnection) -> None:
        """Keep a connection, unless something is left of its last answer."""
        if not connection.is_usable():
            connection.end()
            return
        with self._lock:
            idle = self._by_origin[origin]
            idle.append(connection)
            self._in_order[connection] = origin
            leaving = None
            if len(idle) > self._most_per_origin:
                leaving = idle.popleft()
                del self._in_order[leaving]
            elif len(self._in_order) > self._most:
                leaving, other = self._in_order.popitem(last=False)
                self._by_origin[other].remove(leaving)
        if leaving is not None:
            leaving.end()

    def close(self) -> None:
        """Close all of them."""
        with self._lock:
            closing = list(self._in_order)
            self._in_order.clear()
            self._by_origin.clear()
        for connection in closing:
            connection.end()


class ConnectionPool:
    """Sends requests to one origin, over connections that are idle or new; thread-safe.

    Args:
        route: how they get there.
        supervision: of their sockets.
        idle: the connections that are kept.

    Attributes:
        route: how they get there.
    """

    def __init__(self, route: Route, supervision: Supervision, idle: IdleConnections) -> None:
        self.route = route
        self._supervision = supervision
        self._idle = idle

    def request(
        self, method: str, target: str, fields: Mapping[str, str], body: bytes = b""
    ) -> Answer:
        """Send a request over a connection that is idle, or a new one.

        A server may close an idle connection at any time. A request without effects that finds
        none but a broken one, or gets no valid answer there, is sent again at once over a new one
        (RFC 9112, 9.3.1); so is one that the server wants on another (RFC 9110, 15.5.9, 15.5.20).

        Raises:
            CannotConnect: the connection cannot be made.
            http.client.HTTPException, OSError: no valid response came.
        """
        used = None if body else self._idle.take(self.route.origin)
        if used is not None:
            try:
                answer = self._request_over(used, method, target, fields, body)
            except TimeoutError:
                raise
            except (OSError, http.client.HTTPException):
                pass
            else:
                if answer.status not in _OTHER_CONNECTION:
                    return answer
                answer.close()
        return self._request_over(self._connected(), method, target, fields, body)

    def take(self) -> tuple[WebConnection, bool]:
        """Return a connection, and whether it has served before; `give_back` takes it back.

        Raises:
            CannotConnect: none is idle, and none can be made.
        """
        idle = self._idle.take(self.route.origin)
        return (self._connected(), False) if idle is None else (idle, True)

    def _connected(self) -> WebConnection:
        """Return a new connection; idle ones make room if too many files are open.

        Raises:
            CannotConnect: it cannot be made.
        """
        connection = WebConnection(self.route, self._supervision)
        try:
            connection.connect()
        except CannotConnect as error:
            cause = error.__cause__
            if not (isinstance(cause, OSError) and cause.errno in TOO_MANY_FILES):
                raise
            self._idle.close()
            connection.connect()
        return connection

    def _request_over(
        self,
        connection: WebConnection,
        method: str,
        target: str,
        fields: Mapping[str, str],
        body: bytes,
    ) -> Answer:
        try:
            return Answer.of(connection.ask(method, target, fields, body), connection, self)
        except BaseException:
            connection.end()
            raise

    def give_back(self, connection: WebConnection) -> None:
        """Keep a connection for another request."""
        self._idle.keep(self.route.origin, connection)


class Answer:
    """A response whose connection is free for others once its body has come.

    Attributes:
        response: the library's; None for one that was received elsewhere.
        status: its code.
        fields: of its head.
        received: how many bytes of the body were read, without framing.
        transfer_codings: what is to be undone of the body, outermost last.
        is_delimited: whether it says where its body ends.
        spent: seconds from the request to its end, where it was received before it is read.
    """

    spent = 0.0

    def __init__(self, status: int, fields: Fields) -> None:
        self.status = status
        self.fields = fields
        self.received = 0
        self.transfer_codings: tuple[str, ...] = ()
        self.is_delimited = True
        self._again = b""
        self.response: StrictResponse | None = None
        self._connection: WebConnection | None = None
        self._pool: ConnectionPool | None = None

    @classmethod
    def of(
        cls, response: StrictResponse, connection: WebConnection, pool: ConnectionPool
    ) -> Answer:
        """Return the answer for a response whose head has come.

        Args:
            response: the library's.
            connection: what it comes over.
            pool: gets the connection back.
        """
        answer = cls(response.status, response.fields)
        answer.transfer_codings = response.transfer_codings
        answer.is_delimited = response.is_delimited
        answer.response, answer._connection, answer._pool = response, connection, pool
        if response.isclosed() or response.length == 0:
            answer._end()
        return answer

    @classmethod
    def received_whole(cls, status: int, fields: Fields, body: bytes, spent: float) -> Answer:
        """Return the answer for a response that has come to its end, after some seconds."""
        answer = cls(status, fields)
        answer.spent = spent
        answer._again, answer.received = body, len(body)
        return answer

    @property
    def whole(self) -> bytes | None:
        """Return the rest of the body if all of it has come; None if not."""
        return self._again if self._connection is None else None

    @property
    def was_cut(self) -> bool:
        """Whether a TLS connection ended without the alert that states it (RFC 8446, 6.1)."""
        return self.response is not None and self.response.reader.was_cut

    @property
    def left(self) -> int | None:
        """Return how many bytes of the body are to come; None if that is not known."""
        if self.response is None or self._connection is None:
            return len(self._again)
        left = self.response.length
        return None if left is None else left + len(self._again)

    @property
    def is_whole(self) -> bool:
        """Whether all of the body has been read, or it is closed."""
        return self._connection is None and not self._again

    def read(self, size: int) -> bytes:
        """Return the bytes of one receive, at most this many; empty at the end.

        Raises:
            http.client.HTTPException, OSError: the connection broke, or its framing is invalid.
        """
        if self._again:
            again, self._again = self._again[:size], self._again[size:]
            return again
        response = self.response
        if response is None or self._connection is None:
            return b""
        data = response.read1(size)
        if not data and response.length:
            raise http.client.IncompleteRead(b"", response.length)
        self.received += len(data)
        # The library notices the end of a body of known length only at the next read.
        if response.length == 0 or not data:
            self._end()
        return data

    def unread(self, data: bytes) -> None:
        """Have bytes that were read come once more."""
        self._again = data + self._again

    def allow(self, seconds: float) -> None:
        """Limit the time until more of the body has come."""
        if self.response is not None:
            self.response.reader.allow(seconds)

    def _end(self) -> None:
        """Give the connection back: the whole body has come."""
        connection, self._connection = self._connection, None
        response, pool = self.response, self._pool
        if response is None or pool is None or connection is None:
            return
        response.close()
        if response.will_close:
            connection.end()
        else:
            pool.give_back(connection)

    def close(self) -> None:
        """Close the connection unless it was given back."""
        connection, self._connection = self._connection, None
        self._again = b""
        if self.response is not None:
            self.response.close()
        if connection is not None:
            connection.end()
