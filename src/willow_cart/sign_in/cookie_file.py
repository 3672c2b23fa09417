"""Cookie files in the Netscape text format, and where each cookie may be sent (RFC 6265)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from urllib.parse import urlsplit

from willow_cart.addresses import origin_of
from willow_cart.errors import BadOption, plainly
from willow_cart.sign_in.origins import Credential, NamedBy, may_go
from willow_cart.structs import Value

# What some programs put before the domain of a cookie that pages cannot read.
_HTTP_ONLY = "#HttpOnly_"

_IS_IP_ADDRESS = re.compile(r"[0-9.]+|\[.*\]")
# RFC 6265, 4.1.1; quotes and blanks are what browsers send besides.
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
