"""Folder indexes: the listings that web servers generate, in all common formats.

nginx (as a page, as JSON and as XML), Apache (plain, fancy, as a table), lighttpd, Python's own
server. No style is requested by name: an entry is a link to one name right below the folder, and
its date and size are what stands beside it in a form that only dates and sizes have.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime
from urllib.parse import unquote

from willow_cart.errors import BadAddress
from willow_cart.model import Offer
from willow_cart.outside_values import quote_name, read_iso, read_json, with_zone
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.safe_xml import local_name
from willow_cart.sources.listing import Kind, Listing
from willow_cart.sources.web_pages.elements import Element, words_of
from willow_cart.sources.web_pages.markup import Page
from willow_cart.units import MONTHS, read_count

_TITLE = re.compile(
    r"(index|directory listing|listing|contents|directory) (of|for)\b", re.IGNORECASE
)
_TIME = r"[ T](?P<hour>\d\d):(?P<minute>\d\d)(?::(?P<second>\d\d))?"
_DATES = (
    re.compile(rf"(?P<year>\d{{4}})-(?P<month>\d\d|[A-Za-z]{{3}})-(?P<day>\d\d){_TIME}"),
    re.compile(rf"(?P<day>\d\d)-(?P<month>[A-Za-z]{{3}})-(?P<year>\d{{4}}){_TIME}"),
)
_SIZE = re.compile(r"\s*(?P<number>\d{1,18}(?:\.\d{1,9})?)\s?(?P<unit>[KMGTP]?)(?:i?B)?(?=\s|$)")
# All of the servers count in these, whatever they call them.
_UNITS = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30, "T": 1 << 40, "P": 1 << 50}


def is_folder_index(page: Page) -> bool:
    """Whether a page is a server's index of the folder at its address."""
    root = page.root
    if root is None or not page.address.endswith("/"):
        return False
    for element in root.iter("title", "h1"):
        if _TITLE.match(words_of(element)):
            return True
    # A listing with a header of its own is known by the links that sort it.
    sorting = [a for a in root.iter("a") if re.match(r"\?[CNMSD]=", a.get("href") or "")]
    return len(sorting) >= 3


def read_folder(page: Page, source: str) -> Listing:
    """Read a folder index, without links for sorting and links to other folders."""
    listing = Listing(page.address, Kind.FOLDER)
    if page.root is None:
        return listing
    seen = set()
    for link in page.root.iter("a"):
        try:
            address = page.resolver.resolve(link.get("href") or "")
        except BadAddress:
            continue
        if address is None or address in seen or not _is_entry(address, listing.folder):
            continue
        seen.add(address)
        if address.endswith("/"):
            listing.below.append(address)
            continue
        modified, size, about = _facts_beside(link)
        listing.offers.append(
            Offer(address, source, folder="", size=size, about=about, modified=modified)
        )
    return listing


def read_json_folder(content: bytes, address: str, source: str) -> Listing | None:
    """Read a JSON folder index (nginx); None for other JSON."""
    try:
        entries = read_json(content)
    except ValueError:
        return None
    if not isinstance(entries, list) or not all(
        isinstance(entry, dict)
        and isinstance(entry.get("name"), str)
        and entry.get("type") in ("file", "directory", "other")
        for entry in entries
    ):
        return None
    listing = Listing(address, Kind.FOLDER)
    for entry in entries:
        where = address + quote_name(entry["name"])
        if not _is_entry(where, address):
            continue
        if entry["type"] == "directory":
            listing.below.append(f"{where}/")
            continue
        size = entry.get("size")
        moment = entry.get("mtime")
        listing.offers.append(
            Offer(
                where,
                source,
                folder="",
                size=size if type(size) is int else None,
                modified=parse_date(moment) if isinstance(moment, str) else None,
            )
        )
    return listing


def read_xml_folder(root: Element, address: str, source: str) -> Listing | None:
    """Read an XML folder index (nginx); None for other XML."""
    kinds = {local_name(element) for element in root}
    if local_name(root) != "list" or not kinds <= {"file", "directory", "other"}:
        return None
    listing = Listing(address, Kind.FOLDER)
    for element in root:
        where = address + quote_name(element.text or "")
        if not _is_entry(where, address):
            continue
        if local_name(element) == "directory":
            listing.below.append(f"{where}/")
            continue
        size = read_count(element.get("size") or "")
        modified = read_iso(element.get("mtime"))
        listing.offers.append(Offer(where, source, folder="", size=size, modified=modified))
    return listing


def _is_entry(address: str, folder: str) -> bool:
    """Whether an address is an entry directly in a folder."""
    if not address.startswith(folder) or "?" in address:
        return False
    name = address[len(folder) :].removesuffix("/")
    # Dots that are percent-encoded still mean the folder above (WHATWG URL, "double-dot").
    return bool(name) and "/" not in name and unquote(name) not in (".", "..")


def _facts_beside(link: Element) -> tuple[datetime | None, int | None, int | None]:
    """Return the date, the size, and the rounded size next to a link."""
    modified = size = about = None
    for text in _texts_beside(link):
        rest = text
        if modified is None:
            match = next((m for date in _DATES if (m := date.search(text))), None)
            if match is not None:
                modified, rest = _moment(match), text[match.end() :]
        found = _SIZE.match(rest)
        if found and size is None and about is None:
            exact = not found["unit"] and "." not in found["number"]
            count = round(float(found["number"]) * _UNITS[found["unit"]])
            size, about = (count, None) if exact else (None, count)
    return modified, size, about


def _texts_beside(link: Element) -> Iterator[str]:
    """Yield the texts next to a link: other cells of its row, or the rest of its line."""
    cell = next(link.iterancestors("td", "th"), None)
    row = cell.getparent() if cell is not None else None
    if row is None:
        yield (link.tail or "").partition("\n")[0]
        return
    for other in row:
        if other is not cell and other.tag in ("td", "th"):
            yield words_of(other)


def _moment(match: re.Match[str]) -> datetime | None:
    """Parse the time in a listing; servers use UTC by default."""
    month = match["month"]
    number = int(month) if month.isdigit() else MONTHS.get(month.lower(), 0)
    try:
        moment = datetime(
            int(match["year"]), number, int(match["day"]),
            int(match["hour"]), int(match["minute"]), int(match["second"] or 0), tzinfo=UTC,
        )  # fmt: skip
        return with_zone(moment)
    except ValueError:
        return None
