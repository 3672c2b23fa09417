"""Soft failures: a page that comes where a file was asked for, and an answer that calls it well."""

from __future__ import annotations

import html
import re

from willow_cart.kinds import kind_of

PAGE_TYPES = frozenset({"text/html", "application/xhtml+xml"})
"""The media types of pages."""

# The beginnings by which browsers know a page whatever it is called (WHATWG MIME Sniffing, 7.1).
_BEGINNINGS = (
    "!doctype html|html|head|script|iframe|h1|div|font|table|a|style|title|b|body|br|p"
)  # fmt: skip
_PAGE = re.compile(rf"\s*(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*)*<(?:{_BEGINNINGS})[\s>]".encode(),
                   re.IGNORECASE | re.DOTALL)  # fmt: skip
_TITLE = re.compile(rb"<title[^>]*>(.*?)</title", re.IGNORECASE | re.DOTALL)
_PASSWORD = re.compile(rb"<input[^>]*\btype\s*=\s*[\"']?password", re.IGNORECASE)

BEGINNING = 64 * 1024
"""As many bytes of a page as are looked at."""

# Kinds of files that may well hold what begins like a page, or be one.
_MAYBE_PAGES = frozenset({"page", "text", "other"})


def may_be_page(name: str) -> bool:
    """Whether a file of this name may be a page; a `.zip` may not."""
    return kind_of(name) in _MAYBE_PAGES


def looks_like_page(beginning: bytes) -> bool:
    """Whether bytes begin as pages do."""
    return _PAGE.match(beginning.removeprefix(b"\xef\xbb\xbf")) is not None


def title_of(beginning: bytes) -> str:
    """A page's title in at most 80 characters; empty where there is none."""
    match = _TITLE.search(beginning)
    text = html.unescape(match[1].decode("utf-8", "replace")) if match else ""
    return " ".join(text.split())[:80]


def asks_to_sign_in(beginning: bytes) -> bool:
    """Whether a page has a field for a password."""
    return _PASSWORD.search(beginning) is not None
