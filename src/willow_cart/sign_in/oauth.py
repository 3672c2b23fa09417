"""OAuth 2.0 (RFC 6749) and its device flow (RFC 8628): what is sent for a token, and what comes."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any
from urllib.parse import quote_plus, urlencode

from willow_cart.errors import SignInFailed
from willow_cart.outside_values import read_json
from willow_cart.protocols.http.http_rules import basic_credentials
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value, asdict, replace

if TYPE_CHECKING:
    from willow_cart.sign_in.secrets import Secret

# A token is renewed this long before its end, or after nine tenths of its life.
_MARGIN_SECONDS = 60.0
_MARGIN_SHARE = 0.1

# Who does not say how long a token is valid has one that is (RFC 6749, 5.1).
_UNSAID_SECONDS = 3600.0

# RFC 8628, 3.2: how often is asked, if the server does not state it; and 3.5: how much longer each
# time that it finds this too often.
_POLL_SECONDS = 5.0
SLOWER_SECONDS = 5.0

_DEVICE_GRANT = "urn:ietf:params:oauth:grant-type:device_code"

_REASONS = {
    "invalid_client": ("the client is not known, or its secret is wrong", "check them"),
    "invalid_grant": ("the token was taken back or has expired", "sign in anew"),
    "unauthorized_client": ("the client may not sign in this way", "ask who runs the place"),
    "unsupported_grant_type": ("the place does not sign in this way", "ask who runs it"),
    "invalid_scope": ("the scope is not known or not allowed", "check the scope"),
    "access_denied": ("the sign-in was refused", "sign in anew"),
    "expired_token": ("the code was not entered in time", "run the command again"),
}
"""What errors mean (RFC 6749, 5.2; RFC 8628, 3.5), and what to do."""

# Registered as well; other texts there may be a secret that it was sent.
_SHOWN = frozenset({"invalid_request", "server_error", "temporarily_unavailable", "slow_down"})


class Token(Value):
    """An access token.

    Attributes:
        access: the token.
        expires: when it ends, in seconds of the epoch.
        refresh: for the next one; empty for none.
        lasts: for how many seconds it was given.
    """

    access: str
    expires: float
    refresh: str = ""
    lasts: float = _UNSAID_SECONDS

    def is_valid(self, now: float) -> bool:
        """Whether it lasts for a while."""
        return now < self.expires - min(_MARGIN_SECONDS, _MARGIN_SHARE * self.lasts)

    def as_text(self) -> str:
        """Return it as JSON, to be kept."""
        return json.dumps(asdict(self))

    @classmethod
    def from_text(cls, text: str) -> Token | None:
        """Parse a kept token; None if it is none."""
        try:
            facts = read_json(text)
            return cls(
                str(facts["access"]), float(facts["expires"]), str(facts["refresh"]),
                float(facts.get("lasts", _UNSAID_SECONDS)),
            )  # fmt: skip
        except (ValueError, TypeError, KeyError, OverflowError):
            return None


class DeviceCode(Value):
    """What a user enters elsewhere to sign this program in (RFC 8628, 3.2).

    Attributes:
        code: of this program.
        user_code: which the user enters.
        address: where.
        interval: seconds between two questions whether that was done.
        expires: when it ends, in seconds of the epoch.
        why: why another one is needed in this run; empty for the first.
    """

    code: str
    user_code: str
    address: str
    interval: float
    expires: float
    why: str = ""


class OAuthSignIn(Value):
    """How tokens are obtained.

    Attributes:
        token_address: of the token endpoint.
        client: the client identifier.
        client_secret: proves the client; None for a public one.
        refresh_token: of a sign-in that was made elsewhere; None for none.
        device_address: of the device authorisation endpoint; empty for none.
        scope: that is requested; empty for the usual one.
        in_keyring: whether tokens are kept in the system's keyring, and not in a file.
    """

    token_address: str
    client: str
    client_secret: Secret | None = None
    refresh_token: Secret | None = None
    device_address: str = ""
    scope: str = ""
    in_keyring: bool = False

    @property
    def addresses(self) -> tuple[str, ...]:
        """The addresses that the user wrote down for it."""
        return tuple(filter(None, (self.token_address, self.device_address)))

    @property
    def fields(self) -> dict[str, str]:
        """The header fields that prove the client (RFC 6749, 2.3.1)."""
        fields = {"Accept": "application/json"}
        if self.client_secret is not None:
            user, secret = quote_plus(self.client), quote_plus(self.client_secret.value)
            fields["Authorization"] = basic_credentials(user, secret)
        return fields

    def body_for_refresh(self, refresh: str) -> bytes:
        """Return the request for a new token with an earlier one (RFC 6749, 6)."""
        return self._body(grant_type="refresh_token", refresh_token=refresh)

    def body_for_client(self) -> bytes:
        """Return the request for a token of the client's own (RFC 6749, 4.4.2)."""
        return self._body(grant_type="client_credentials", scope=self.scope)

    def body_for_code(self) -> bytes:
        """Return the request for a code to enter elsewhere (RFC 8628, 3.1)."""
        return self._body(scope=self.scope)

    def body_for_device(self, code: DeviceCode) -> bytes:
        """Return the question whether the code was entered (RFC 8628, 3.4)."""
        return self._body(grant_type=_DEVICE_GRANT, device_code=code.code)

    def _body(self, **parameters: str) -> bytes:
        if self.client_secret is None or "device_code" in parameters:
            parameters["client_id"] = self.client
        return urlencode({name: each for name, each in parameters.items() if each}).encode("ascii")

    def read_token(self, content: bytes, now: float, refresh: str = "") -> Token:
        """Read the answer with a token (RFC 6749, 5.1).

        Args:
            now: when it was requested, in seconds of the epoch.
            refresh: the token that it was requested with, which stays if no new one comes.

        Raises:
            SignInFailed: it has none.
        """
        facts = self._facts(content)
        access = facts.get("access_token")
        if not isinstance(access, str) or not access.isprintable() or not access.isascii():
            raise self.failed("the answer has no token", "check token_address")
        if str(facts.get("token_type", "bearer")).lower() != "bearer":
            raise self.failed(f"tokens of type {facts['token_type']} are not supported", "")
        lasts = _seconds(facts.get("expires_in"), _UNSAID_SECONDS)
        return Token(access, now + lasts, str(facts.get("refresh_token") or refresh), lasts)

    def read_code(self, content: bytes, now: float) -> DeviceCode:
        """Read the answer with a code to enter elsewhere (RFC 8628, 3.2).

        Raises:
            SignInFailed: it has none.
        """
        facts = self._facts(content)
        try:
            code = DeviceCode(
                str(facts["device_code"]),
                str(facts["user_code"]),
                str(facts["verification_uri"]),
                _seconds(facts.get("interval"), _POLL_SECONDS),
                now + _seconds(facts["expires_in"], 0.0),
            )
        except KeyError as error:
            raise self.failed(f"the answer has no {error}", "check device_address") from None
        if not (code.user_code.isprintable() and code.address.isprintable()):
            raise self.failed("the answer has control characters", "report it to the place")
        return replace(code, address=without_secrets(code.address))

    def error_in(self, content: bytes) -> str:
        """Return the error code of a refusal; empty if it has none."""
        try:
            return str(self._facts(content).get("error", ""))
        except SignInFailed:
            return ""

    def refused(self, status: int, content: bytes) -> SignInFailed:
        """Return the error for a refusal."""
        code = self.error_in(content)
        if code in _REASONS:
            return self.failed(*_REASONS[code])
        shown = code if code in _SHOWN else "another error" if code else ""
        return self.failed(f"the answer was {status} {shown}".rstrip(), "")

    def failed(self, reason: str, advice: str) -> SignInFailed:
        """Return the error for a step that failed."""
        return SignInFailed(without_secrets(self.token_address), reason, advice)

    def _facts(self, content: bytes) -> dict[str, Any]:
        try:
            facts = read_json(content)
        except ValueError:
            facts = None
        if not isinstance(facts, dict):
            raise self.failed("the answer is not JSON", "check the addresses")
        return facts


def _seconds(said: object, otherwise: float) -> float:
    """Return a number of seconds from an answer; it may be a text."""
    try:
        seconds = float(str(said))
    except ValueError:
        return otherwise
    return seconds if 0 < seconds < 1e9 else otherwise
