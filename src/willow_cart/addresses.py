"""Addresses (RFC 3986): parse what users type, split it, and show it without secrets.

An address is kept as a plain string in one normal form, made by `normalise`; the other functions
expect that form.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import product
from math import prod
from urllib.parse import parse_qsl, quote, unquote, urlsplit, urlunsplit

from willow_cart.errors import BadAddress
from willow_cart.identity import is_signed
from willow_cart.kinds import kind_of, stem_of
from willow_cart.redaction import INSIDE, without_secrets
from willow_cart.schemes import SCHEMES, Lists

_PORTS = {scheme: each.port for scheme, each in SCHEMES.items()}

WEB = frozenset(scheme for scheme, each in SCHEMES.items() if each.lists is Lists.DOCUMENTS)
"""The schemes of the web."""

STORES = frozenset(scheme for scheme, each in SCHEMES.items() if each.lists is Lists.KEYS)
"""The schemes of buckets; the path is a key there, in which dots and slashes mean nothing."""

# What alone may follow a question mark in the address of a key.
_VERSION = "?versionId="

# Where a question mark is a wildcard or part of a name.
_WITHOUT_QUERY = frozenset(
    scheme for scheme, each in SCHEMES.items() if not each.has_queries and scheme not in STORES
)

# RFC 3986, 2.2 and 2.3: what may be in a path or query as it is. `%` stays, since what is
# pasted is usually encoded already; a stray one is fixed in `_encode`.
_PRINTABLE = "".join(map(chr, range(33, 127)))
_PLAIN = "%/:@!$&'()*+,;=-._~?"
# What programs on the web call the form in which they send something.
_FORMAT_KEYS = frozenset({"format", "fmt", "type", "filetype", "ext", "extension", "output"})

_ENCODED = re.compile(r"%[0-9A-Fa-f]{2}")
_STRAY_PERCENT = re.compile(r"%(?![0-9A-Fa-f]{2})")

_HOST_FIRST = re.compile(r"[\w-]+(\.[\w-]+)+(:\d+)?(/|$)")
_TYPED = [f"{scheme}://" for scheme, each in SCHEMES.items() if each.is_typed]
BEGINNINGS = f"use {', '.join(_TYPED[:-1])} or {_TYPED[-1]}"
"""What a user may have meant to write."""

# A list that names more addresses than this in one line is a slip of the hand, not a wish.
MAX_ADDRESSES_PER_LINE = 1_000_000


def looks_like_address(text: str) -> bool:
    """Whether a word on the command line is an address rather than a path."""
    return "://" in text


def looks_like_host(text: str) -> bool:
    """Whether a text begins with a host name and a path, as an address without its scheme."""
    return "/" in text and _HOST_FIRST.match(text) is not None


# An address that is in normal form beyond doubt, as nearly all are that a program has written.
_NORMAL = re.compile(
    rf"(?:{'|'.join(_TYPED)})(?:[a-z0-9_-]{{1,63}}\.){{0,8}}[a-z0-9_-]{{1,63}}"
    # A port that is the default of any scheme is looked at more closely.
    rf"(?::(?!(?:{'|'.join(str(each.port) for each in SCHEMES.values() if each.port)})/)"
    r"(?:[1-9]\d{0,3}|[1-5]\d{4})(?=/))?"
    r"(?:/(?!\.)[A-Za-z0-9_~.-]*)+"
)


def normalise(text: str) -> str:
    """Normalise an address (RFC 3986, 6.2.2 and 6.2.3).

    A question mark in the address of a file or of FTP is part of a name, or a wildcard.

    Scheme and host in lower case, percent-encodings in upper case, a host in other letters as
    IDNA, no default port, no fragment, spaces and letters beyond ASCII percent-encoded as UTF-8,
    dot segments resolved. What stands for a file inside an archive stays.

    Raises:
        BadAddress: no such address, or its scheme is not supported.
    """
    text = text.strip()
    if _NORMAL.fullmatch(text):
        return text
    if INSIDE in text:
        archive, inside = take_inside(text)
        return address_inside(normalise(archive), inside)
    shown = without_secrets(text)
    kind = text.partition(":")[0].lower()
    if kind in _WITHOUT_QUERY or (kind in STORES and _VERSION not in text):
        text = text.replace("?", "%3F").replace("#", "%23")
    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError:  # which says what is wrong with a secret in it
        raise BadAddress(shown, "not a valid address", "check its host and port") from None
    scheme = parts.scheme.lower()
    if not scheme or "://" not in text:
        meant = f"did you mean https://{shown}?" if _HOST_FIRST.match(text) else BEGINNINGS
        raise BadAddress(shown, "not a valid address", meant)
    if scheme not in _PORTS:
        raise BadAddress(shown, f"unsupported scheme {scheme}://", BEGINNINGS)
    user, name = "", parts.username
    if SCHEMES[scheme].has_users and name and "@" not in name and parts.password is None:
        user = f"{quote(unquote(name), safe='')}@"
    elif parts.username is not None or parts.password is not None:
        # RFC 3986, 3.2.1 deprecates it; anyone who sees the list would have the password.
        raise BadAddress(shown, "contains a user name and password", "remove them and use --user")
    host = "" if scheme == "file" else _encode_host(shown, parts.hostname)
    authority = user + (host if port in (None, _PORTS[scheme]) else f"{host}:{port}")
    path = _encode(parts.path) or "/"
    path = _keep_dots(path) if scheme in STORES else _without_dot_segments(path)
    # Who signs a query may sign the text as it is.
    encode = _encode_blanks if is_signed(text) else _encode
    return urlunsplit((scheme, authority, path, encode(parts.query), ""))


def _encode_host(shown: str, host: str | None) -> str:
    if not host:
        raise BadAddress(shown, "has no host", "write https://HOST/PATH")
    if ":" in host:
        return f"[{host}]"
    try:
        encoded = host.encode("idna").decode("ascii") if host.isascii() else _in_ascii(host)
    except UnicodeError:
        raise BadAddress(shown, "has no valid host name", "check the spelling") from None
    if not re.fullmatch(r"[a-z0-9._-]+", encoded):
        raise BadAddress(shown, "has no valid host name", "check the spelling")
    return encoded


def _in_ascii(host: str) -> str:
    """Encode an internationalised host name as ASCII (IDNA 2008, mapped as in UTS 46).

    The standard library knows IDNA 2003, which makes `ss` of `ß`: that is another host now.

    Raises:
        UnicodeError: it is not a host name.
    """
    import idna  # most hosts are in ASCII

    return idna.encode(host, uts46=True, transitional=False).decode("ascii")


def _encode_blanks(part: str) -> str:
    """Encode only what a request cannot contain."""
    return quote(part, safe=_PRINTABLE)


def _encode(part: str) -> str:
    encoded = quote(_STRAY_PERCENT.sub("%25", part), safe=_PLAIN)
    return _ENCODED.sub(lambda match: match[0].upper(), encoded) if "%" in encoded else encoded


def _keep_dots(path: str) -> str:
    """Encode `.` and `..` in an object key, so that no library resolves them."""
    if "/." not in path:
        return path
    segments = path.split("/")
    return "/".join(each.replace(".", "%2E") if each in (".", "..") else each for each in segments)


def _without_dot_segments(path: str) -> str:
    """Resolve `.` and `..` (RFC 3986, 5.2.4)."""
    if "/." not in path:
        return path
    segments = path.split("/")
    kept: list[str] = []
    for segment in segments:
        if segment == "..":
            if len(kept) > 1:
                kept.pop()
        elif segment != ".":
            kept.append(segment)
    if segments[-1] in (".", ".."):
        kept.append("")
    return "/".join(kept)


_CONTAINER = "az://"


def is_container_address(text: str) -> bool:
    """Whether a source is written `az://ACCOUNT/CONTAINER/PREFIX`."""
    return text.strip().lower().startswith(_CONTAINER)


def container_on_web(text: str, endpoint: str | None) -> str:
    """Return the web address of a container that is written `az://ACCOUNT/CONTAINER/PREFIX`.

    Args:
        text: as written; a shared access signature may follow.
        endpoint: the address of a server with accounts as its first folders; None for the public
            service.

    Raises:
        BadAddress: it names no container.
    """
    account, _, rest = text.strip()[len(_CONTAINER) :].partition("/")
    if not account or not rest or rest.startswith("?"):
        shown = without_secrets(text)
        raise BadAddress(
            shown, "no container in the address", "write az://ACCOUNT/CONTAINER/PREFIX"
        )
    if endpoint is not None:
        return f"{endpoint.rstrip('/')}/{account}/{rest}"
    return f"https://{account}.blob.core.windows.net/{rest}"


def scheme_of(address: str) -> str:
    """Return the scheme, in lower case."""
    return address.partition(":")[0]


def host_of(address: str) -> str:
    """Return the host, with its port unless that is the scheme's default."""
    return address.split("/", 3)[2].rpartition("@")[2]


