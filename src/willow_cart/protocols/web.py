"""HTTP and HTTPS: redirects, sign-ins, ranges and validators.

Redirects and retries are rules of this package (`protocols.http.http_rules`, `protocols.retry`);
what is sent, and over which connections, is in `protocols.http`.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from willow_cart.addresses import scheme_of
from willow_cart.defaults import CONNECT_SECONDS, LANES_PER_HOST, STALL_SECONDS
from willow_cart.errors import (
    NotServed,
    NotTrusted,
    ProtocolError,
    ServerBusy,
    SignInFailed,
    TransferFailed,
)
from willow_cart.model import Metadata, Validators
from willow_cart.protocols.base import (
    Access,
    Download,
    Lister,
    SmallAnswer,
    SmallRequest,
    Unchanged,
    WholeDownload,
    read_whole,
)
from willow_cart.protocols.http import http_rules as rules
from willow_cart.protocols.http.http_connection import (
    Answer,
)
from willow_cart.protocols.http.http_connection import proxy_for as usual_proxy
from willow_cart.protocols.http.web_sender import WebSender
from willow_cart.protocols.recorder import ExchangeRecorder
from willow_cart.protocols.retry import tell_nothing
from willow_cart.protocols.sockets import RequestPacer
from willow_cart.protocols.web_delivery import (
    PROOFS,
    WebDownload,
    composite_of,
    promised_by_server,
    promised_by_store,
)
from willow_cart.protocols.web_sessions import BLOB_ERRORS, explain_blob
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.cookie_file import ChainCookies
from willow_cart.sign_in.origins import NamedOrigins
from willow_cart.sign_in.sign_ins import Signer, SignIns
from willow_cart.sign_in.trust import ContextFor, TlsContexts, Trust
from willow_cart.structs import replace

if TYPE_CHECKING:
    from willow_cart.protocols.router import AccessSettings
    from willow_cart.protocols.web_sessions import WebSessions
    from willow_cart.sign_in.oauth import DeviceCode


def part_from(
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


def is_complete(response: Answer, start: int, validators: Validators | None) -> bool:
    """Whether a 416 means that the file is complete: same version, and this length.

    A server that found another version would have sent it whole (RFC 9110, 13.1.5, 15.5.17).
    """
    content_range = rules.parse_content_range(response.fields.get("Content-Range"))
    return validators is not None and content_range is not None and content_range.length == start


_PAGE_TYPES = ("text/html", "application/xhtml+xml")

# Fields of bodies that are not what is stored.
_CODED = frozenset({"content-encoding", "x-goog-stored-content-encoding"})

# Fields that say more of a file than its length, version and type, which few answers have.
_RARE = frozenset({"link", "content-disposition", "content-location", *map(str.lower, PROOFS)})

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
        context_for=TlsContexts(settings.trust, settings.sign_ins.origins),
        stall_after=settings.pace.stall_after,
        longest=settings.pace.time_per_file,
        pacer=settings.pacer,
        overhearing=settings.overhearing,
        tokens=settings.tokens,
        announce=settings.announce,
        wait=settings.retrier.wait,
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
        sign_ins: the credentials for each origin.
        context_for: the TLS context for an origin; None trusts whom the system trusts.
        of_store: whether the answers are those of object stores, whose fields promise more.
        explain: makes an error of an answer that fetches no file, from its status, fields, the
            beginning of its body and the address; None where it has nothing to add.
        proxy_for: the address of the proxy for an origin; None for none.
        overhearing: hears every exchange; None for none.
        tokens: the folder where tokens are kept between runs; None for nowhere.
        announce: shows a code that the user has to enter elsewhere.
        wait: waits for that, for a number of seconds.
        now: the clock that Retry-After dates are compared with.
    """

    def __init__(
        self,
        *,
        lanes_per_host: int = LANES_PER_HOST,
        connect_after: float = CONNECT_SECONDS,
        stall_after: float = STALL_SECONDS,
        longest: float | None = None,
        pacer: RequestPacer | None = None,
        sign_ins: Signer | None = None,
        context_for: ContextFor | None = None,
        of_store: bool = False,
        explain: Explain | None = None,
        proxy_for: Callable[[str], str | None] = lambda origin: usual_proxy(origin, os.environ),
        overhearing: ExchangeRecorder | None = None,
        tokens: Path | None = None,
        announce: Callable[[DeviceCode], None] = tell_nothing,
        wait: Callable[[float], bool | None] = time.sleep,
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self._sign_ins = SignIns() if sign_ins is None else sign_ins
        self._of_store = of_store
        self._explain = explain
        self._now = now
        self._stall_after = stall_after if longest is None else min(stall_after, longest)
        self._sender = WebSender(
            lanes_per_host=lanes_per_host,
            connect_after=connect_after,
            stall_after=self._stall_after,
            longest=longest,
            pacer=pacer,
            context_for=context_for or TlsContexts(Trust(), NamedOrigins()),
            proxy_for=proxy_for,
            overhearing=overhearing,
        )
        self._sessions: WebSessions | None = None
        if isinstance(sign_ins, SignIns) and sign_ins.have_sessions:
            from willow_cart.protocols.web_sessions import WebSessions  # few sign-ins need them

            self._sessions = WebSessions(
                sign_ins, self._sender.send, tokens=tokens, announce=announce, wait=wait
            )

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
            case 206 if is_part and (part := part_from(response, facts, start, end, validators)):
                return WebDownload(response, address, part, start, seconds, notes=notes)
            case 206 if not is_part and (part := part_from(response, facts, 0, None, None)):
                # A part that was not requested, and is the whole (RFC 9110, 15.3.7).
                return WebDownload(response, address, part, 0, seconds, notes=notes)
            case 304 if validators is not None and not is_part:
                self._sender.drop(response)
                return Unchanged(facts)
            case 416 if start and end is None and is_complete(response, start, validators):
                # Nothing is left to fetch; the delivery that states it is empty.
                part = Metadata(final, start, validators or Validators())
                return WebDownload(response, address, part, start, seconds, empty=True)
            case 206 | 416 if is_part:
                # A part that is not the one requested must not be joined (RFC 9110, 14.4, 15.3.7),
                # nor several parts in one body (14.6).
                self._sender.drop(response)
                return self.open(address)
            case _:
                raise self._refusal(response, address, final)

    def fetches_small(self, address: str) -> bool:
        """Whether an address needs no session, and exchanges are not recorded."""
        return self._sessions is None and self._sender.can_loop(address)

    def fetch_small(
        self, asked: Sequence[SmallRequest], at_once: int, is_wanted: Callable[[], bool]
    ) -> Iterator[tuple[int, SmallAnswer]]:
        """Request small files of one host; see `Access.fetch_small`."""
        requests = []
        for address, held in asked:
            fields = {} if held is None else rules.conditional_fields(held)
            there = address
            if self._sign_ins and self._sign_ins.is_for(address, ()):
                fields |= self._sign_ins.fields_for("GET", address, fields)
                if more := self._sign_ins.query_for(address):
                    there += f"{'&' if '?' in address else '?'}{more}"
            requests.append((there, fields))
        for number, answer in self._sender.send_many(requests, at_once, is_wanted):
            came: SmallAnswer = None
            if answer is not None:
                with suppress(Exception):  # an odd one; the ordinary way says why
                    came = self._small_answer(answer, asked[number])
            yield number, came

    def _small_answer(self, answer: Answer, asked: SmallRequest) -> SmallAnswer:
        address, held = asked
        if answer.status == 304 and held is not None:
            return Unchanged(self._facts_from(answer, address))
        if answer.status != 200:
            return self._refusal(answer, address, address)
        facts = self._facts_from(answer, address)
        if answer.fields.keys().isdisjoint(_CODED):
            whole = WholeDownload(facts, answer.whole or b"")
            whole.spent = answer.spent
            return whole
        try:
            return WebDownload(answer, address, facts, 0, self._stall_after)
        except TransferFailed as error:
            return error

    def ask(self, address: str) -> Metadata:
        """Send HEAD; if it is refused, send GET for the first byte.

        400, 403, 405 and 501 are what servers refuse HEAD with although they serve GET: the method
        is not theirs (RFC 9110, 15.5.6 and 15.6.2), or an address was signed for GET alone.
        """
        response, final, _ = self._follow("HEAD", address, {})
        if response.status in (400, 403, 405, 501):
            self._sender.drop(response)
            response, final, _ = self._follow("GET", address, {"Range": "bytes=0-0"})
        content_range = rules.parse_content_range(response.fields.get("Content-Range"))
        if response.status in (206, 416) and content_range is not None:
            facts = replace(self._facts_from(response, final), length=content_range.length)
            self._sender.drop(response)
        elif response.status in (200, 203):
            facts = self._facts_from(response, final)
            if response.left != 0:
                response.close()  # a whole body, from who does not know of ranges
            else:
                self._sender.drop(response)
        else:
            raise self._refusal(response, address, final)
        return replace(
            facts,
            modified=rules.parse_date(facts.validators.last_modified),
            proofs=tuple(name for name in PROOFS if name in response.fields),
        )

    def post(self, address: str, body: bytes) -> tuple[Metadata, bytes]:
        """Send a document in JSON; see `Access.post`. It is not redirected.

        A redirect is followed only as GET (RFC 9110, 15.4.4).
        """
        fields = {"Content-Type": "application/json", "Accept": "application/geo+json, */*;q=0.5"}
        response = self._request("POST", [address], fields, ChainCookies(), body)
        if response.status not in (200, 203):
            raise self._refusal(response, address, address)
        facts = self._facts_from(response, address)
        download = WebDownload(response, address, facts, 0, self._stall_after)
        try:
            return facts, read_whole(download, seconds=self.document_seconds)
        finally:
            download.close()

    def lister(self, address: str, *, webdav: bool = False) -> Lister | None:  # noqa: ARG002
        """Return the lister of WebDAV if wanted; see `Access.lister`."""
        if not webdav:
            return None
        from willow_cart.protocols.webdav import WebDav  # and what reads XML

        return WebDav(self)

    def properties(self, address: str, depth: int) -> tuple[str, bytes]:
        """Request the properties of a WebDAV resource; RFC 4918, 9.1.

        Args:
            depth: 0 for its own, 1 for those of its members as well.

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
        self._sender.drop(response)
        return "1" in (response.fields.get("DAV") or "").replace(" ", "").split(",")

    def abort(self) -> None:
        """End every exchange; see `Access.abort`."""
        self._sender.abort()

    def close(self) -> None:
        """Release all connections."""
        self._sender.close()

    def _follow(self, method: str, address: str, fields: dict[str, str]) -> _Followed:
        """Send a request and follow redirects; sign in again if the answer is a sign-in form."""
        sessions = self._sessions
        if sessions is None:
            return self._follow_once(method, address, fields)
        generation = sessions.generation(address)
        followed = self._follow_once(method, address, fields)
        if self._is_form(sessions, address, followed):
            self._sender.drop(followed.response)
            sessions.renew(address, generation)
            followed = self._follow_once(method, address, fields)
            if self._is_form(sessions, address, followed):
                self._sender.drop(followed.response)
                raise SignInFailed(
                    without_secrets(address),
                    "the sign-in form came instead of the file, although the sign-in succeeded",
                    "ask whether this user may have the file",
                )
        return followed

    def _is_form(self, sessions: WebSessions, asked: str, followed: _Followed) -> bool:
        """Whether an answer is a sign-in form; what was read of it comes once more."""
        response = followed.response
        if sessions.is_form(asked, followed.final):
            return True
        media_type, _ = rules.parse_content_type(response.fields.get("Content-Type"))
        if media_type not in _PAGE_TYPES or "Content-Encoding" in response.fields:
            return False
        if not sessions.has_form(asked):
            return False
        beginning = self._sender.beginning_of(response)
        response.unread(beginning)
        return sessions.is_form(asked, followed.final, beginning)

    def _follow_once(self, method: str, address: str, fields: dict[str, str]) -> _Followed:
        """Send a request and follow redirects."""
        seen = [address]
        cookies = ChainCookies()
        notes: tuple[str, ...] = ()
        since = 0
        vouched = False
        while True:
            response = self._request(method, seen, fields, cookies)
            if response.status not in rules.REDIRECTS:
                if vouched and self._sessions is not None:
                    self._sessions.keep_identity(address, cookies)
                return _Followed(response, seen[-1], notes)
            if self._sessions is not None:
                vouched |= self._sessions.is_identity_host(seen[-1])
            location = response.fields.get("Location")
            if self._explain is not None:  # a store that signs for each host
                if location is None:
                    raise self._refusal(response, address, seen[-1])
                if explained := self._explained(response, address):
                    self._sender.drop(response)
                    raise explained
            if cookies.take(seen[-1], response.fields.all_of("Set-Cookie")):
                since = len(seen)  # a new cookie may lead to the same address again
            self._sender.drop(response)
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
        seen: Sequence[str],
        fields: dict[str, str],
        cookies: ChainCookies,
        body: bytes | None = None,
    ) -> Answer:
        """Send one request with the credentials of its origin.

        Args:
            seen: what has led there, and last the address that is asked.
            cookies: of the chain.
            body: of the request; None for none.
        """
        asked, address = seen[0], seen[-1]
        if cookie := cookies.field_for(address):
            fields = fields | {"Cookie": cookie}
        if not self._sign_ins or not self._sign_ins.is_for(address, seen[:-1]):
            return self._sender.send(method, address, fields, asked=asked, body=body)
        if self._sessions is not None and body is None:
            return self._request_in_session(self._sessions, method, address, fields, asked=asked)
        return self._request_signed(method, address, fields, asked=asked, body=body)

    def _request_in_session(
        self,
        sessions: WebSessions,
        method: str,
        address: str,
        fields: dict[str, str],
        *,
        asked: str,
    ) -> Answer:
        """Send one request as part of a session; begin another one if that has ended."""
        for is_last in (False, True):
            more, generation = sessions.fields_for(address)
            answer = self._request_signed(method, address, _joined(fields, more), asked=asked)
            sessions.take_cookies(address, answer.fields.all_of("Set-Cookie"))
            if answer.status != 401 or is_last or "Authorization" not in more:
                break
            self._sender.drop(answer)
            sessions.renew(address, generation)  # the token was taken back
        return answer

    def _request_signed(
        self,
        method: str,
        address: str,
        fields: dict[str, str],
        *,
        asked: str,
        body: bytes | None = None,
    ) -> Answer:
        """Send one request with the credentials of its origin."""
        cookie = fields.get("Cookie", "")
        there = address
        if more := self._sign_ins.query_for(address):
            there += f"{'&' if '?' in address else '?'}{more}"
        for _ in range(_MAX_CHALLENGES):
            signed = self._sign_ins.fields_for(method, address, fields)
            if cookie and "Cookie" in signed:
                signed["Cookie"] += f"; {cookie}"
            signed = fields | signed
            response = self._sender.send(method, there, signed, asked=asked, body=body)
            challenges = response.fields.all_of("WWW-Authenticate")
            if response.status != 401 or not self._sign_ins.challenged(address, challenges, signed):
                break
            self._sender.drop(response)
        return response

    def _facts_from(self, response: Answer, address: str) -> Metadata:
        fields = response.fields
        # RFC 9112, 6.3: a transfer coding overrides a length that is given next to it.
        length = None if "Transfer-Encoding" in fields else fields.get("Content-Length")
        media_type, charset = rules.parse_content_type(fields.get("Content-Type"))
        facts = Metadata(
            address,
            rules.parse_content_length(length),
            Validators(fields.get("ETag"), fields.get("Last-Modified"), fields.get("Date")),
            media_type=media_type,
            charset=charset,
            # RFC 9112, 9.8: TLS distinguishes an end from a cut.
            proves_end=response.is_delimited or scheme_of(address) == "https",
        )
        if not self._of_store and fields.keys().isdisjoint(_RARE):
            return facts
        checksums = promised_by_server(fields, whole=response.status != 206)
        composite = None
        if self._of_store:
            checksums += promised_by_store(fields)
            composite = composite_of(fields)
        link, disposition = fields.get("Link"), fields.get("Content-Disposition")
        return replace(
            facts,
            attachment=rules.is_attachment(disposition),
            file_name=rules.file_name_in(disposition)
            or rules.name_of_variant(fields.get("Content-Location"), address),
            following=rules.following_link(link),
            items=rules.linked(link, "item"),
            linkset=next(iter(rules.linked(link, "linkset")), ""),
            checksums=checksums,
            composite=composite,
        )

    def _refusal(self, response: Answer, address: str, final: str) -> TransferFailed:
        """Return the error for a response without a file.

        Args:
            response: the answer.
            address: what was requested.
            final: who answered.
        """
        status = response.status
        fields = response.fields
        wait = rules.parse_retry_after(fields.get("Retry-After"), fields.get("Date"), self._now())
        explained = self._explained(response, address)
        self._sender.drop(response)
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
        body = self._sender.beginning_of(response)
        return self._explain(response.status, response.fields, body, address)


def _joined(fields: dict[str, str], more: dict[str, str]) -> dict[str, str]:
    """Return the fields of a request with those of its session."""
    cookies = "; ".join(filter(None, (each.get("Cookie", "") for each in (fields, more))))
    return fields | more | ({"Cookie": cookies} if cookies else {})
