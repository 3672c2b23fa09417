"""Sign-ins that need requests of their own: forms, and tokens that run out.

Each origin has one session for all lanes. The lane that needs it first signs in, and the others
wait; a sign-in that was refused is not tried again, since that may lock the account.
"""

from __future__ import annotations

import errno
import http.client
import socket
import ssl
import threading
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Protocol, TypeGuard

from willow_cart.addresses import host_of, origin_of
from willow_cart.errors import (
    TOO_MANY_FILES,
    ConnectionLost,
    HostUnknown,
    Interrupted,
    NotServed,
    NotTrusted,
    ProtocolError,
    ServerBusy,
    SignInFailed,
    TimedOut,
    TransferFailed,
    too_many_files,
)
from willow_cart.protocols.http import http_rules as rules
from willow_cart.protocols.http.http_connection import Answer
from willow_cart.protocols.http.http_response import FramingError
from willow_cart.protocols.retry import tell_nothing
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.cookie_file import ChainCookies
from willow_cart.sign_in.login_form import FORM_TYPE, FormSignIn
from willow_cart.sign_in.oauth import SLOWER_SECONDS, DeviceCode, OAuthSignIn, Token
from willow_cart.sign_in.sign_ins import SignIn, SignIns
from willow_cart.sign_in.token_store import TokenStore
from willow_cart.structs import Record, Value, field, replace
from willow_cart.units import format_duration


def no_connection(error: BaseException | None, address: str, host: str) -> TransferFailed:
    """Return the error for a connection that could not be made.

    Args:
        address: the file that was requested.
        host: the host that was to be talked to, which redirects may have changed.
    """
    shown = without_secrets(address)
    match error:
        case socket.gaierror(errno=socket.EAI_AGAIN):
            return ConnectionLost(shown, f"no name server answered for {host}", "check the network")
        case socket.gaierror():
            return HostUnknown(shown, f"unknown host {host}", "check the address")
        case ssl.SSLError():
            return _not_trusted(error, shown, host)
        case TimeoutError():
            return TimedOut(
                shown, f"{host} cannot be reached: timed out", "check that the server is running"
            )
        case OSError(errno=number) if number in TOO_MANY_FILES:
            return too_many_files(shown)
        case OSError(errno=errno.ECONNREFUSED):
            reason = f"connection refused by {host}"
        case OSError(errno=errno.ENETUNREACH | errno.EHOSTUNREACH):
            reason = f"no route to {host}"
        case _:
            reason = f"cannot connect to {host}"
    return ConnectionLost(shown, reason, "check that the server is running")


def translate(
    error: Exception, address: str, host: str, stall_after: float, *, reading: bool = False
) -> TransferFailed:
    """Translate an exception of the HTTP library or the system into one of ours.

    Args:
        address: the file that was requested.
        host: the host that was being talked to, which redirects may have changed.
        stall_after: the silence in seconds that counts as a stall.
        reading: whether the body had begun.
    """
    shown = without_secrets(address)
    match error:
        case ssl.SSLError() if not reading:
            return _not_trusted(error, shown, host)
        case TimeoutError():
            return TimedOut(shown, f"no data for {format_duration(stall_after)}", "try later")
        case FramingError():
            reason = f"invalid HTTP response: {error}"
            return ProtocolError(shown, reason, "report it to the server")
        case http.client.InvalidURL():
            return ProtocolError(shown, f"{host} cannot be contacted", "check the address")
        case http.client.IncompleteRead() | http.client.RemoteDisconnected():
            pass
        case http.client.HTTPException():
            return ProtocolError(shown, "invalid HTTP response", "report it to the server")
    when = "before the file was complete" if reading else "before an answer came"
    return ConnectionLost(shown, f"the connection broke {when}", "try again later")