def origin_of(address: str) -> str:
    """Return the origin (RFC 6454): scheme, host and port."""
    return "/".join(address.split("/", 3)[:3])


def segments_of(address: str) -> list[str]:
    """Return the segments of the path.

    Each is decoded by itself, so that an encoded slash separates nothing.
    """
    path = _path_in(address)
    segments = path.split("/")[3:]
    return [unquote(segment) for segment in segments] if "%" in path else segments


def name_of(address: str) -> str:
    """Return the last segment of the path, decoded; empty for a folder's address."""
    name = (_path_in(address) if "?" in address or "#" in address else address).rpartition("/")[2]
    return unquote(name) if "%" in name else name


def _path_in(address: str) -> str:
    """Return the part before the query.

    Behind the path of an archive comes that of the file inside.
    """
    if INSIDE not in address:
        return address.partition("?")[0]
    archive, _, inside = address.partition(INSIDE)
    return f"{archive.partition('?')[0]}/{inside}"


def address_inside(archive: str, path: str) -> str:
    """Return the address of a file inside an archive.

    It is a fragment of the archive's own (RFC 3986, 3.5), which no server is ever sent:
    `https://host/seasons.zip#inside=2031/counts.csv`.

    Args:
        archive: the address of the archive.
        path: of the file in it, as the archive has it.
    """
    return f"{archive}{INSIDE}{quote(path.encode('utf-8', 'surrogateescape'), safe='/~')}"


