"""Sign-ins by origin; a secret is sent to its own origin only."""

from __future__ import annotations

import base64
import hmac
import os
import re
import threading
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from email.utils import format_datetime
from typing import TYPE_CHECKING, Protocol
from urllib.parse import parse_qsl, urlsplit

from willow_cart.addresses import host_of, origin_of
from willow_cart.errors import BadOption
from willow_cart.protocols.http import http_rules as rules
from willow_cart.sign_in.cookie_file import CookieJar
from willow_cart.sign_in.digest import DigestChallenge, answer_digest, read_digest_challenge
from willow_cart.sign_in.origins import Credential, NamedOrigins, may_follow
from willow_cart.sign_in.secrets import Secret, read_secret
from willow_cart.structs import Value, replace

if TYPE_CHECKING:
    import netrc

    from willow_cart.sign_in.login_form import FormSignIn
    from willow_cart.sign_in.oauth import OAuthSignIn

VERSION = "2021-12-02"
"""The version of the service's rules that is requested."""

# The fields that a signature covers, in the order of the rules; a GET has nothing in the others.
_COVERED = (
    "Content-Encoding", "Content-Language", "Content-Length", "Content-MD5", "Content-Type", "Date",
    "If-Modified-Since", "If-Match", "If-None-Match", "If-Unmodified-Since", "Range",
)  # fmt: skip


def sign_for_account(
    account: str, key: str, method: str, address: str, *, sent: Mapping[str, str], now: datetime
) -> dict[str, str]:
    """Return the header fields that authorise a request.

    Args:
        account: its name.
        key: its key, in base 64.
        sent: the fields that the request has already.
        now: the time, in UTC.

    Raises:
        BadOption: the key is invalid.
    """
    own = {"x-ms-date": format_datetime(now, usegmt=True), "x-ms-version": VERSION}
    parts = urlsplit(address)
    resource = f"/{account}{parts.path}"
    for name, value in sorted(parse_qsl(parts.query, keep_blank_values=True)):
        resource += f"\n{name.lower()}:{value}"
    lines = [method, *(sent.get(name, "") for name in _COVERED)]
    lines += [f"{name}:{value}" for name, value in sorted(own.items())]
    try:
        secret = base64.b64decode(key, validate=True)
    except ValueError:
        raise BadOption("--account-key", "not an account key", "copy all of it") from None
    text = "\n".join([*lines, resource])
    signature = base64.b64encode(hmac.digest(secret, text.encode(), "sha256")).decode()
    return own | {"Authorization": f"SharedKey {account}:{signature}"}


_NO_FIELDS: Mapping[str, str] = {}

_FIELD_VALUE = re.compile(r"[\x20-\x7e\xa0-\xff\t]*")


Fields = tuple[tuple[str, Secret], ...]
"""Secrets by the names of fields."""


class SignIn(Value):
    """The credentials for an origin: any of these.

    Attributes:
        user, password: for basic (RFC 7617) and digest (RFC 7616) authentication, whichever the
            server requests.
        token: a bearer token (RFC 6750).
        fields: header fields with their values.
        account_key: the key of a blob store's account, whose name is `user`.
        shared_access: a shared access signature of such a store: a query, added to every request.
        key: the path of a private key for SSH.
        passphrase: what that is encrypted with.
        form: a form on a page to fill in; None for none.
        oauth: how tokens are obtained; None for not at all.
        only_from: the origins whose redirects lead here; empty for everyone.
    """

    user: str = ""
    password: Secret | None = None
    token: Secret | None = None
    fields: tuple[tuple[str, Secret], ...] = ()
    account_key: Secret | None = None
    shared_access: Secret | None = None
    key: str = ""
    passphrase: Secret | None = None
    form: FormSignIn | None = None
    oauth: OAuthSignIn | None = None
    only_from: tuple[str, ...] = ()

    @property
    def secrets(self) -> Iterator[Secret]:
        """Yield all secrets."""
        single = (
            self.password, self.token, self.account_key, self.shared_access, self.passphrase
        )  # fmt: skip
        yield from filter(None, single)
        yield from (secret for _, secret in self.fields)
        if self.form is not None:
            yield from (secret for _, secret in self.form.fields)
            yield from filter(None, (self.form.password,))
        if self.oauth is not None:
            yield from filter(None, (self.oauth.client_secret, self.oauth.refresh_token))

    def with_each(self, change: Callable[[Secret], Secret]) -> SignIn:
        """Return a copy with another secret in the place of each."""

        def changed(secret: Secret | None) -> Secret | None:
            return None if secret is None else change(secret)

        def changed_each(fields: Fields) -> Fields:
            return tuple((name, change(secret)) for name, secret in fields)

        form, oauth = self.form, self.oauth
        if form is not None:
            form = replace(form, password=changed(form.password), fields=changed_each(form.fields))
        if oauth is not None:
            oauth = replace(
                oauth,
                client_secret=changed(oauth.client_secret),
                refresh_token=changed(oauth.refresh_token),
            )
        return replace(
            self,
            password=changed(self.password),
            token=changed(self.token),
            fields=changed_each(self.fields),
            account_key=changed(self.account_key),
            shared_access=changed(self.shared_access),
            passphrase=changed(self.passphrase),
            form=form,
            oauth=oauth,
        )

    def __post_init__(self) -> None:
        named = [("token", self.token), *((f"header {name}", one) for name, one in self.fields)]
        for name, secret in named:
            # RFC 9110, 5.5: what is beyond Latin-1 cannot be sent in a field.
            if secret is not None and not _FIELD_VALUE.fullmatch(secret.value):
                raise BadOption(
                    name,
                    "contains characters that are not allowed in a header field",
                    "check the secret",
                )


