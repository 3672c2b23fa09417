"""Parse pages and XML into trees in their actual character set, without fetching anything."""

from __future__ import annotations

import codecs
import gzip
import io
import re
import zlib

from lxml import etree

from willow_cart.errors import BadAddress, UnreadableSource
from willow_cart.safe_xml import BrokenXml, Element, parse_safely
from willow_cart.sources.web_pages.flat_pages import parse_flat
from willow_cart.sources.web_pages.references import Resolver
from willow_cart.structs import Value

# A byte-order mark wins over everything (WHATWG Encoding, 6.1).
_MARKS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"),
          (codecs.BOM_UTF16_BE, "utf-16-be"))  # fmt: skip
_DECLARED = re.compile(rb"<meta[^>]+charset\s*=\s*[\"']?\s*([\w.:-]+)", re.IGNORECASE)
_DECLARATION_BYTES = 4096

# What a swollen sitemap may come to; the protocol allows 50 MB.
_MAX_UNPACKED_BYTES = 256 << 20


def decode_page(content: bytes, charset: str = "") -> tuple[str, str]:
    """Decode a page (HTML, "Determining the character encoding").

    A byte-order mark, then what the server says, then what the page says; what says nothing is
    UTF-8 if it can be, and else what old pages are mostly in.

    Args:
        charset: from the server's header; empty if missing.

    Returns:
        The text, and the character set.
    """
    for mark, name in _MARKS:
        if content.startswith(mark):
            return content[len(mark) :].decode(name, "replace"), name
    declared = _DECLARED.search(content[:_DECLARATION_BYTES])
    for label in (charset, declared[1].decode("ascii", "replace") if declared else ""):
        if codec := _codec(label):
            return content.decode(codec, "replace"), codec
    try:
        return content.decode("utf-8"), "utf-8"
    except UnicodeDecodeError:
        return content.decode("cp1252", "replace"), "cp1252"


def _codec(label: str) -> str | None:
    """Return Python's name for a character set; None if unknown."""
    try:
        name = codecs.lookup(label).name
        "".encode(name)  # some codecs are none for text
    except (LookupError, ValueError, TypeError):
        return None
    # A page that declares Latin 1 or ASCII is in Windows 1252 (WHATWG Encoding, 4.2); a page that
    # could be read as far as its own declaration is not in UTF-16.
    if name in ("iso8859-1", "ascii"):
        return "cp1252"
    return "utf-8" if name.startswith("utf-16") else name


class Page(Value):
    """A page as a tree.

    Attributes:
        address: its own, after redirects; empty if unknown.
        root: its outermost element; None where nothing in it is markup.
        resolver: for the references in it.
    """

    address: str
    root: Element | None
    resolver: Resolver


def open_page(content: bytes, address: str, charset: str = "") -> Page:
    """Parse a page into a tree.

    Args:
        content: as it came.
        address: its own, after redirects; empty if unknown.
        charset: from the server's header.
    """
    text, used = decode_page(content, charset)
    root = _parse_page(text)
    base = address if root is None else _base_of(root, address)
    return Page(address, root, Resolver(base, used))


def _base_of(root: Element, address: str) -> str:
    """Return the base address of a page (HTML, "Document base URLs").

    The first `base` element that has an address counts.
    """
    for element in root.iter("base"):
        if reference := element.get("href"):
            try:
                return Resolver(address).resolve(reference) or address
            except BadAddress:
                return address
    return address


def _parse_page(text: str) -> Element | None:
    """Parse a page leniently; None for an empty one."""
    parser = etree.HTMLParser(
        encoding="utf-8", huge_tree=True, remove_comments=True, remove_pis=True
    )
    # A lone surrogate or a null cannot be in a tree; neither is part of any address.
    content = text.replace("\0", "").encode("utf-8", "replace")
    try:
        root = etree.fromstring(content, parser)
    except etree.XMLSyntaxError:
        root = None  # nothing in it is markup
    if any(entry.type_name == "ERR_RESOURCE_LIMIT" for entry in parser.error_log):
        return parse_flat(text)
    return root


def parse_xml(content: bytes, place: str) -> Element:
    """Parse XML, compressed or not, without entities and network access.

    Raises:
        UnreadableSource: it is broken, or swells beyond any measure.
    """
    if content.startswith(b"\x1f\x8b"):
        content = _unpack(content, place)
    try:
        return parse_safely(content)
    except BrokenXml as error:
        raise UnreadableSource(
            place, f"is broken XML: {error}", "report it to the server"
        ) from None


def _unpack(content: bytes, place: str) -> bytes:
    try:
        with gzip.open(io.BytesIO(content)) as packed:
            unpacked = packed.read(_MAX_UNPACKED_BYTES + 1)
    except (OSError, EOFError, zlib.error):
        raise UnreadableSource(place, "is broken gzip", "report it to the server") from None
    if len(unpacked) > _MAX_UNPACKED_BYTES:
        raise UnreadableSource(place, "is too large after decompression", "report it to the server")
    return unpacked