def is_inside(address: str) -> bool:
    """Whether an address refers to a file inside an archive."""
    return INSIDE in address


def take_inside(address: str) -> tuple[str, str]:
    """Split the address of a file inside an archive into the archive's address and the path.

    The path is empty for other files.
    """
    archive, _, inside = address.partition(INSIDE)
    return archive, unquote(inside, errors="surrogateescape")


def file_name_in(address: str) -> str:
    """Return the file name in an address; empty if missing.

    That is the last segment of its path, unless that is a program's and the query tells more:
    `download?file=level_3.csv` is level_3.csv, and `export.php?id=3&format=csv` is export.csv.
    """
    name = name_of(address)
    if (
        "?" not in address
        or INSIDE in address
        or kind_of(name) not in ("other", "page")
        or scheme_of(address) not in WEB
    ):
        return name
    pairs = parse_qsl(urlsplit(without_secrets(address)).query)
    for _, value in pairs:
        last = value.replace("\\", "/").rpartition("/")[2]
        if kind_of(last) not in ("other", "page"):
            return last
    for key, value in pairs:
        if key.lower() in _FORMAT_KEYS and kind_of(f"x.{value}") != "other":
            stem = stem_of(name) if kind_of(name) == "page" else name
            return f"{stem or 'index'}.{value.lower()}"
    return name


