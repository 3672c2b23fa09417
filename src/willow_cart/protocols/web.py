"""HTTP and HTTPS: redirects, sign-ins, ranges and validators.

Redirects and retries are rules of this house (`protocols.http.http_rules`, `protocols.retry`);
connections are in `protocols.http.http_connection`.
"""

from __future__ import annotations

import http.client
import os
import ssl
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import urlsplit

from willow_cart.addresses import WEB, host_of, origin_of, scheme_of
from willow_cart.errors import (
    NotServed,
    NotTrusted,
    ProtocolError,
    ServerBusy,
    TransferFailed,
)
from willow_cart.model import Metadata, Validators
from willow_cart.protocols.base import Access, Download, Unchanged
from willow_cart.protocols.http import http_rules as rules
from willow_cart.protocols.http.http_connection import (
    Answer,
    CannotConnect,
    ConnectionPool,
    Route,
    Supervision,
)
from willow_cart.protocols.http.proxies import proxy_for as usual_proxy
from willow_cart.protocols.promises import (
    PROOFS,
    composite_of,
    promised_by_server,
    promised_by_store,
)
from willow_cart.protocols.read_all import read_whole
from willow_cart.protocols.recorder import ExchangeRecorder
from willow_cart.protocols.sockets import RequestPacer, SocketGuard
from willow_cart.protocols.web_delivery import WebDownload
from willow_cart.protocols.web_errors import BLOB_ERRORS, explain_blob, no_connection, translate
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.chain_cookies import ChainCookies
from willow_cart.sign_in.sign_ins import Signer, SignIns
from willow_cart.version import __version__

if TYPE_CHECKING:
    from willow_cart.protocols.router import AccessSettings

# A refusal's page is read to its end if it is short, so that the connection can be used again.
_MAX_DRAINED_BYTES = 64 * 1024

# How long the body of a refusal is waited for.
_DRAIN_SECONDS = 10.0

# One for the first response without credentials, one for a stale nonce.
_MAX_CHALLENGES = 3

Explain = Callable[[int, Mapping[str, str], bytes, str], TransferFailed | None]


class _Followed(NamedTuple):
    """The last response of a chain of redirects.

    Attributes:
        response: the answer.
        final: the address that it came from.
        notes: what the user should know of the chain.
    """

    response: Answer
    final: str
    notes: tuple[str, ...]


def connect(settings: AccessSettings) -> WebAccess:
    """Build the access to web servers from the settings."""
    return WebAccess(
        lanes_per_host=settings.lanes_per_host,
        sign_ins=settings.sign_ins,
        context=settings.trust.context(),
        stall_after=settings.rules.stall_after,
        longest=settings.rules.longest,
        pacer=settings.pacer,
        overhearing=settings.overhearing,
    )