def _not_trusted(error: ssl.SSLError, shown: str, host: str) -> NotTrusted:
    reason = f"no secure connection to {host}: {_ssl_reason(error)}"
    return NotTrusted(shown, reason, "check the address and this machine's clock")


def _ssl_reason(error: ssl.SSLError) -> str:
    """Return the reason that OpenSSL gives."""
    if isinstance(error, ssl.SSLCertVerificationError):
        return error.verify_message.rstrip(".")
    reason = getattr(error, "reason", None)
    return reason.replace("_", " ").lower() if reason else "not verified"


_HOW_TO_OPEN = "give --user ACCOUNT and --account-key env:NAME, or --shared-access env:NAME"
_WRONG_KEY = "check --account-key or --shared-access, and this machine's clock"
_NO_RIGHT = "ask for a key or a signature that may list and read"

BLOB_ERRORS = {
    "NoAuthenticationInformation": ("not open to everybody", _HOW_TO_OPEN),
    "PublicAccessNotPermitted": ("not open to everybody", _HOW_TO_OPEN),
    "ResourceNotFound": (
        "not there, or not open to everybody",
        f"check the name; {_HOW_TO_OPEN}",
    ),
    "ContainerNotFound": ("no such container", "check its name"),
    "BlobNotFound": ("no such object", "check the address; survey lists the objects"),
    "AuthenticationFailed": ("the store does not accept the key", _WRONG_KEY),
    "InvalidAuthenticationInfo": ("the store does not accept the key", _WRONG_KEY),
    "AuthorizationFailure": ("the store refuses the key", f"{_WRONG_KEY}; or {_NO_RIGHT}"),
    "AuthorizationPermissionMismatch": ("the key may not do this", _NO_RIGHT),
}
"""What blob stores say by the field x-ms-error-code, and what a user can do about it."""


def explain_blob(code: str, status: int, shown: str, *, signed: bool) -> NotServed:
    """Return the error for the refusal of a blob store.

    Args:
        code: its own word for it, one of `BLOB_ERRORS`.
        status: of the answer.
        shown: the address, without secrets.
        signed: whether a key or a signature was used.
    """
    reason, advice = BLOB_ERRORS[code]
    if not signed and status in (401, 403):
        reason, advice = BLOB_ERRORS["PublicAccessNotPermitted"]
    return NotServed(shown, f"{reason} ({status} {code})", advice, status=status)


# No page with a form, and no answer with a token, is longer, or takes longer.
_MAX_STEP_BYTES = 1 << 20
_STEP_SECONDS = 60.0


class StepAnswer(Value):
    """The answer to a step of a sign-in.

    Attributes:
        status: its code.
        address: of the page, after redirects.
        location: where it leads; None if it is final.
        cookies: its Set-Cookie fields.
        content: its body, up to a limit.
    """

    status: int
    address: str
    location: str | None
    cookies: Iterable[str]
    content: bytes


class Send(Protocol):
    """Sends one request of a sign-in; no record has it."""

    def __call__(
        self, method: str, address: str, fields: dict[str, str], *, asked: str, body: bytes
    ) -> Answer:
        """Send it, and return the head of the answer; `asked` is for messages.

        Raises:
            TransferFailed: none came.
        """


class _Session(Record):
    """The session at one origin.

    Attributes:
        lock: held by who signs in.
        cookies: that the origin has set.
        generation: how often it was signed in.
        failure: of the last sign-in, if it was refused.
        token: the token that is valid now.
    """

    lock: threading.Lock = field(default_factory=threading.Lock)
    cookies: ChainCookies = field(default_factory=ChainCookies)
    generation: int = 0
    failure: SignInFailed | None = None
    token: Token | None = None


