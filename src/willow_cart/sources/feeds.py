"""Feeds: the enclosures of RSS 2.0 and Atom (RFC 4287) entries."""

from __future__ import annotations

from contextlib import suppress

from willow_cart.errors import BadAddress
from willow_cart.model import Offer
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.safe_xml import local_name
from willow_cart.sources.listing import Kind, Listing
from willow_cart.sources.sitemaps import read_moment
from willow_cart.sources.web_pages.elements import Element, words_of
from willow_cart.sources.web_pages.references import Resolver
from willow_cart.units import read_count

ROOTS = frozenset({"rss", "feed", "rdf"})
"""What the outermost element of a feed is called."""

_XML_BASE = "{http://www.w3.org/XML/1998/namespace}base"


def read_feed(root: Element, address: str, source: str) -> Listing:
    """Read a feed: an offer for each enclosure, with the date and title of its entry."""
    listing = Listing(address, Kind.FEED)
    heading = next((words_of(e) for e in root.iter() if local_name(e).lower() == "title"), "")
    for entry in root.iter():
        if local_name(entry).lower() in ("item", "entry"):
            _read_entry(entry, listing, source, heading)
    for link in root.iter():
        # A feed in several pages names the next one (RFC 5005, 3).
        inside = next(link.iterancestors("{*}entry", "{*}item"), None) is not None
        if local_name(link).lower() == "link" and link.get("rel") == "next" and not inside:
            with suppress(BadAddress):
                base = _base_of(link, address)
                listing.following = Resolver(base).resolve(link.get("href") or "")
            break
    return listing


def _read_entry(entry: Element, listing: Listing, source: str, heading: str) -> None:
    texts = {local_name(child).lower(): words_of(child) for child in reversed(entry)}
    modified = parse_date(texts.get("pubdate")) or read_moment(
        texts.get("updated") or texts.get("published") or texts.get("date")
    )
    for element in entry.iter():
        name = local_name(element).lower()
        if name == "enclosure":  # RSS 2.0, "enclosure"
            where = element.get("url") or element.get("resource")
        elif name == "link" and element.get("rel") == "enclosure":  # RFC 4287, 4.2.7.2
            where = element.get("href")
        else:
            continue
        try:
            address = Resolver(_base_of(element, listing.address)).resolve(where or "")
        except BadAddress as error:
            listing.odd.append(f"{error.thing} ({error.reason})")
            continue
        if address is None:
            continue
        length = element.get("length") or ""
        # Feeds that do not know a length have to say one nevertheless, mostly 0.
        size = read_count(length) or None
        listing.offers.append(
            Offer(
                address,
                source,
                size=size,
                size_is_hint=True,
                modified=modified,
                text=texts.get("title", ""),
                title=element.get("title") or "",
                heading=heading,
            )
        )


def _base_of(element: Element, address: str) -> str:
    """Return the base address for references in an element (XML Base)."""
    bases = [each.get(_XML_BASE) for each in (element, *element.iterancestors())]
    for base in reversed([base for base in bases if base]):
        address = Resolver(address).resolve(base) or address
    return address
