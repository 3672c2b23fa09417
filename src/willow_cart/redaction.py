"""Secrets in addresses: what may be shown and recorded.

Addresses carry secrets under names that no list has, spelled in ways that no pattern foresees. So
it is the other way round: of a query the names stay, and of the values only what is plainly
harmless. Everything else is replaced by a fingerprint, so that different addresses stay different.
"""

from __future__ import annotations

import hashlib
import re
from urllib.parse import quote, unquote, unquote_plus

from willow_cart.kinds import kind_of
from willow_cart.schemes import SCHEMES, Lists

INSIDE = "#inside="
"""Separates the address of an archive from the path of a file in it."""
_STORES = tuple(f"{scheme}://" for scheme, each in SCHEMES.items() if each.lists is Lists.KEYS)
_VERSION = "?versionId="

SECRET_REFERENCES = ("env:", "file:", "keyring:", "given:")
"""How references to secrets begin, which say where one is and hold none."""

_MASK = "***"
_FINGERPRINT = re.compile(r"~[0-9a-f]{8}")
_REMOVED = re.compile(
    rf"[?#;&=]{_FINGERPRINT.pattern}(?:[?#;&=]|$)|{re.escape(_MASK)}@|//[^/@]*:{re.escape(_MASK)}"
)

# An address with nothing in it that could be a secret, as nearly all are.
_PLAIN_ADDRESS = re.compile(
    r"[a-z][a-z0-9+.-]*://[A-Za-z0-9._-]+(?::\d{1,5})?(?:/[A-Za-z0-9/._~%+,=!-]*)?"
)
_MAY_HOLD = re.compile(r"[@?#;]|:[/\\]")
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*:[/\\]*")
_WITH_SLASHES = re.compile(r"(?<![A-Za-z0-9+.-])[0-9+.-]*+[A-Za-z][A-Za-z0-9+.-]*+:[/\\]++")
_NEXT_ADDRESS = re.compile(r"(?<!\s)(\s++(?=[A-Za-z][A-Za-z0-9+.-]*+:[/\\]{2}))")
_BLANKS = re.compile(r"(\s+)")
# RFC 3986, 3.2: a host and perhaps a port, and no name and password before them.
_HOST_AND_PORT = re.compile(r"(?:\[[0-9A-Fa-f:.]*\]|[^:@\[\]]*)(?::\d*)?")
# A user name alone is not a secret where it is part of the address.
_WITH_USERS = tuple(f"{each.name}://" for each in SCHEMES.values() if each.has_users)
_USER_AND_HOST = re.compile(rf"[^\s:@/\\?#]+@(?:{_HOST_AND_PORT.pattern})(?=[/\\?#]|$)(?!.*@)")
_WORD = re.compile(r"\S+")
_SEGMENT = re.compile(r"[^/@]+")
_HAS_QUERY = re.compile(r"(?:^|[=\s])[^=\s?]*+\?[^=\s]++=")
_SEPARATOR = re.compile(r"([?&;#])")

# Names that are kept: longer or odder ones may be secrets themselves.
_NAME = re.compile(r"[A-Za-z][A-Za-z_.:$-]{0,30}[A-Za-z0-9_.:$\]\[-]{0,8}")

# Whatever has one of these in its name has no harmless values.
_TELLTALE = re.compile(
    r"token|secret|key|pass|pwd|auth|sig|sess|cred|bearer|jwt|code|nonce|otp|private|access|hmac|hash"
    r"|ticket|csrf|xsrf|saml|assert|client|login|user|account|mail|phone|cookie|salt|magic|invite"
    r"|share|^pin$|^pw$|^sid$|^st$|^se$|^sp$|^sv$"
)