def address_of_key(bucket: str, key: str) -> str:
    """Return the address of an object in a bucket, for any key.

    Args:
        bucket: the address of its bucket, with a slash at its end.
        key: as the store has it.
    """
    encoded = quote(key, safe="/~")
    if encoded.endswith("/"):
        encoded = encoded[:-1] + "%2F"  # the key of a file, not the address of a folder
    return bucket + _keep_dots(f"/{encoded}")[1:]


def key_of(address: str) -> str:
    """Return the key of an object, or the prefix of keys, from its address."""
    return unquote(address.partition("?")[0].split("/", 3)[3])


def query_of(address: str) -> str:
    """Return the decoded query; empty if missing."""
    return unquote(urlsplit(address).query)


_RANGE = re.compile(r"\{([^{}]*)\}")
_NUMBERS = re.compile(r"(-?\d{1,18})\.\.(-?\d{1,18})(?:\.\.(-?\d{1,18}))?")
_SLIP = re.compile(r"(\d{1,18}) ?[-–] ?(\d{1,18})")  # noqa: RUF001  # as some keyboards have it
_TOO_LONG = re.compile(r"-?\d+\.\.-?(?:\d{19,}|\d+\.\.-?\d{19,}).*|-?\d{19,}\.\.-?\d+.*")
_LETTERS = re.compile(r"([A-Za-z])\.\.([A-Za-z])(?:\.\.(-?\d{1,18}))?")


def expand_ranges(text: str) -> Iterator[str]:
    """Expand the ranges in a text into addresses; the last range varies fastest.

    `{2018..2031}`, `{01..12}` (the width is kept), `{a..f}`, `{0..30..5}`, `{north,south}`, as
    POSIX users know them from shells. Braces that hold neither `..` nor a comma stay as they are.

    Raises:
        BadAddress: the text stands for more than `MAX_ADDRESSES_PER_LINE` addresses, or has a
            hyphen in place of the two dots.
    """
    choices: list[Sequence[str | int]] = []
    pieces: list[str] = []
    end = 0
    widths: list[int] = []
    for match in _RANGE.finditer(text):
        values, width = _values_of(match[1])
        if values is None:
            continue
        pieces.append(text[end : match.start()])
        choices.append(values)
        widths.append(width)
        end = match.end()
    if prod(len(values) for values in choices) > MAX_ADDRESSES_PER_LINE:
        raise BadAddress(
            without_secrets(text),
            f"expands to more than {MAX_ADDRESSES_PER_LINE:,} addresses",
            "use smaller ranges",
        )
    for values_now in product(*choices):
        written = []
        for piece, value, width in zip(pieces, values_now, widths, strict=True):
            # Python counts the sign into the width, as shells do.
            written += [piece, f"{value:0{width}d}" if isinstance(value, int) else value]
        yield "".join(written) + text[end:]


def _values_of(inside: str) -> tuple[Sequence[str | int] | None, int]:
    """Return the values that one pair of braces expands to.

    The second value is the width that numbers are written in.
    """
    if _TOO_LONG.fullmatch(inside):
        raise BadAddress(
            "{" + inside[:40] + "...}", "contains numbers with too many digits", "shorten them"
        )
    if slip := _SLIP.fullmatch(inside):
        meant = "{" + "..".join(slip.groups()) + "}"
        raise BadAddress("{" + inside + "}", "is not a range", f"did you mean {meant}?")
    if numbers := _NUMBERS.fullmatch(inside):
        first, last, step = numbers.groups()
        padded = any(end.lstrip("-").startswith("0") and len(end.lstrip("-")) > 1
                     for end in (first, last))  # fmt: skip
        width = max(len(first), len(last)) if padded else 0
        return _inclusive(int(first), int(last), step), width
    if letters := _LETTERS.fullmatch(inside):
        first, last, step = letters.groups()
        return [chr(code) for code in _inclusive(ord(first), ord(last), step)], 0
    if "," in inside:
        return inside.split(","), 0
    return None, 0


def _inclusive(first: int, last: int, step: str | None) -> range:
    stride = abs(int(step)) if step and int(step) else 1
    return range(first, last + 1, stride) if first <= last else range(first, last - 1, -stride)
