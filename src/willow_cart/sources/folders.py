"""Folder indexes: the listings that web servers generate, in all common formats.

No server's style is asked for by name, but for nginx's JSON and XML: an entry is a link to one name
right below the folder, a folder where its address or its words end with a slash, and its date and
size are what is next to it in a form that only dates and sizes have.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime
from urllib.parse import unquote

from willow_cart.addresses import host_of, name_of
from willow_cart.checks.soft_failures import is_index_title
from willow_cart.errors import BadAddress
from willow_cart.kinds import kind_of
from willow_cart.model import Offer
from willow_cart.outside_values import quote_name, read_iso, read_json, with_zone
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.safe_xml import local_name
from willow_cart.sources.listing import Kind, Listing, folder_of, may_be_listing
from willow_cart.sources.web_pages.elements import Element, words_of
from willow_cart.sources.web_pages.markup import Page
from willow_cart.structs import Value, replace
from willow_cart.units import MONTHS, read_count

# A page without such a title is an index if this share of its links are entries, and more links
# than this sort it.
_SHARE_OF_ENTRIES = 0.8
_SORTING_LINKS = 2
_TIME = r"[ T](?P<hour>\d\d):(?P<minute>\d\d)(?::(?P<second>\d\d))?"
_DATES = (
    re.compile(rf"(?P<year>\d{{4}})-(?P<month>\d\d|[A-Za-z]{{3}})-(?P<day>\d\d){_TIME}"),
    re.compile(rf"(?P<day>\d\d)-?(?P<month>[A-Za-z]{{3}})-?(?P<year>\d{{4}}){_TIME}"),
)
_SIZE = re.compile(r"\s*(?P<number>\d{1,18}(?:\.\d{1,9})?)\s?(?P<unit>[KMGTP]?)(?:i?B)?(?=\s|$)")
# All of the servers count in these, whatever they call them.
_UNITS = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30, "T": 1 << 40, "P": 1 << 50}


def is_folder_index(page: Page) -> bool:
    """Whether a page is a server's index of the folder at its address."""
    root = page.root
    if root is None or not page.address or "?" in page.address:
        return False
    if not page.address.endswith("/") and kind_of(name_of(page.address)) != "other":
        return False
    for element in root.iter("title", "h1"):
        if is_index_title(words_of(element)):
            return True
    return _is_shaped_as_index(page)


def _is_shaped_as_index(page: Page) -> bool:
    """Whether a page is an index, judging by links that sort it, or by the text next to links."""
    folder = _folder_of(page)
    sorting, others = set(), set()
    entries: dict[str, Element] = {}
    most = 0 if page.root is None else sum(1 for _ in page.root.iter("a"))
    for link, address in _links_of(page):
        if address.partition("?")[0] in (page.address, folder):
            sorting.add(address.partition("?")[2])
        elif _is_entry(address, folder):
            entries[address] = link
        elif not folder.startswith(address) and host_of(address) == host_of(folder):
            others.add(address)
            if most - len(others) < _SHARE_OF_ENTRIES * most:
                return False  # whatever follows
    if not entries or len(entries) < _SHARE_OF_ENTRIES * (len(entries) + len(others)):
        return False
    if len(sorting - {""}) > _SORTING_LINKS:
        return True
    if len(entries) == 1 or not page.address.endswith("/"):
        return False
    dated = sum(_facts_beside(a) != _Facts() for a in entries.values())
    return 2 * dated > len(entries)


def read_folder(page: Page, source: str) -> Listing:
    """Read a folder index, without links for sorting and links to other folders.

    Where no entry states that it is a folder, it is left open of those whose names do not say that
    they are files.
    """
    folder = _folder_of(page)
    listing = Listing(folder, Kind.FOLDER)
    seen = set()
    for link, address in _links_of(page):
        if not _is_entry(address, folder) or address in seen or f"{address}/" in seen:
            continue
        if words_of(link).endswith("/") and not address.endswith("/"):
            address += "/"  # noqa: PLW2901  # this is its whole address
        seen.add(address)
        if address.endswith("/"):
            listing.below.append(address)
            continue
        facts = _facts_beside(link)
        listing.offers.append(
            Offer(
                address,
                source,
                folder="",
                size=facts.size,
                about=facts.about,
                about_within=facts.about_within,
                modified=facts.modified,
            )
        )
    if not listing.below:
        listing.unsure = {each.address for each in listing.offers if may_be_listing(each.address)}
    return listing


def _folder_of(page: Page) -> str:
    """Return the address below which the entries of an index are.

    Some servers send the index of a folder for its address without a slash as well.
    """
    if page.address.endswith("/"):
        return page.address
    below = f"{page.address}/"
    if any(address.startswith(below) for _, address in _links_of(page)):
        return below
    return folder_of(page.address)


def _links_of(page: Page) -> Iterator[tuple[Element, str]]:
    """Yield the links of a page that have an address, each with it."""
    for link in () if page.root is None else page.root.iter("a"):
        with suppress(BadAddress):
            if (address := page.resolver.resolve(link.get("href") or "")) is not None:
                yield link, address


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


class _Facts(Value):
    """What an index lists next to a link; the fields are those of `Offer`."""

    modified: datetime | None = None
    size: int | None = None
    about: int | None = None
    about_within: int | None = None


def _facts_beside(link: Element) -> _Facts:
    """Return the date and the size next to a link."""
    facts = _Facts()
    for text in _texts_beside(link):
        rest = text
        if facts.modified is None:
            match = next((m for date in _DATES if (m := date.search(text))), None)
            if match is not None:
                facts = replace(facts, modified=_moment(match))
                rest = text[match.end() :]
        found = _SIZE.match(rest)
        if found and facts.size is facts.about is None:
            facts = replace(facts, **_size_in(found))
    return facts


def _size_in(found: re.Match[str]) -> dict[str, int]:
    """Return the fields for a size: exact, or rounded with the most that it can be wrong."""
    number, unit = found["number"], _UNITS[found["unit"]]
    count = round(float(number) * unit)
    decimals = len(number.partition(".")[2])
    if unit == 1 and not decimals:
        return {"size": count}
    # One of the last digit: some servers round to the nearest, others up.
    return {"about": count, "about_within": math.ceil(unit / 10**decimals)}


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
