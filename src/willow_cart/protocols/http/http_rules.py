"""The rules of HTTP that hauling needs, as functions on header fields.

RFC 9110 throughout; nothing in here talks to a server.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import lru_cache
from http import HTTPStatus
from urllib.parse import unquote, unquote_to_bytes, urljoin

from willow_cart.addresses import WEB, normalise, scheme_of
from willow_cart.errors import BadAddress, ProtocolError, TooManyRedirects
from willow_cart.model import Validators
from willow_cart.outside_values import with_zone
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value
from willow_cart.units import read_count

MAX_REDIRECTS = 20
"""As many as browsers follow."""

REDIRECTS = frozenset({301, 302, 303, 307, 308})
"""Answers that name another address to ask (RFC 9110, 15.4)."""

# RFC 9110, 15.6.2 and 15.6.6; RFC 2295, 8.1; RFC 5842, 7.2; RFC 2774, 7; RFC 6585, 6.
_LASTING_ERRORS = frozenset({501, 505, 506, 508, 510, 511})


def is_passing(status: int) -> bool:
    """Whether a response describes a temporary condition.

    202: what was requested is still being made (RFC 9110, 15.3.3). 408: 15.5.9. 425: RFC 8470, 5.2.
    429: RFC 6585, 4. 5xx: 15.6; an unregistered one counts as 500 (RFC 9110, 15).
    """
    if status >= 500:
        return status not in _LASTING_ERRORS
    return status in (202, 408, 425, 429)


def basic_credentials(user: str, password: str) -> str:
    """Return the credentials of Basic authentication (RFC 7617, 2)."""
    return f"Basic {base64.b64encode(f'{user}:{password}'.encode()).decode()}"


# What a wait of more digits than a lifetime has comes to.
_FOR_EVER_SECONDS = 1e9

# The longest form with spaces, and room for what servers add.
_MAX_DATE_CHARACTERS = 100


@lru_cache(512)  # files of one server often have the same
def parse_date(text: str | None) -> datetime | None:
    """Parse an HTTP date in any of its three forms (5.6.7), in UTC; None if missing or invalid."""
    if not text:
        return None
    try:
        moment = with_zone(parsedate_to_datetime(text[:_MAX_DATE_CHARACTERS]))
        return moment and moment.astimezone(UTC)
    except (ValueError, IndexError, OverflowError, TypeError):
        return None


def joining_validator(validators: Validators) -> str | None:
    """Return the If-Range field for joining parts of this version.

    None where none is strong enough.

    A strong entity tag will do (8.8.1, 13.1.5). A Last-Modified date will do if the answer it came
    with was sent so much later that a second change within the same second cannot be what is
    meant (8.8.2.2); a minute also covers clocks that disagree a little.
    """
    tag = validators.entity_tag
    if tag is not None:
        # A client that has an entity tag must not fall back on the date (13.1.5).
        return tag if tag.startswith('"') else None
    modified, sent = parse_date(validators.last_modified), parse_date(validators.date)
    if modified and sent and (sent - modified).total_seconds() >= 60:
        return validators.last_modified
    return None


def contradict(one: Validators, other: Validators) -> bool:
    """Whether the validators of two responses show different versions."""
    pairs = (
        (one.entity_tag, other.entity_tag),
        (one.last_modified, other.last_modified),
    )
    return any(this and that and this != that for this, that in pairs)


def conditional_fields(validators: Validators) -> dict[str, str]:
    """Return the fields that request a representation only if it is not this version (13.1.2.

    13.1.3).

    Both are sent where both are known: a server that knows entity tags ignores the date.
    """
    fields = {}
    if validators.entity_tag:
        fields["If-None-Match"] = validators.entity_tag
    if validators.last_modified:
        fields["If-Modified-Since"] = validators.last_modified
    return fields


def range_fields(
    start: int, end: int | None, validators: Validators | None
) -> dict[str, str] | None:
    """Return the fields that request a range (14.2); None if it could not be joined to others.

    Args:
        start: the first byte.
        end: the byte after the last; None for all that follow.
        validators: of the version that the part must be of (13.1.5); None for any.
    """
    fields = {"Range": f"bytes={start}-{'' if end is None else end - 1}"}
    if validators is not None:
        joiner = joining_validator(validators)
        if joiner is None:
            return None
        fields["If-Range"] = joiner
    return fields


class ContentRange(Value):
    """A Content-Range field (14.4).

    Attributes:
        first, last: the bytes that come, both included; None in an answer 416.
        length: of the complete representation; None where the server does not know it.
    """

    first: int | None
    last: int | None
    length: int | None


_CONTENT_RANGE = re.compile(r"bytes\s+(?:(\d+)-(\d+)|\*)/(\d+|\*)", re.IGNORECASE)


def parse_content_range(text: str | None) -> ContentRange | None:
    """Parse a Content-Range field; None if missing or invalid."""
    match = _CONTENT_RANGE.fullmatch((text or "").strip())
    if match is None:
        return None
    first, last = (None if end is None else read_count(end) for end in match.group(1, 2))
    length = None if match[3] == "*" else read_count(match[3])
    if None in (first, last) and match[1] is not None:
        return None
    if first is not None and last is not None:
        if last < first or (length is not None and last >= length):
            return None
    elif length is None:
        return None
    return ContentRange(first, last, length)


def parse_content_length(text: str | None) -> int | None:
    """Parse a Content-Length field (8.6); None if missing or invalid.

    The same number written several times counts once; different ones are no length.
    """
    values = {value.strip() for value in (text or "").split(",")}
    value = values.pop()
    return None if values else read_count(value)


def parse_retry_after(text: str | None, date: str | None, now: datetime) -> float | None:
    """Parse a Retry-After field in either form (10.2.3); return seconds from now.

    Args:
        text: the field.
        date: the Date field of the same answer, by whose clock a date is meant.
        now: this machine's clock, for an answer without one.
    """
    if text is None:
        return None
    text = text.strip()
    if text.isascii() and text.isdigit():
        return float(read_count(text) or 0) if len(text) <= 9 else _FOR_EVER_SECONDS
    moment = parse_date(text)
    return max(0.0, (moment - (parse_date(date) or now)).total_seconds()) if moment else None


def next_address(address: str, location: str | None, seen: list[str], since: int = 0) -> str:
    """Return the target of a redirect (10.2.2, 15.4).

    Args:
        address: the one that answered with the redirect.
        location: its Location field.
        seen: the addresses asked so far for this file, `address` included.
        since: how many of them were asked before the request was another one, by its cookies.

    Raises:
        TooManyRedirects: it leads back, or the chain is too long.
        ProtocolError: it leads nowhere, or away from the web.
    """
    shown = without_secrets(seen[0])
    if not location:
        raise ProtocolError(shown, "redirects without an address", "report it to the server")
    try:
        following = normalise(urljoin(address, _as_text(location)))
    except ValueError:
        raise ProtocolError(shown, "redirects without an address", "open it in a browser") from None
    except BadAddress as error:
        raise ProtocolError(
            shown, f"is redirected to {error.thing}, which {error.reason}", "open it in a browser"
        ) from None
    if scheme_of(following) not in WEB:
        # A server must not lead to files of this machine, nor to protocols of other rules.
        raise ProtocolError(shown, f"is redirected to {without_secrets(following)}, away from the"
                            " web", "ask for that address itself")  # fmt: skip
    if following in seen[since:]:
        raise TooManyRedirects(
            shown, "redirect loop", "open it in a browser to see what it asks for"
        )
    if len(seen) > MAX_REDIRECTS:
        raise TooManyRedirects(
            shown, f"is redirected more than {MAX_REDIRECTS} times", "open it in a browser"
        )
    return following


def _as_text(field: str) -> str:
    """Decode a field as UTF-8 if possible; fields are decoded as ISO 8859-1 before (5.5)."""
    try:
        return field.encode("latin-1").decode("utf-8")
    except UnicodeError:
        return field


def name_of_status(status: int) -> str:
    """Return a status code with its registered name: `404 Not Found`."""
    try:
        return f"{status} {HTTPStatus(status).phrase}"
    except ValueError:
        return str(status)


HOW_TO_SIGN_IN = "give a sign-in (--user, --token, --header, --cookies)"
"""Advice for a server that requires authentication."""


def advice_for_status(status: int, signed: bool = False) -> str:
    """Return the advice for a response without a file.

    Args:
        status: of the answer.
        signed: whether a sign-in was given.
    """
    match status:
        case 401 if signed:
            return "sign-in refused; check the name and the secret"
        case 401:
            return HOW_TO_SIGN_IN
        case 403 if signed:
            return "the sign-in has no access; ask the administrator of the server"
        case 403:
            return f"access denied; if you have an account, {HOW_TO_SIGN_IN}"
        case 407:
            return "the proxy requires a sign-in"
        case 404 | 410:
            return "check the address"
        case 416:
            return "its length has changed; haul again"
        case 421:
            return "try again later, or with --lanes-per-host 1"
        case 451:
            return "withheld for legal reasons"
        case _:
            return "open it in a browser to see the server's message"


# RFC 9110, 5.6.2 and 5.6.4: a name with a value that is a token or a quoted string.
# Possessive, so that a field without an end is read in one go.
_PARAMETER = re.compile(
    r"(?<![!#$%&'*+.^_`|~\w-])([!#$%&'*+.^_`|~\w-]++)\s*+=\s*+"
    r'(?:"((?:[^"\\]++|\\.)*+)"|([^\s,;"]*+))'
)
_TOKEN = re.compile(r"[!#$%&'*+.^_`|~\w-]*+")
_SCHEME = re.compile(r"([!#$%&'*+.^_`|~\w-]++)(?=\s|,|$)(?!\s*+=)")
_BETWEEN = re.compile(r"[\s,]*+")


def parse_challenges(fields: list[str]) -> list[tuple[str, dict[str, str]]]:
    """Parse WWW-Authenticate fields (11.6.1): each scheme in lower case, with its parameters."""
    challenges: list[tuple[str, dict[str, str]]] = []
    for field in fields:
        at = 0
        while (at := _end(_BETWEEN, field, at)) < len(field):
            if scheme := _SCHEME.match(field, at):
                challenges.append((scheme[1].lower(), {}))
                at = scheme.end()
            elif challenges and (match := _PARAMETER.match(field, at)):
                challenges[-1][1][match[1].lower()] = _unquoted(match)
                at = match.end()
            else:
                at = max(at + 1, _end(_TOKEN, field, at))
    return challenges


def _end(pattern: re.Pattern[str], field: str, at: int) -> int:
    """Return where what a pattern matches ends, which may be nothing."""
    match = pattern.match(field, at)
    return match.end() if match else at


@lru_cache(512)
def parse_content_type(field: str | None) -> tuple[str, str]:
    """Parse a Content-Type field (8.3.1): media type and charset, both in lower case."""
    media_type, _, rest = (field or "").partition(";")
    charset = ""
    for match in _PARAMETER.finditer(rest):
        if match[1].lower() == "charset":
            charset = _unquoted(match).lower()
    return media_type.strip().lower(), charset


def is_attachment(disposition: str | None) -> bool:
    """Whether a Content-Disposition field says `attachment` (RFC 6266, 4.2)."""
    kind = (disposition or "inline").partition(";")[0].strip().lower()
    # An unknown type is to be treated as an attachment.
    return kind not in ("inline", "")


def file_name_in(disposition: str | None) -> str:
    """Return the file name in a Content-Disposition field without its path; empty if missing.

    RFC 6266, 4.3: of both forms `filename*` counts, and folders in a name do not. RFC 8187, 3.2: it
    is a character set, a language and the name, percent-encoded.
    """
    given = {each[1].lower(): _unquoted(each) for each in _PARAMETER.finditer(disposition or "")}
    name = given.get("filename", "")
    coded = re.fullmatch(
        r"(utf-8|iso-8859-1)'[^']*'(.+)", given.get("filename*", ""), re.IGNORECASE
    )
    if coded:
        with suppress(UnicodeDecodeError):
            name = unquote_to_bytes(coded[2]).decode(coded[1])
    elif name and not name.isascii():
        with suppress(UnicodeError):  # fields come as ISO 8859-1, and many servers send UTF-8
            name = name.encode("iso-8859-1").decode()
    return re.split(r"[/\\]", name)[-1].strip()


def name_of_variant(location: str | None, address: str) -> str:
    """Return the name in a Content-Location field (RFC 9110, 8.7); empty without one.

    It is that of the variant which the server chose, if it is next to the address that was asked.
    """
    if not location:
        return ""
    with suppress(ValueError):
        there = urljoin(address, location).partition("?")[0]
        folder, _, name = there.rpartition("/")
        if folder == address.partition("?")[0].rpartition("/")[0]:
            return unquote(name)
    return ""


_LINK = re.compile(r'<([^<>]*+)>((?:[^,"<]++|"(?:[^"\\]++|\\.)*+")*+)')


def parse_links(text: str) -> Iterator[tuple[str, dict[str, str]]]:
    """Yield the links of a Link field (RFC 8288, 3), or of a linkset, with their parameters."""
    for match in _LINK.finditer(text):
        parameters = {each[1].lower(): _unquoted(each) for each in _PARAMETER.finditer(match[2])}
        yield match[1].strip(), parameters


def following_link(field: str | None) -> str | None:
    """Return the target of the Link field (RFC 8288, 3) with rel=next, if any."""
    return next(iter(linked(field, "next")), None)


def linked(field: str | None, relation: str) -> tuple[str, ...]:
    """Return the targets of the Link field (RFC 8288, 3) with a relation, in order."""
    return tuple(
        target
        for target, parameters in parse_links(field or "")
        if relation in parameters.get("rel", "").lower().split()
    )


def _unquoted(parameter: re.Match[str]) -> str:
    quoted: str | None = parameter[2]
    return re.sub(r"\\(.)", r"\1", quoted) if quoted is not None else parameter[3]