class WebSessions:
    """The sessions of an access; thread-safe.

    Args:
        sign_ins: the sign-ins by origin.
        send: sends a step of a sign-in.
        tokens: the folder where tokens are kept between runs; None for nowhere.
        announce: shows a code that the user has to enter elsewhere.
        wait: waits for a number of seconds, and returns whether the user wants to stop meanwhile.
        now: the wall clock, in seconds of the epoch.
    """

    def __init__(
        self,
        sign_ins: SignIns,
        send: Send,
        *,
        tokens: Path | None,
        announce: Callable[[DeviceCode], None] = tell_nothing,
        wait: Callable[[float], bool | None] = time.sleep,
        now: Callable[[], float] = time.time,
    ) -> None:
        self._sign_ins = sign_ins
        self._send = send
        self._tokens = TokenStore(tokens)
        self._announce = announce
        self._wait = wait
        self._now = now
        self._sessions: dict[str, _Session] = {}

    def fields_for(self, address: str) -> tuple[dict[str, str], int]:
        """Return the fields that a session adds to a request; signs in first if needed.

        Returns:
            The fields, and how often its origin was signed in to.

        Raises:
            SignInFailed: that was refused.
            TransferFailed: it does not answer.
        """
        sign_in = self._sign_ins.session_sign_in(address)
        session = self._sessions.get(origin_of(address))
        if sign_in is None:  # it may have cookies of an identity host
            cookie = session.cookies.field_for(address) if session else ""
            return ({"Cookie": cookie} if cookie else {}), 0
        session = session or self._sessions.setdefault(origin_of(address), _Session())
        with session.lock:
            is_over = session.token is not None and not session.token.is_valid(self._now())
            if session.generation == 0 or is_over:
                self._begin(session, sign_in, address)
            if session.failure is not None:
                raise session.failure
            generation, token = session.generation, session.token
        if token is not None:
            return {"Authorization": f"Bearer {token.access}"}, generation
        cookie = session.cookies.field_for(address)
        return ({"Cookie": cookie} if cookie else {}), generation

    def generation(self, address: str) -> int:
        """Return how often the origin of an address was signed in to."""
        session = self._sessions.get(origin_of(address))
        return session.generation if session else 0

    def renew(self, address: str, generation: int) -> bool:
        """Sign in again, unless another lane has done so since.

        Args:
            address: that was not answered as if signed in.
            generation: of the session that it was requested with.

        Returns:
            False if its origin has no such sign-in.

        Raises:
            SignInFailed: the sign-in was refused.
            TransferFailed: it does not answer.
        """
        sign_in = self._sign_ins.session_sign_in(address)
        session = self._sessions.get(origin_of(address))
        if sign_in is None or session is None:
            return False
        with session.lock:
            if session.generation == generation:
                self._begin(session, sign_in, address, is_anew=True)
            if session.failure is not None:
                raise session.failure
        return True

    def is_form(self, asked: str, address: str, page: bytes = b"") -> bool:
        """Whether an answer is the sign-in form instead of the requested file.

        Args:
            asked: what was requested.
            address: where the answer came from, or leads.
            page: the beginning of the answer; empty if only its address is known.
        """
        sign_in = self._sign_ins.session_sign_in(asked)
        form = sign_in.form if sign_in else None
        if form is None or (address.partition("?")[0] == asked.partition("?")[0] and not page):
            return False
        if address.partition("?")[0] == form.address.partition("?")[0] and asked != address:
            return True
        return bool(page) and form.is_on(page, address)

    def has_form(self, address: str) -> bool:
        """Whether the origin of an address is signed in to by a form."""
        sign_in = self._sign_ins.session_sign_in(address)
        return sign_in is not None and sign_in.form is not None

    def is_identity_host(self, address: str) -> bool:
        """Whether an address is of a host that only authenticates users of other servers."""
        return self._sign_ins.is_of_identity_host(address)

    def take_cookies(self, address: str, cookies: Iterable[str]) -> None:
        """Keep the cookies that an origin with a session has set."""
        session = self._sessions.get(origin_of(address))
        if session is not None:
            session.cookies.take(address, cookies)

    def keep_identity(self, asked: str, cookies: ChainCookies) -> None:
        """Keep the cookies that a server has set once an identity host has vouched for the user."""
        self._sessions.setdefault(origin_of(asked), _Session()).cookies.take_over(asked, cookies)

    def _begin(
        self, session: _Session, sign_in: SignIn, address: str, *, is_anew: bool = False
    ) -> None:
        """Sign in; the caller holds the lock of the session."""
        if session.failure is not None:
            return
        try:
            if sign_in.form is not None:
                self._fill_in(session, sign_in.form)
            elif sign_in.oauth is not None:
                session.token = self._token(session, sign_in.oauth, is_anew=is_anew)
        except SignInFailed as error:
            session.failure = error
            error.thing = f"signing in to {origin_of(address)} at {error.thing}"
        session.generation += 1

    def _step(self, method: str, address: str, fields: dict[str, str], body: bytes) -> StepAnswer:
        """Send a step of a sign-in, without redirects and without other sign-ins.

        Raises:
            TransferFailed: no answer.
        """
        answer = self._send(method, address, fields, asked=address, body=body)
        content = b""
        try:
            answer.allow(_STEP_SECONDS)
            while len(content) < _MAX_STEP_BYTES and (data := answer.read(_MAX_STEP_BYTES)):
                content += data
        except (OSError, http.client.HTTPException) as error:
            raise translate(error, address, host_of(address), _STEP_SECONDS) from error
        finally:
            answer.close()
        location = answer.fields.get("Location")
        cookies = answer.fields.all_of("Set-Cookie")
        return StepAnswer(answer.status, address, location, cookies, content)

    # Forms

    def _fill_in(self, session: _Session, form: FormSignIn) -> None:
        """Fetch the form, send it, and see whether it comes again.

        Raises:
            SignInFailed: it does.
        """
        cookies = ChainCookies()
        page = self._chain("GET", form.address, cookies)
        filled = form.fill_in(page.content, page.address, self._sign_ins.origins)
        answer = self._chain("POST", filled.address, cookies, filled.body)
        if form.is_on(answer.content, answer.address):
            raise form.refused()
        session.cookies = cookies

    def _chain(
        self, method: str, address: str, cookies: ChainCookies, body: bytes = b""
    ) -> StepAnswer:
        """Send a request of a form, and follow where it leads (RFC 9110, 15.4).

        Raises:
            SignInFailed: the answer is an error.
            TransferFailed: none came, or it leads nowhere.
        """
        seen = [address]
        while True:
            fields = {"Cookie": cookie} if (cookie := cookies.field_for(seen[-1])) else {}
            if body:
                fields["Content-Type"] = FORM_TYPE
            page = self._step(method, seen[-1], fields, body)
            since = len(seen) if cookies.take(seen[-1], page.cookies) else 0
            if page.status not in rules.REDIRECTS:
                _require_answer(page)
                return page
            following = rules.next_address(seen[-1], page.location, seen, since)
            if body and page.status in (307, 308):
                if origin_of(following) != origin_of(address):
                    raise ProtocolError(
                        without_secrets(address),
                        "the form is passed on to another host, which does not get the password",
                        "sign in with a browser, and give its cookies with --cookies",
                    )
            else:
                method, body = "GET", b""
            seen.append(following)

    # Tokens

    def _token(self, session: _Session, sign_in: OAuthSignIn, *, is_anew: bool) -> Token:
        """Return a token that lasts: a kept one, one by an earlier one, or a new one.

        Raises:
            SignInFailed: there is none.
        """
        # A refresh token may be valid once only, and its second use end the sign-in (RFC 9700,
        # 4.14.2), so one process at a time uses it, and the next ones use what it was given.
        with self._tokens.held(sign_in, self._wait):
            own, kept = session.token, self._tokens.load(sign_in)
            if self._is_of_use(kept, own, is_anew=is_anew):
                return kept
            given = sign_in.refresh_token.value if sign_in.refresh_token else ""
            tokens = [each.refresh for each in (kept, own) if each is not None]
            refusal = None
            for refresh in dict.fromkeys(each for each in (*tokens, given) if each):
                try:
                    return self._keep(sign_in, sign_in.body_for_refresh(refresh), refresh)
                except SignInFailed as error:
                    refusal = error  # it was taken back; another way may be left
                kept = self._tokens.load(sign_in)  # by who does not see the lock
                if self._is_of_use(kept, own, is_anew=is_anew):
                    return kept
            if sign_in.device_address:
                return self._token_by_code(sign_in, own)
            if refusal is not None and (sign_in.refresh_token or not sign_in.client_secret):
                raise refusal
            return self._keep(sign_in, sign_in.body_for_client())

    def _is_of_use(
        self, kept: Token | None, own: Token | None, *, is_anew: bool
    ) -> TypeGuard[Token]:
        """Whether a kept token lasts, and is not the one that was just refused."""
        if kept is None or not kept.is_valid(self._now()):
            return False
        return not is_anew or own is None or kept.access != own.access

    def _keep(self, sign_in: OAuthSignIn, body: bytes, refresh: str = "") -> Token:
        began = self._now()
        page = self._post(sign_in, sign_in.token_address, body)
        if page.status != 200:
            raise sign_in.refused(page.status, page.content)
        token = sign_in.read_token(page.content, began, refresh)
        self._tokens.keep(sign_in, token)
        return token

    def _token_by_code(self, sign_in: OAuthSignIn, earlier: Token | None) -> Token:
        """Have the user enter a code elsewhere, and wait for it (RFC 8628, 3.3 to 3.5).

        Args:
            earlier: the token of this run that has ended; None for the first one.

        Raises:
            SignInFailed: the user refused, or did not come in time.
            Interrupted: the user wants to stop.
        """
        page = self._post(sign_in, sign_in.device_address, sign_in.body_for_code())
        if page.status != 200:
            raise sign_in.refused(page.status, page.content)
        code = sign_in.read_code(page.content, self._now())
        if earlier is not None:
            host = host_of(sign_in.token_address)
            why = f"the sign-in at {host} has ended: its place gives none that can be renewed"
            code = replace(code, why=why)
        self._announce(code)
        interval = code.interval
        while self._now() < code.expires:
            if self._wait(interval):
                raise Interrupted(without_secrets(sign_in.device_address), "interrupted")
            began = self._now()
            page = self._post(sign_in, sign_in.token_address, sign_in.body_for_device(code))
            if page.status == 200:
                token = sign_in.read_token(page.content, began)
                self._tokens.keep(sign_in, token)
                return token
            match sign_in.error_in(page.content):
                case "authorization_pending":
                    pass
                case "slow_down":
                    interval += SLOWER_SECONDS
                case _:
                    raise sign_in.refused(page.status, page.content)
        raise sign_in.refused(400, b'{"error": "expired_token"}')

    def _post(self, sign_in: OAuthSignIn, address: str, body: bytes) -> StepAnswer:
        page = self._step("POST", address, sign_in.fields | {"Content-Type": FORM_TYPE}, body)
        if rules.is_passing(page.status):
            raise _busy(page)
        return page


def _require_answer(page: StepAnswer) -> None:
    """Refuse an error in place of a page.

    Raises:
        ServerBusy: it will pass.
        SignInFailed: it will not.
    """
    if rules.is_passing(page.status):
        raise _busy(page)
    if page.status >= 400:
        reason = rules.name_of_status(page.status)
        raise SignInFailed(without_secrets(page.address), reason, "check the address of the form")


def _busy(page: StepAnswer) -> ServerBusy:
    shown = without_secrets(page.address)
    reason = rules.name_of_status(page.status)
    return ServerBusy(shown, reason, "try again later", wait=None, status=page.status)
