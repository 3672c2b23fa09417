"""Cookies that servers set during redirects, kept for that chain and origin only.

Consent pages and download counters send a browser in a circle until it shows their cookie.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from urllib.parse import urlsplit

from willow_cart.addresses import origin_of
from willow_cart.protocols.http.http_rules import parse_date

# More, or longer ones, than browsers keep (RFC 6265, 6.1).
_MAX_COOKIES = 50
_MAX_COOKIE_BYTES = 4096


class ChainCookies:
    """The cookies of one chain of redirects (RFC 6265).

    The Domain attribute is not heeded: a cookie goes back to the origin that set it, and to no
    other, whatever it requests.
    """

    def __init__(self) -> None:
        self._kept: dict[tuple[str, str, str], str] = {}

    def take(self, address: str, fields: Iterable[str]) -> bool:
        """Store the cookies of a response; return whether that changes what will be sent.

        Args:
            address: who set them.
            fields: the answer's Set-Cookie fields.
        """
        before = dict(self._kept)
        for field in fields:
            if len(field) <= _MAX_COOKIE_BYTES and field.isprintable():
                self._take_one(address, field)
        return self._kept != before

    def take_over(self, address: str, others: ChainCookies) -> None:
        """Store the cookies of another chain that are for the origin of an address."""
        origin = origin_of(address)
        self._kept |= {key: value for key, value in others._kept.items() if key[0] == origin}

    def field_for(self, address: str) -> str:
        """Return the Cookie field for a request; empty if missing."""
        origin, path = origin_of(address), urlsplit(address).path or "/"
        pairs = (
            f"{name}={value}"
            for (where, below, name), value in self._kept.items()
            if where == origin and _matches(path, below)
        )
        return "; ".join(pairs)

    def _take_one(self, address: str, field: str) -> None:
        """Parse one Set-Cookie field (RFC 6265, 5.2)."""
        pair, *rest = field.split(";")
        name, equals, value = (part.strip() for part in pair.partition("="))
        if not equals or not name:
            return
        attributes = {}
        for each in rest:
            key, _, said = each.partition("=")
            attributes[key.strip().lower()] = said.strip()
        path = attributes.get("path", "")
        if not path.startswith("/"):
            path = urlsplit(address).path.rpartition("/")[0] or "/"
        cookie = (origin_of(address), path, name)
        expires = parse_date(attributes.get("expires"))
        seconds = attributes.get("max-age", "1")
        is_over = seconds.startswith("-") or not seconds.lstrip("0")
        if is_over or (expires is not None and expires < datetime.now(UTC)):
            self._kept.pop(cookie, None)
        elif len(self._kept) < _MAX_COOKIES or cookie in self._kept:
            self._kept[cookie] = value


def _matches(path: str, below: str) -> bool:
    """Whether a path is at or below a cookie's path (RFC 6265, 5.1.4)."""
    return path == below or path.startswith(below if below.endswith("/") else f"{below}/")
