"""Whether a credential may go to an origin, by who named that origin."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from enum import Enum, IntEnum
from urllib.parse import urlsplit

from willow_cart.addresses import origin_of
from willow_cart.structs import Value


class NamedBy(IntEnum):
    """Who named an origin; the later ones are trusted more."""

    SERVER = 0
    """A page, a catalogue, a redirect, or the ledger of a folder."""
    LIST = 1
    """A list, a cart or a folder of this machine that the user named."""
    USER = 2
    """The user, in the command or in a file of their own."""


class _Rule(Value):
    """Where a kind of credential may go.

    Attributes:
        shown: how the kind is written in SECURITY.md.
        least: who must have named the origin, at least.
        bound: whether it is for the origins that the user wrote it down for.
        by_host: whether the usual port of a secure scheme will do as well, since what is kept by
            host names no port.
    """

    shown: str
    least: NamedBy
    bound: bool = False
    by_host: bool = False


class Credential(Enum):
    """The kinds of credentials."""

    SIGN_IN = _Rule("password, token, header field or key of a sign-in", NamedBy.SERVER, bound=True)
    FORM = _Rule("password in a form", NamedBy.SERVER, bound=True)
    COOKIE = _Rule("cookie of a cookie file", NamedBy.USER, by_host=True)
    NETRC_ENTRY = _Rule("entry of netrc with the name of a host", NamedBy.USER, by_host=True)
    NETRC_DEFAULT = _Rule("`default` entry of netrc", NamedBy.USER)
    SSH_KEY = _Rule("the SSH keys and agent of this machine", NamedBy.LIST)
    STORE_KEY = _Rule("the keys of this machine for object stores", NamedBy.LIST)
    CLIENT_CERTIFICATE = _Rule("client certificate", NamedBy.LIST)


_SECURE = ("https", "ftps", "sftp")


def may_go(
    credential: Credential, origin: str, named_by: NamedBy, bound_to: Collection[str] = ()
) -> bool:
    """Whether a credential may go to an origin.

    Args:
        credential: its kind.
        origin: scheme, host and port.
        named_by: who named the origin.
        bound_to: the origins that a sign-in was written down for.
    """
    rule = credential.value
    if rule.bound and origin not in bound_to:
        return False
    if named_by >= rule.least:
        return True
    parts = urlsplit(origin)
    return rule.by_host and parts.scheme in _SECURE and parts.port is None


def may_follow(origin: str, led_by: Iterable[str], places: Collection[str]) -> bool:
    """Whether an identity host may get its sign-in at the end of a chain of redirects.

    Args:
        origin: of the identity host.
        led_by: the addresses that were requested before, the first of them by the user.
        places: the origins that the sign-in was written down for.
    """
    before = [*map(origin_of, led_by)]
    return (
        bool(before)
        and before[0] in places
        and all(each == origin or each in places for each in before)
    )


class NamedOrigins:
    """Who named which origins.

    Args:
        typed: those that the user named.
        listed: those that a list of this machine named.
    """

    def __init__(self, typed: Iterable[str] = (), listed: Iterable[str] = ()) -> None:
        self._typed = frozenset(typed)
        self._listed = set(listed)

    def __reduce__(self) -> tuple[type[NamedOrigins], tuple[frozenset[str], frozenset[str]]]:
        """Support copying to another process."""
        return NamedOrigins, (self._typed, frozenset(self._listed))

    def add(self, address: str) -> None:
        """Record that a list of this machine named an address."""
        self._listed.add(origin_of(address))

    def allow(self, credential: Credential, origin: str, bound_to: Collection[str] = ()) -> bool:
        """Whether a credential may go to an origin; see `may_go`."""
        return may_go(credential, origin, self.named_by(origin), bound_to)

    def named_by(self, origin: str) -> NamedBy:
        """Return who named an origin."""
        if origin in self._typed:
            return NamedBy.USER
        return NamedBy.LIST if origin in self._listed else NamedBy.SERVER