# What data services call the things that are requested.
_NOUNS = frozenset(
    "area band bbox bucket category channel city class collection color county country coverage"
    " crs cycle dataset datatype date dates day days delimiter depth direction district"
    " domain elevation encoding enddate event extension feature features fileformat filetype fmt"
    " format frequency group height hour instrument interval kind lang language lat latitude layer"
    " layers level levels limit list locale lon longitude measure method metric model month months"
    " network offset order orderby outfields output page parameter parameters parameternames"
    " period platform point product project property province quality quarter range rank reach"
    " region release report request resolution river route run sample scale scenario sensor"
    " separator series service set site sites size sort sortby species srs srsname startdate"
    " station stations statistic style subset table temporal theme tile time timezone topic type"
    " typename typenames unit units until variable variables version week width year years zone"
    " zoom".split()
)
_PLAIN_VALUE = re.compile(r"[A-Za-z0-9*][A-Za-z0-9 _.,:+/*-]{0,59}")
_RUN = re.compile(r"[A-Za-z0-9]+")
_PLAIN_RUN = re.compile(
    r"(?:[a-z]{1,16}|[A-Z]{1,12}|(?:[A-Z][a-z]{1,12}){1,3}"
    r"|[a-z]{1,10}(?:[A-Z][a-z]{1,12}){1,3})?\d{0,8}"
)

# Values that are harmless under any other name.
_NUMBER = r"[+-]?\d{1,10}(?:\.\d{1,8})?"
_DATE = (
    r"\d{4}-?\d\d(?:-?\d\d)?(?:[T ]\d\d(?::?\d\d(?::?\d\d(?:\.\d{1,6})?)?)?(?:Z|[+-]\d\d:?\d\d)?)?"
)
_HARMLESS = re.compile(
    rf"|\*|{_NUMBER}(?:,{_NUMBER}){{0,7}}|{_DATE}|[a-z]{{2,3}}(?:[-_][A-Za-z]{{2,4}})?"
)
_HARMLESS_WORDS = frozenset(
    "true false yes no on off asc desc all any none daily weekly monthly yearly hourly latest"
    " download raw full".split()
)
_FILE_NAME = re.compile(r"[A-Za-z0-9 _.():-]{1,100}")

# Names are decoded so often: proxies and frameworks encode what is encoded already.
_MAX_ENCODINGS = 3


def without_secrets(text: str) -> str:
    """Return an address, or a text with addresses, without secrets.

    A name and password before the host are taken out. Values in a query or fragment are replaced
    by a short fingerprint unless they are plainly harmless: short numbers, dates, languages, file
    names, words of the path, and the usual parameters of data services. The same
    text always comes back the same, and what comes back stays as it is.
    """
    if _PLAIN_ADDRESS.fullmatch(text) or not _MAY_HOLD.search(text):
        return text
    parts = (_NEXT_ADDRESS if _SCHEME.match(text.lstrip()) else _BLANKS).split(text)
    return "".join(map(_cleared, parts))


def holds_secret(text: str) -> bool:
    """Whether an address contains a secret, or the mark of a removed one."""
    return without_secrets(text) != text or lacks_secret(text)


def lacks_secret(address: str) -> bool:
    """Whether a secret was removed from an address, so that it cannot be requested."""
    return bool(_REMOVED.search(address))


def fingerprint(text: str) -> str:
    """Return eight hexadecimal digits by which people distinguish texts; never a key."""
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:8]


def _cleared(text: str) -> str:
    """Remove the secrets from one address, or from a word that may contain one."""
    scheme = _WITH_SLASHES.search(text) or _SCHEME.match(text)
    if scheme is None:
        if "@" in text:
            text = _WORD.sub(_without_user_info, text)
        return _without_values(text) if _HAS_QUERY.search(text) else text
    before, rest = text[: scheme.end()], text[scheme.end() :]
    has_slashes = before.endswith(("/", "\\"))
    if not has_slashes and "@" not in rest:
        return text
    if not (before.lower() in _WITH_USERS and _USER_AND_HOST.match(rest)):
        rest = _without_user(rest, has_authority=has_slashes)
    if before.lower() in _STORES and rest.count("?") == 1 and _VERSION in rest:
        return before + rest  # the version of an object is public
    return before + _without_values(rest)