class Signer(Protocol):
    """A source of credentials for requests."""

    def __bool__(self) -> bool:
        """Whether it ever adds anything."""

    def fields_for(
        self, method: str, address: str, sent: Mapping[str, str] = _NO_FIELDS
    ) -> dict[str, str]:
        """Return the header fields that authorise a request."""

    def query_for(self, address: str) -> str:
        """Return additional query parameters that authorise a request; usually empty."""

    def challenged(self, address: str, challenges: list[str], sent: Mapping[str, str]) -> bool:
        """Process WWW-Authenticate; return whether to retry."""

    def is_for(self, address: str, led_by: Sequence[str]) -> bool:
        """Whether a request that other addresses have led to may be authorised."""


class SignIns:
    """All sign-ins of a command by origin; shared by all lanes.

    Args:
        by_origin: the sign-in for each origin.
        cookies: from a file, each with where it may go.
        netrc: sign-ins by host name.
        origins: who named which origins.
        make_nonce: makes the nonces of digest authentication.
        now: the clock that signatures are dated by.
    """

    def __init__(
        self,
        by_origin: Mapping[str, SignIn] | None = None,
        *,
        cookies: CookieJar | None = None,
        netrc: netrc.netrc | None = None,
        origins: NamedOrigins | None = None,
        make_nonce: Callable[[], str] = lambda: os.urandom(16).hex(),
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self._now = now
        self._by_origin = dict(by_origin or {})
        self._cookies = cookies
        self._netrc = netrc
        self.origins = origins or NamedOrigins()
        for sign_in in self._by_origin.values():  # what the user wrote down next to a sign-in
            for place in (sign_in.form, sign_in.oauth):
                for address in place.addresses if place is not None else ():
                    self.origins.add(address)
        self._make_nonce = make_nonce
        self._basic: set[str] = set()
        self._digests: dict[str, DigestChallenge] = {}
        self._lock = threading.Lock()

    def __reduce__(self) -> tuple[Callable[..., SignIns], tuple[object, ...]]:
        """Support copying to another process, which has its own nonces."""
        return _again, (self._by_origin, self._cookies, self._netrc, self.origins)

    def by_names(self, hosts: Collection[str]) -> SignIns | None:
        """Return the sign-ins of some hosts by the names of their secrets, without the values.

        Where they are unpickled, the values are looked up in the environment there.

        Returns:
            None if there is a secret without a name, or a cookie.
        """
        wanted = {
            origin: sign_in
            for origin, sign_in in self._by_origin.items()
            if host_of(origin) in hosts
        }
        nameless = any(not each.name for one in wanted.values() for each in one.secrets)
        if nameless or self._cookies is not None:
            return None
        without_value = {
            origin: sign_in.with_each(lambda secret: Secret("", secret.name))
            for origin, sign_in in wanted.items()
        }
        return SignIns(without_value, origins=self.origins)

    def __bool__(self) -> bool:
        return bool(self._by_origin or self._netrc or self._cookies is not None)

    def fields_for(
        self, method: str, address: str, sent: Mapping[str, str] = _NO_FIELDS
    ) -> dict[str, str]:
        """Return the header fields that authorise a request; passwords only after a challenge.

        Args:
            sent: the fields that the request has already; some signatures cover them.
        """
        origin = origin_of(address)
        fields: dict[str, str] = {}
        if self._cookies is not None:
            cookie = self._cookies.field_for(address, self.origins.named_by(origin))
            fields |= {"Cookie": cookie} if cookie else {}
        sign_in = self._sign_in_for(origin)
        if sign_in is None:
            return fields
        if sign_in.account_key is not None:
            fields |= sign_for_account(
                sign_in.user,
                sign_in.account_key.value,
                method,
                address,
                sent=sent,
                now=self._now(),
            )
        elif sign_in.token is not None:
            fields["Authorization"] = f"Bearer {sign_in.token.value}"
        elif answer := self._answer(origin, sign_in, method, address):
            fields["Authorization"] = answer
        fields.update((name, secret.value) for name, secret in sign_in.fields)
        return fields

    def session_sign_in(self, address: str) -> SignIn | None:
        """Return the sign-in of an origin if it takes requests of its own."""
        sign_in = self._by_origin.get(origin_of(address))
        return sign_in if sign_in is not None and (sign_in.form or sign_in.oauth) else None

    @property
    def have_sessions(self) -> bool:
        """Whether any sign-in takes requests of its own, or is that of an identity host."""
        return any(each.form or each.oauth or each.only_from for each in self._by_origin.values())

    def is_of_identity_host(self, address: str) -> bool:
        """Whether an address is of a host that only authenticates users of other servers."""
        sign_in = self._by_origin.get(origin_of(address))
        return sign_in is not None and bool(sign_in.only_from)

    def is_for(self, address: str, led_by: Sequence[str]) -> bool:
        """Whether a request may be authorised.

        Args:
            led_by: what was requested before, and has led there.
        """
        origin = origin_of(address)
        sign_in = self._by_origin.get(origin)
        if sign_in is None or not sign_in.only_from:
            return True
        return may_follow(origin, led_by, sign_in.only_from)

    def query_for(self, address: str) -> str:
        """Return the shared access signature of an origin; empty if missing."""
        sign_in = self._sign_in_for(origin_of(address))
        if sign_in is None or sign_in.shared_access is None:
            return ""
        return sign_in.shared_access.value.lstrip("?")

    def password_for(self, address: str) -> tuple[str, str] | None:
        """Return user name and password for protocols that need them at once (RFC 959)."""
        sign_in = self._sign_in_for(origin_of(address))
        if sign_in is None or sign_in.password is None:
            return None
        return sign_in.user, sign_in.password.value

    def challenged(self, address: str, challenges: list[str], sent: Mapping[str, str]) -> bool:
        """Process WWW-Authenticate; return whether to retry.

        Args:
            address: who asked.
            challenges: its WWW-Authenticate fields.
            sent: the fields that the refused request had.
        """
        origin = origin_of(address)
        sign_in = self._sign_in_for(origin)
        if sign_in is None or sign_in.password is None or sign_in.token is not None:
            return False
        before = sent.get("Authorization", "")
        parsed = rules.parse_challenges(challenges)
        with self._lock:
            for scheme, parameters in parsed:
                if scheme == "digest" and (challenge := read_digest_challenge(parameters)):
                    # A nonce that has grown stale is a reason to ask again (RFC 7616, 3.3); a
                    # password that was refused is invalid.
                    stale = parameters.get("stale", "").lower() == "true"
                    if before.startswith("Digest ") and not stale:
                        return False
                    self._digests[origin] = challenge
                    return True
            if any(scheme == "basic" for scheme, _ in parsed) and not before.startswith("Basic "):
                self._basic.add(origin)
                return True
        return False

    def _answer(self, origin: str, sign_in: SignIn, method: str, address: str) -> str | None:
        """Return the response to the last challenge of an origin."""
        if sign_in.password is None:
            return None
        with self._lock:
            if challenge := self._digests.get(origin):
                parts = urlsplit(address)
                target = f"{parts.path}?{parts.query}" if parts.query else parts.path
                return answer_digest(
                    challenge, sign_in.user, sign_in.password.value, method, target,
                    make_nonce=self._make_nonce,
                )  # fmt: skip
            if origin in self._basic:
                return rules.basic_credentials(sign_in.user, sign_in.password.value)
        return None

    def sign_in_for(self, address: str) -> SignIn | None:
        """Return the sign-in for an address whose protocol needs it at once, or None.

        That of its user at its host comes first, then that of the host.
        """
        origin = origin_of(address)
        scheme, _, authority = origin.partition("://")
        host = f"{scheme}://{authority.rpartition('@')[2]}"
        return self._sign_in_for(origin) or self._sign_in_for(host)

    def _sign_in_for(self, origin: str) -> SignIn | None:
        if self.origins.allow(Credential.SIGN_IN, origin, self._by_origin):
            return self._by_origin[origin]
        if self._netrc is None:
            return None
        host = urlsplit(origin).hostname or ""
        is_entry = host in self._netrc.hosts
        kind = Credential.NETRC_ENTRY if is_entry else Credential.NETRC_DEFAULT
        if not self.origins.allow(kind, origin):
            return None
        entry = self._netrc.authenticators(host)
        if entry is None or not entry[2]:
            return None
        return SignIn(user=entry[0] or "", password=Secret(entry[2]))


def _again(
    by_origin: Mapping[str, SignIn],
    cookies: CookieJar | None,
    kept: netrc.netrc | None,
    origins: NamedOrigins,
) -> SignIns:
    here = {origin: sign_in.with_each(_valued) for origin, sign_in in by_origin.items()}
    return SignIns(here, cookies=cookies, netrc=kept, origins=origins)


def _valued(secret: Secret) -> Secret:
    """Return a secret with its value, looked up here if only its name was sent."""
    return secret if secret.value or not secret.name else read_secret(secret.name, secret.name)