class WebAccess(Access):
    """Access to web servers.

    Args:
        lanes_per_host: how many connections are kept open to one host.
        connect_after: seconds after which a connection that is not made is given up.
        stall_after: seconds without a byte of a body, or without a complete head, after which a
            connection is given up.
        longest: seconds after which a head is given up whatever came; None for no limit.
        pacer: keeps gaps between requests; None for no gaps.
        sign_ins: who is authorised where.
        context: for TLS; None trusts whom the system trusts.
        of_store: whether the answers are those of object stores, whose fields promise more.
        explain: makes an error of an answer that fetches no file, from its status, fields, the
            beginning of its body and the address; None where it has nothing to add.
        proxy_for: the address of the proxy for an origin; None for none.
        overhearing: hears every exchange; None for none.
        now: the clock that Retry-After dates are compared with.
    """

    def __init__(
        self,
        *,
        lanes_per_host: int = 4,
        connect_after: float = 20.0,
        stall_after: float = 60.0,
        longest: float | None = None,
        pacer: RequestPacer | None = None,
        sign_ins: Signer | None = None,
        context: ssl.SSLContext | None = None,
        of_store: bool = False,
        explain: Explain | None = None,
        proxy_for: Callable[[str], str | None] = lambda origin: usual_proxy(origin, os.environ),
        overhearing: ExchangeRecorder | None = None,
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self._overhearing = overhearing
        self._pools: dict[str, ConnectionPool] = {}
        self._proxy_for = proxy_for
        self._lanes_per_host = lanes_per_host
        self._connect_after = connect_after
        self._sign_ins = sign_ins or SignIns()
        self._context = context
        self._of_store = of_store
        self._explain = explain
        self._now = now
        self._stall_after = stall_after if longest is None else min(stall_after, longest)
        self._longest = longest
        self._guard = SocketGuard(pacer)
        self._fields = {
            "User-Agent": f"willow-cart/{__version__}",
            "Accept": "*/*",
            # Bytes are wanted as they are kept: a coding would hide their length and their range.
            "Accept-Encoding": "identity",
        }

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Request a file; a range that cannot be joined is replaced by the whole."""
        is_part = start > 0 or end is not None
        if is_part:
            ranged = rules.range_fields(start, end, validators)
            if ranged is None:
                return self.open(address)
            fields = ranged
        else:
            fields = {} if validators is None else rules.conditional_fields(validators)

        response, final, notes = self._follow("GET", address, fields)
        facts = self._facts_from(response, final)
        seconds = self._stall_after
        match response.status:
            case 200 | 203:
                return WebDownload(response, address, facts, 0, seconds, notes=notes)
            case 206 if is_part and (part := _part_from(response, facts, start, end, validators)):
                return WebDownload(response, address, part, start, seconds, notes=notes)
            case 206 if not is_part and (part := _part_from(response, facts, 0, None, None)):
                # A part that was not requested, and is the whole (RFC 9110, 15.3.7).
                return WebDownload(response, address, part, 0, seconds, notes=notes)
            case 304 if validators is not None and not is_part:
                self._drop(response)
                return Unchanged(facts)
            case 416 if start and end is None and _is_complete(response, start, validators):
                # Nothing is left to fetch; the delivery that says so is empty.
                part = Metadata(final, start, validators or Validators())
                return WebDownload(response, address, part, start, seconds, empty=True)
            case 206 | 416 if is_part:
                # A part that is not the one requested must not be joined (RFC 9110, 14.4, 15.3.7),
                # nor several parts in one body (14.6).
                self._drop(response)
                return self.open(address)
            case _:
                raise self._refusal(response, address, final)

    def ask(self, address: str) -> Metadata:
        """Send HEAD; if it is refused, send GET for the first byte.

        400, 403, 405 and 501 are what servers refuse HEAD with although they serve GET: the method
        is not theirs (RFC 9110, 15.5.6 and 15.6.2), or an address was signed for GET alone.
        """
        response, final, _ = self._follow("HEAD", address, {})
        if response.status in (400, 403, 405, 501):
            self._drop(response)
            response, final, _ = self._follow("GET", address, {"Range": "bytes=0-0"})
        content_range = rules.parse_content_range(response.fields.get("Content-Range"))
        if response.status in (206, 416) and content_range is not None:
            facts = replace(self._facts_from(response, final), length=content_range.length)
            self._drop(response)
        elif response.status in (200, 203):
            facts = self._facts_from(response, final)
            if response.left != 0:
                response.close()  # a whole body, from who does not know of ranges
            else:
                self._drop(response)
        else:
            raise self._refusal(response, address, final)
        return replace(
            facts,
            modified=rules.parse_date(facts.validators.last_modified),
            proofs=tuple(name for name in PROOFS if name in response.fields),
        )

    def properties(self, address: str, depth: int) -> tuple[str, bytes]:
        """Request the properties of a WebDAV resource; see `Access.properties`.

        An empty body asks for all of them.
        """
        response, final, _ = self._follow("PROPFIND", address, {"Depth": str(depth)})
        if response.status != 207:
            raise self._refusal(response, address, final)
        facts = self._facts_from(response, final)
        download = WebDownload(response, address, facts, 0, self._stall_after)
        try:
            return final, read_whole(download, seconds=self.document_seconds)
        finally:
            download.close()

    def has_properties(self, address: str) -> bool:
        """Whether the answer to OPTIONS has a DAV field (RFC 4918, 10.1)."""
        try:
            response, _, _ = self._follow("OPTIONS", address, {})
        except TransferFailed:
            return False
        self._drop(response)
        return "1" in (response.fields.get("DAV") or "").replace(" ", "").split(",")

    def abort(self) -> None:
        """End every exchange; see `Access.abort`."""
        self._guard.abort()

    def close(self) -> None:
        """Release all connections."""
        for pool in self._pools.values():
            pool.close()
        if self._overhearing is not None:
            self._overhearing.end()

    def _follow(self, method: str, address: str, fields: dict[str, str]) -> _Followed:
        """Send a request and follow redirects."""
        seen = [address]
        cookies = ChainCookies()
        notes: tuple[str, ...] = ()
        since = 0
        while True:
            response = self._request(method, seen[-1], fields, cookies, asked=address)
            if response.status not in rules.REDIRECTS:
                return _Followed(response, seen[-1], notes)
            location = response.fields.get("Location")
            if location is None and self._explain is not None:
                raise self._refusal(response, address, seen[-1])
            if cookies.take(seen[-1], response.fields.all_of("Set-Cookie")):
                since = len(seen)  # who shows a new cookie may be sent to the same place again
            self._drop(response)
            following = rules.next_address(seen[-1], location, seen, since)
            if scheme_of(seen[-1]) == "https" and scheme_of(following) == "http":
                self._require_nothing_at_stake(address)
                notes = ("redirected from https to http; fetched unencrypted",)
            seen.append(following)

    def _require_nothing_at_stake(self, address: str) -> None:
        """Refuse a redirect away from TLS if a sign-in is used.

        Raises:
            NotTrusted: there is a sign-in for the address.
        """
        if self._signs(address):
            raise NotTrusted(
                without_secrets(address),
                "redirected from https to http; not followed, because a sign-in is in use",
                "use the http:// address itself if this is intended",
            )

    def _request(
        self,
        method: str,
        address: str,
        fields: dict[str, str],
        cookies: ChainCookies,
        *,
        asked: str,
    ) -> Answer:
        """Send one request with the credentials of its origin."""
        if cookie := cookies.field_for(address):
            fields = fields | {"Cookie": cookie}
        if not self._sign_ins:
            return self._send(method, address, fields, asked=asked)
        there = address
        if more := self._sign_ins.query_for(address):
            there += f"{'&' if '?' in address else '?'}{more}"
        for _ in range(_MAX_CHALLENGES):
            signed = self._sign_ins.fields_for(method, address, fields)
            if cookie and "Cookie" in signed:
                signed["Cookie"] += f"; {cookie}"
            signed = fields | signed
            response = self._send(method, there, signed, asked=asked)
            challenges = response.fields.all_of("WWW-Authenticate")
            if response.status != 401 or not self._sign_ins.challenged(address, challenges, signed):
                break
            self._drop(response)
        return response

    def _send(self, method: str, address: str, fields: dict[str, str], *, asked: str) -> Answer:
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
            answer = pool.request(method, target, sent)
        except CannotConnect as error:
            raise no_connection(error.__cause__, asked, host_of(address)) from error
        except (OSError, http.client.HTTPException) as error:
            raise translate(error, asked, host_of(address), self._stall_after) from error
        if self._overhearing is not None:
            self._overhearing.overhear(answer.response, method, address, fields)
        return answer

    def _pool_for(self, origin: str) -> ConnectionPool:
        """Return the connection pool of an origin.

        Of two that lanes make at the same time, one is kept.
        """
        pool = self._pools.get(origin)
        if pool is None:
            route = Route(origin, self._proxy_for(origin), self._trust)
            supervision = Supervision(
                self._guard,
                host_of(origin),
                self._connect_after,
                self._stall_after,
                float("inf") if self._longest is None else self._longest,
            )
            made = ConnectionPool(route, supervision, self._lanes_per_host)
            pool = self._pools.setdefault(origin, made)
        return pool

    @cached_property
    def _trust(self) -> ssl.SSLContext:
        """Who is trusted; reading the system's certificates takes a while."""
        context = self._context or ssl.create_default_context()
        context.set_alpn_protocols(["http/1.1"])
        if context.post_handshake_auth is not None:
            context.post_handshake_auth = True  # RFC 8446, 4.6.2
        return context

    def _facts_from(self, response: Answer, address: str) -> Metadata:
        fields = response.fields
        # RFC 9112, 6.3: a transfer coding overrides a length that is given beside it.
        length = None if "Transfer-Encoding" in fields else fields.get("Content-Length")
        media_type, charset = rules.parse_content_type(fields.get("Content-Type"))
        checksums = promised_by_server(fields, whole=response.status != 206)
        composite = None
        if self._of_store:
            checksums += promised_by_store(fields)
            composite = composite_of(fields)
        return Metadata(
            address,
            rules.parse_content_length(length),
            Validators(fields.get("ETag"), fields.get("Last-Modified"), fields.get("Date")),
            media_type=media_type,
            charset=charset,
            attachment=rules.is_attachment(fields.get("Content-Disposition")),
            file_name=rules.file_name_in(fields.get("Content-Disposition")),
            following=rules.following_link(fields.get("Link")),
            checksums=checksums,
            composite=composite,
        )

    def _drop(self, response: Answer) -> None:
        """Drain or close a response without using its body."""
        left = response.left
        if left is not None and left <= _MAX_DRAINED_BYTES:
            self._beginning_of(response)
        response.close()

    def _beginning_of(self, response: Answer) -> bytes:
        """Read the body of a response without a file, if that is short and comes soon."""
        response.allow(min(_DRAIN_SECONDS, self._stall_after))
        body = b""
        with suppress(OSError, http.client.HTTPException):
            while len(body) < _MAX_DRAINED_BYTES and (data := response.read(_MAX_DRAINED_BYTES)):
                body += data
        return body

    def _refusal(self, response: Answer, address: str, final: str) -> TransferFailed:
        """Return the error for a response without a file.

        Args:
            response: the answer.
            address: what was requested.
            final: who answered.
        """
        status = response.status
        wait = rules.parse_retry_after(response.fields.get("Retry-After"), self._now())
        explained = self._explained(response, address)
        self._drop(response)
        if explained is not None:
            return explained
        shown = without_secrets(address)
        reason = rules.name_of_status(status)
        if rules.is_passing(status):
            return ServerBusy(shown, reason, "try again later", wait=wait, status=status)
        if status < 400:
            return ProtocolError(shown, reason, "not a final answer")
        signed = self._signs(final)
        return NotServed(shown, reason, rules.advice_for_status(status, signed), status=status)

    def _signs(self, address: str) -> bool:
        """Whether a request to an address has a sign-in."""
        sign_ins = self._sign_ins
        return bool(sign_ins.fields_for("GET", address) or sign_ins.query_for(address))

    def _explained(self, response: Answer, address: str) -> TransferFailed | None:
        """Return the server's own explanation for a response without a file."""
        code = response.fields.get("x-ms-error-code", "")
        if code in BLOB_ERRORS:
            shown = without_secrets(address)
            return explain_blob(code, response.status, shown, signed=self._signs(address))
        if self._explain is None:
            return None
        body = self._beginning_of(response)[:_MAX_DRAINED_BYTES]
        return self._explain(response.status, response.fields, body, address)


def _part_from(
    response: Answer, facts: Metadata, start: int, end: int | None, validators: Validators | None
) -> Metadata | None:
    """Return the metadata of the complete representation.

    None unless a 206 is exactly the part that was requested.
    """
    content_range = rules.parse_content_range(response.fields.get("Content-Range"))
    if content_range is None or content_range.first != start or content_range.length is None:
        return None
    last = (content_range.length if end is None else end) - 1
    if content_range.last != last:
        return None
    if facts.length not in (None, last + 1 - start):
        return None
    # A server that ignores If-Range shows itself by other marks (RFC 9110, 13.1.5, 15.3.7).
    if validators is not None and rules.contradict(facts.validators, validators):
        return None
    return replace(facts, length=content_range.length, validators=validators or facts.validators)


def _is_complete(response: Answer, start: int, validators: Validators | None) -> bool:
    """Whether a 416 means that the file is complete: same version, and this length.

    A server that found another version would have sent it whole (RFC 9110, 13.1.5, 15.5.17).
    """
    content_range = rules.parse_content_range(response.fields.get("Content-Range"))
    return validators is not None and content_range is not None and content_range.length == start