def _without_user_info(word: re.Match[str]) -> str:
    """Remove a name and a password from a word without a scheme: all up to its last `@`."""
    before, at, host = word[0].rpartition("@")
    for segment in _SEGMENT.finditer(before):
        if ":" in _decoded(segment[0])[1:]:
            return f"{before[: segment.start()]}{_MASK}{at}{host}"
    return word[0]


def _decoded(text: str) -> str:
    """Decode percent-encodings, also of what was encoded before."""
    for _ in range(_MAX_ENCODINGS if "%" in text else 0):
        text = unquote(text)
    return text


def _without_user(rest: str, *, has_authority: bool) -> str:
    """Remove the user name and password after a scheme.

    In an odd address it may hold any character, so it goes up to the last sign that can end it.
    """
    authority = re.split(r"[/\\?#]", rest, maxsplit=1)[0]
    decoded = _decoded(authority)
    if has_authority and _HOST_AND_PORT.fullmatch(decoded):
        return rest
    _, at, host = rest.rpartition("@")
    if at:
        return f"{_MASK}@{host}"
    if not has_authority:
        return rest
    _, at, host = decoded.rpartition("@")
    if at:
        return f"{_MASK}@{quote(host, safe=':[]')}{rest[len(authority) :]}"
    name, _, _ = decoded.partition(":")
    return f"{name}:{_MASK}{rest[len(authority) :]}"


def _without_values(address: str) -> str:
    """Hide the values in a query and in a fragment."""
    address, inside, member = address.partition(INSIDE)
    start = re.search(r"[?#]|;[^/=]*=", address)
    if start is None:
        return address + inside + member
    path, query = address[: start.start()], address[start.start() :]
    words = frozenset(map(str.lower, _RUN.findall(path)))
    pieces = _SEPARATOR.split(query)
    shown = (each if _SEPARATOR.fullmatch(each) else _shown(each, words) for each in pieces)
    return path + "".join(shown) + inside + member


def _shown(piece: str, words: frozenset[str]) -> str:
    """Return a name with its value if both are harmless, else the value hidden."""
    name, equals, value = piece.partition("=")
    if not equals:
        return piece if _is_harmless("", piece, words) else _hidden(piece)
    shown = name if _NAME.fullmatch(name) else _hidden(name)
    # What vouches for a value must be seen: the next time, only what is shown of the name is known.
    is_harmless = all(_is_harmless(each, value, words) for each in {name, shown})
    return f"{shown}={value if is_harmless else _hidden(value)}"


def _hidden(value: str) -> str:
    return value if _FINGERPRINT.fullmatch(value) else f"~{fingerprint(value)}"


def _is_harmless(name: str, value: str, words: frozenset[str]) -> bool:
    for _ in range(_MAX_ENCODINGS):
        name = unquote_plus(name)
    plain = re.sub(r"[^a-z0-9]", "", name.lower())
    if value and _TELLTALE.search(plain):
        return False
    text = unquote_plus(value)
    if _HARMLESS.fullmatch(text) or text.lower() in _HARMLESS_WORDS or _is_file_name(text):
        return True
    if not _PLAIN_VALUE.fullmatch(text):
        return False
    runs = _RUN.findall(text)
    return (plain in _NOUNS and all(map(_PLAIN_RUN.fullmatch, runs))) or (
        all(run.lower() in words for run in runs)
    )


def _is_file_name(text: str) -> bool:
    """Whether a text is a file name with a known extension, or such an extension."""
    *folders, name = text.replace("\\", "/").split("/")
    if not folders and kind_of(f"x.{name}") != "other":
        return True
    return kind_of(name) != "other" and all(
        map(_FILE_NAME.fullmatch, (*filter(None, folders), name))
    )
