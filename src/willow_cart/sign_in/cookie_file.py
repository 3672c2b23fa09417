"""Cookies: of files in the Netscape text format, and of chains of redirects (RFC 6265)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from urllib.parse import urlsplit

from willow_cart.addresses import origin_of
from willow_cart.errors import BadOption, plainly
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.sign_in.origins import Credential, NamedBy, may_go
from willow_cart.structs import Value

# What some programs put before the domain of a cookie that pages cannot read.
_HTTP_ONLY = "#HttpOnly_"

_IS_IP_ADDRESS = re.compile(r"[0-9.]+|\[.*\]")
# RFC 6265, 4.1.1; quotes and spaces are what browsers send besides.
_NAME = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
_VALUE = re.compile(r"[\x20-\x3a\x3c-\x7e]*")

# More than browsers keep for all sites together.
_MAX_COOKIES = 10_000
_MAX_FILE_BYTES = 16 << 20


class Cookie(Value):
    """A cookie with the requests that it belongs to.

    Attributes:
        domain: the host, in lower case.
        subdomains: whether it also belongs to hosts below it.
        path: at and below which it does.
        secure: whether it goes over a secure connection only.
        name, value: as they are sent.
    """

    domain: str
    subdomains: bool
    path: str
    secure: bool
    name: str
    value: str

    def __repr__(self) -> str:
        return f"Cookie({self.name!r} of {self.domain!r})"  # its value is a secret

    def belongs_to(self, address: str) -> bool:
        """Whether it belongs to an address, by host, path and security (RFC 6265, 5.4)."""
        parts = urlsplit(address)
        host = parts.hostname or ""
        if self.secure and parts.scheme != "https":
            return False
        # RFC 6265, 5.1.3: an IP address is not a domain name, and has no subdomains.
        may_be_below = self.subdomains and not _IS_IP_ADDRESS.fullmatch(host)
        if host != self.domain and not (may_be_below and host.endswith(f".{self.domain}")):
            return False
        path = parts.path or "/"
        below = self.path if self.path.endswith("/") else f"{self.path}/"
        return path == self.path or path.startswith(below)


class CookieJar(Value):
    """The cookies of a file, each sent to its own origins only.

    Attributes:
        only_named: whether cookies go only to origins that the user named.
    """

    cookies: tuple[Cookie, ...]
    only_named: bool = False

    def field_for(self, address: str, named_by: NamedBy) -> str:
        """Return the Cookie field for a request; empty if missing.

        Args:
            named_by: who named its origin.
        """
        if self.only_named and named_by is not NamedBy.USER:
            return ""
        if not may_go(Credential.COOKIE, origin_of(address), named_by):
            return ""
        return "; ".join(
            f"{each.name}={each.value}" for each in self.cookies if each.belongs_to(address)
        )


def read_cookies(path: str, now: float) -> tuple[Cookie, ...]:
    """Read the unexpired cookies in a file.

    Args:
        path: of the file: a line for each cookie, with seven columns between tabs.
        now: in seconds since 1970.

    Raises:
        BadOption: it cannot be read, or is in another form.
    """
    try:
        with Path(path).open(encoding="utf-8-sig", newline="") as file:
            text = file.read(_MAX_FILE_BYTES + 1)
    except UnicodeDecodeError:
        raise _bad(path, "not a text file") from None
    except OSError as error:
        raise BadOption(
            f"--cookies {path}", f"cannot be read: {plainly(error)}", "name a cookie file"
        ) from None
    if len(text) > _MAX_FILE_BYTES:
        raise _bad(path, "is too large")
    return tuple(_cookies_in(path, re.split(r"\r\n|\r|\n", text), now))


def _cookies_in(path: str, lines: Iterable[str], now: float) -> Iterator[Cookie]:
    count = 0
    for number, whole in enumerate(lines, 1):
        line = whole.removeprefix(_HTTP_ONLY)
        if not line.strip() or (line is whole and line.startswith("#")):
            continue
        columns = line.split("\t")
        count += 1
        if len(columns) != 7 or count > _MAX_COOKIES:
            raise _bad(path, f"line {number}: expected seven columns")
        domain, subdomains, below, secure, expires, name, value = columns
        if not _NAME.fullmatch(name) or not _VALUE.fullmatch(value) or not below.startswith("/"):
            raise _bad(path, f"line {number}: invalid characters")
        if not re.fullmatch(r"\d{0,12}(?:\.\d{1,9})?", expires):
            raise _bad(path, f"line {number}: invalid expiry time")
        # Browsers write 0 where a cookie lasts as long as its session, and this is one.
        if float(expires or 0) and float(expires) < now:
            continue
        yield Cookie(
            domain.lower().lstrip("."),
            subdomains.upper() == "TRUE",
            below,
            secure.upper() == "TRUE",
            name,
            value,
        )


def _bad(path: str, reason: str) -> BadOption:
    return BadOption(
        f"--cookies {path}", reason, "export the cookies again, in the Netscape text form"
    )


# More, or longer ones, than browsers keep (RFC 6265, 6.1).
_MAX_CHAIN_COOKIES = 50
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
        elif len(self._kept) < _MAX_CHAIN_COOKIES or cookie in self._kept:
            self._kept[cookie] = value


def _matches(path: str, below: str) -> bool:
    """Whether a path is at or below a cookie's path (RFC 6265, 5.1.4)."""
    return path == below or path.startswith(below if below.endswith("/") else f"{below}/")
