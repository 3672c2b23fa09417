"""Detect web pages and error documents that a server sends with status 200."""

from __future__ import annotations

import codecs
import html
import re

from willow_cart.kinds import begins_as_named, extension_of, kind_of

PAGE_TYPES = frozenset({"text/html", "application/xhtml+xml"})
"""The media types of pages."""

# The beginnings by which browsers know a page whatever its name (WHATWG MIME Sniffing, 7.1).
_BEGINNINGS = (
    "!doctype html|html|head|script|iframe|h1|div|font|table|a|style|title|b|body|br|p"
)  # fmt: skip
_PAGE = re.compile(rf"\s*(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*)*<(?:{_BEGINNINGS})[\s>]".encode(),
                   re.IGNORECASE | re.DOTALL)  # fmt: skip
_TITLE = re.compile(r"<title[^<>]*+>", re.IGNORECASE)
_TITLE_END = re.compile(r"</title", re.IGNORECASE)
_PASSWORD = re.compile(rb"<input[^>]*\btype\s*=\s*[\"']?password", re.IGNORECASE)

INSPECTED_BYTES = 64 * 1024
"""As many bytes of a page as are looked at."""

# Kinds of files that may well hold what begins like a page, or be one.
_MAYBE_PAGES = frozenset({"page", "text", "other"})


def may_be_page(name: str) -> bool:
    """Whether a file of this name may be a web page."""
    return kind_of(name) in _MAYBE_PAGES


def looks_like_page(beginning: bytes) -> bool:
    """Whether bytes start like a web page."""
    return _PAGE.match(as_utf8(beginning)) is not None


def as_utf8(beginning: bytes) -> bytes:
    """Return Unicode text as UTF-8 without a byte-order mark.

    UTF-16 is known by its mark, or by the zeros next to a character of markup (HTML, 13.2.3.2).
    """
    for mark, charset in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"),
                          (b"\xfe\xff", "utf-16-be")):  # fmt: skip
        if beginning.startswith(mark):
            return beginning.removeprefix(mark).decode(charset, "ignore").encode()
    if beginning.startswith((b"<\0", b"{\0", b"\0<", b"\0{")):
        charset = "utf-16-be" if beginning.startswith(b"\0") else "utf-16-le"
        return beginning.decode(charset, "ignore").encode()
    return beginning


# What APIs and databases write where data should be.
_ERROR = re.compile(
    rb"\s*(?:error|fatal(?: error)?|exception|warning)\s*[:!{]"
    rb"|\s*(?:access denied|forbidden|not found|unauthori[sz]ed|not authori[sz]ed|bad request"
    rb"|too many requests|rate limit|quota exceeded"
    rb"|service unavailable|internal server error|no data)\b[^,;\t]{0,200}\s*$",
    re.IGNORECASE,
)
_WORDS = re.compile(rb"[A-Za-z]{2}[,:]? [A-Za-z]{2}")
_CONTROLS = re.compile(rb"[\0-\x08\x0e-\x1f]")
_STORE_ERROR = re.compile(rb"\s*(?:<\?xml[^>]*>\s*)?<Error>\s*<Code>")
_JSON = re.compile(rb'\s*(?:\{\s*["}]|\[\s*[\[{])')
_XML = re.compile(rb"\s*<(?:\?xml|[A-Za-z][\w:.-]*(?:\s[^<>]*)?/?>)")
_TABLES = frozenset({"csv", "tsv", "tab"})
_MARKED_UP = frozenset({"xml", "kml", "gml", "gpx", "svg", "rss", "atom"})
_MAX_ERROR_BYTES = 2000

SNIFFED_BYTES = 512
"""As many bytes of a file are looked at before it is believed to be what its name says."""


def stands_for_error(name: str, beginning: bytes, *, is_all: bool) -> str:
    """Describe bytes that arrived in place of a file; empty if they may be the file.

    Args:
        name: of the file that was requested.
        beginning: its first bytes, at least `SNIFFED_BYTES` if it is that long.
        is_all: whether that is all of it.
    """
    as_named = begins_as_named(name, beginning)
    if is_all and not beginning:
        return "" if as_named is None else "an empty answer"
    if as_named:
        return ""
    extension = extension_of(name)
    text = as_utf8(beginning)
    if _STORE_ERROR.match(text):
        return "an error message in XML"
    is_binary = as_named is False
    if _JSON.match(text) and _is_utf8(text) and (is_binary or extension in _TABLES | _MARKED_UP):
        return "a JSON document"
    if _XML.match(text) and (is_binary or extension in _TABLES or extension == "json"):
        return "an XML document"
    may_be_error = is_binary or extension in _TABLES | _MARKED_UP | {"json", "geojson"}
    is_short = is_all and len(text) <= _MAX_ERROR_BYTES
    if may_be_error and is_short and (_ERROR.match(text) or (is_binary and _is_prose(text))):
        first = " ".join(text.decode("utf-8", "replace").split())[:80]
        return f'a message, "{first}"'
    return ""


def _is_prose(text: bytes) -> bool:
    """Whether bytes are words for people, which no file with a signature of its own begins with."""
    return bool(_WORDS.search(text)) and not _CONTROLS.search(text) and _is_utf8(text)


def _is_utf8(beginning: bytes) -> bool:
    """Whether bytes are the beginning of a text in UTF-8, as JSON is (RFC 8259, 8.1)."""
    try:
        codecs.getincrementaldecoder("utf-8")().decode(beginning)
    except UnicodeDecodeError:
        return False
    return b"\0" not in beginning


def title_of(beginning: bytes) -> str:
    """Return the title of a page, at most 80 characters; empty if missing."""
    return whole_title_of(as_utf8(beginning).decode("utf-8", "replace"))[:80]


def whole_title_of(page: str) -> str:
    """Return the title of a page in one line; empty if missing."""
    start = _TITLE.search(page)
    end = _TITLE_END.search(page, start.end()) if start else None
    if start is None or end is None:
        return ""
    return " ".join(html.unescape(page[start.end() : end.start()]).split())


# What servers call the index of a folder that they make.
_INDEX = re.compile(
    r"(?:index|directory listing|listing|contents|directory) (?:of|for)\b|files within\b|listing:",
    re.IGNORECASE,
)
_HEADING = re.compile(r"<h1[^<>]*+>([^<]{0,100})", re.IGNORECASE)


def is_index_title(words: str) -> bool:
    """Whether a title or a heading is that of an index of a folder."""
    return _INDEX.match(words) is not None


def looks_like_index(beginning: bytes) -> bool:
    """Whether a page is titled as the index of a folder."""
    heading = _HEADING.search(as_utf8(beginning).decode("utf-8", "replace"))
    titles = (title_of(beginning), heading[1].strip() if heading else "")
    return any(is_index_title(title) for title in titles)


def asks_to_sign_in(beginning: bytes) -> bool:
    """Whether a page contains a password field."""
    return _PASSWORD.search(as_utf8(beginning)) is not None
