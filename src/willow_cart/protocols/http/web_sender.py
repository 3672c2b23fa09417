"""Send single requests to web servers: their fields, proxies and pools of connections."""

from __future__ import annotations

import http.client
import re
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from urllib.parse import urlsplit

from willow_cart.addresses import WEB, host_of, origin_of
from willow_cart.errors import ProtocolError
from willow_cart.platform import processes
from willow_cart.protocols.http.http_connection import (
    Answer,
    CannotConnect,
    ConnectionPool,
    IdleConnections,
    Route,
    Supervision,
)
from willow_cart.protocols.recorder import ExchangeRecorder
from willow_cart.protocols.sockets import RequestPacer, SocketGuard
from willow_cart.protocols.web_sessions import no_connection, translate
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.trust import ContextFor
from willow_cart.version import __version__

# A refusal's page is read to its end if it is short, so that the connection can be used again.
_MAX_DRAINED_BYTES = 64 * 1024

# Idle connections of all origins together.
_MAX_IDLE_CONNECTIONS = 128

# How long the body of a refusal is waited for.
_DRAIN_SECONDS = 10.0


# A target without spaces (RFC 9112, 3.2), a host, and the values of fields, in ASCII.
_PLAIN = re.compile(r"[!-~]+ [!-~]+ [ -~]*")


class WebSender:
    """Sends requests, each once; thread-safe.

    Args:
        lanes_per_host, connect_after, stall_after, longest, pacer, context_for, proxy_for,
            overhearing: see `WebAccess`.
    """

    def __init__(
        self,
        *,
        lanes_per_host: int,
        connect_after: float,
        stall_after: float,
        longest: float | None,
        pacer: RequestPacer | None,
        context_for: ContextFor,
        proxy_for: Callable[[str], str | None],
        overhearing: ExchangeRecorder | None,
    ) -> None:
        self._pools: dict[str, ConnectionPool] = {}
        self._idle = IdleConnections(
            processes.files_to_keep_open(_MAX_IDLE_CONNECTIONS), lanes_per_host
        )
        self._connect_after = connect_after
        self._stall_after = stall_after
        self._longest = longest
        self._guard = SocketGuard(pacer)
        self._context_for = context_for
        self._proxy_for = proxy_for
        self._overhearing = overhearing
        self._fields = {
            "User-Agent": f"willow-cart/{__version__}",
            "Accept": "*/*",
            # Bytes are wanted as they are kept: a coding would hide their length and their range.
            "Accept-Encoding": "identity",
        }

        self._usual = "".join(f"{name}: {value}\r\n" for name, value in self._fields.items())

    def send(
        self,
        method: str,
        address: str,
        fields: dict[str, str],
        *,
        asked: str,
        body: bytes | None = None,
    ) -> Answer:
        """Send one request; one with a body is a step of a sign-in, which no record has."""
        parts = urlsplit(address)
        if parts.scheme not in WEB:
            raise ProtocolError(
                without_secrets(asked), "not a web address", "use an http:// or https:// address"
            )
        pool = self._pool_for(origin_of(address))
        target = f"{parts.path}?{parts.query}" if parts.query else parts.path
        fields = self._fields | fields
        sent = fields
        if pool.route.is_relayed:
            target, sent = address, fields | pool.route.proxy_fields
        try:
            answer = pool.request(method, target, sent, body or b"")
        except CannotConnect as error:
            raise no_connection(error.__cause__, asked, host_of(address)) from error
        except (OSError, http.client.HTTPException) as error:
            raise translate(error, asked, host_of(address), self._stall_after) from error
        if self._overhearing is not None and body is None and answer.response is not None:
            self._overhearing.overhear(answer.response, method, address, fields)
        return answer

    def can_loop(self, address: str) -> bool:
        """Whether `send_many` can send requests to the origin of an address."""
        return self._overhearing is None and not self._pool_for(origin_of(address)).route.is_nested

    def send_many(
        self,
        asked: Sequence[tuple[str, Mapping[str, str]]],
        at_once: int,
        is_wanted: Callable[[], bool],
    ) -> Iterator[tuple[int, Answer | None]]:
        """Send requests to one host, several at a time; see `request_loop`.

        Args:
            asked: the addresses, and the fields that each request has besides.
            at_once: how many requests are in flight at a time.
            is_wanted: whether to go on.
        """
        from willow_cart.protocols.http.request_loop import (
            RequestLoop,  # a single file needs no parser of its own
        )

        by_origin: defaultdict[str, list[tuple[int, bytes]]] = defaultdict(list)
        for number, (address, fields) in enumerate(asked):
            request = self._written(address, fields)
            if request is None:
                yield number, None
            else:
                by_origin[origin_of(address)].append((number, request))
        for origin, those in by_origin.items():
            loop = RequestLoop(self._pool_for(origin), at_once, is_wanted)
            yield from loop.run(those)

    def _written(self, address: str, fields: Mapping[str, str]) -> bytes | None:
        """Return a GET request as it is sent (RFC 9112, 3); None if it needs the library's care."""
        origin = origin_of(address)
        route, host = self._pool_for(origin).route, host_of(origin)
        if route.is_relayed:
            target, fields = address, {**fields, **route.proxy_fields}
        else:
            target = address.removeprefix(origin).partition("#")[0]
            target = target if target.startswith("/") else f"/{target}"
        more = "".join(f"{name}: {value}\r\n" for name, value in fields.items())
        if not _PLAIN.fullmatch(f"{target} {host} {''.join(fields.values())}"):
            return None
        return f"GET {target} HTTP/1.1\r\nHost: {host}\r\n{self._usual}{more}\r\n".encode("ascii")

    def _pool_for(self, origin: str) -> ConnectionPool:
        """Return the connection pool of an origin.

        Of two that lanes make at the same time, one is kept.
        """
        pool = self._pools.get(origin)
        if pool is None:
            proxy = self._proxy_for(origin)
            context = self._context_for(origin)
            context.set_alpn_protocols(["http/1.1"])
            if context.post_handshake_auth is not None:
                context.post_handshake_auth = True  # RFC 8446, 4.6.2
            to_proxy = context if proxy is None else self._context_for(origin_of(proxy))
            route = Route(origin, proxy, context, to_proxy)
            supervision = Supervision(
                self._guard,
                host_of(origin),
                self._connect_after,
                self._stall_after,
                float("inf") if self._longest is None else self._longest,
            )
            made = ConnectionPool(route, supervision, self._idle)
            pool = self._pools.setdefault(origin, made)
        return pool

    def drop(self, response: Answer) -> None:
        """Drain or close a response without using its body."""
        left = response.left
        if left is not None and left <= _MAX_DRAINED_BYTES:
            self.beginning_of(response)
        response.close()

    def beginning_of(self, response: Answer) -> bytes:
        """Read the body of a response without a file, if that is short and comes soon."""
        response.allow(min(_DRAIN_SECONDS, self._stall_after))
        body = b""
        with suppress(OSError, http.client.HTTPException):
            while len(body) < _MAX_DRAINED_BYTES and (data := response.read(_MAX_DRAINED_BYTES)):
                body += data
        return body

    def abort(self) -> None:
        """End every exchange."""
        self._guard.abort()

    def close(self) -> None:
        """Release all connections."""
        self._idle.close()
        if self._overhearing is not None:
            self._overhearing.end()
