"""Read documents: find out their type, then list what they refer to; feeds are read here."""

from __future__ import annotations

from contextlib import suppress

from willow_cart.checks.soft_failures import INSPECTED_BYTES, PAGE_TYPES
from willow_cart.errors import BadAddress, UnreadableSource
from willow_cart.formats.bagit import DECLARATION, read_bag
from willow_cart.model import Metadata, Offer
from willow_cart.protocols import Access
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.redaction import without_secrets
from willow_cart.safe_xml import Element, local_name
from willow_cart.sources import sitemaps
from willow_cart.sources.catalogues.catalogue_reader import (
    read_catalogue,
    read_items,
    read_linkset_text,
)
from willow_cart.sources.folders import (
    is_folder_index,
    read_folder,
    read_json_folder,
    read_xml_folder,
)
from willow_cart.sources.listing import Kind, Listing, Looking, kind_of_document, looks_like_xml
from willow_cart.sources.sitemaps import read_moment
from willow_cart.sources.web_pages.elements import words_of
from willow_cart.sources.web_pages.markup import open_page, parse_xml
from willow_cart.sources.web_pages.pages import read_page
from willow_cart.sources.web_pages.references import Resolver
from willow_cart.units import read_count

FEED_ROOTS = frozenset({"rss", "feed", "rdf"})
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
                headings=(heading,) if heading else (),
            )
        )


def _base_of(element: Element, address: str) -> str:
    """Return the base address for references in an element (XML Base)."""
    bases = [each.get(_XML_BASE) for each in (element, *element.iterancestors())]
    for base in reversed([base for base in bases if base]):
        address = Resolver(address).resolve(base) or address
    return address


# Where the closing tag of a page is looked for; servers and their modules add notes after it.
_END_BYTES = 4096


class DocumentReader:
    """Reads documents; thread-safe.

    Args:
        access: client for all protocols, for catalogues that are in several documents.
        looking: what counts on pages.
    """

    def __init__(self, access: Access, looking: Looking) -> None:
        self._access = access
        self._looking = looking

    def understand(
        self, content: bytes, facts: Metadata, kind: Kind | None, source: str
    ) -> Listing | None:
        """List the references in a document; None if it is a file.

        Raises:
            UnreadableSource: it is not of the given kind, or broken.
        """
        shown = without_secrets(facts.address) or source
        if facts.items and kind in (None, Kind.CATALOGUE):
            return read_items(facts.items, facts.address, source)
        if facts.linkset and kind is None and facts.media_type in PAGE_TYPES:
            return _lead_to_linkset(facts)
        found = kind or kind_of_document(content, facts)
        if found is Kind.CATALOGUE:
            return self._read_catalogue(content, facts, kind, source)
        if found in (Kind.PAGE, Kind.FOLDER):
            is_json = facts.media_type == "application/json"
            if kind is not Kind.PAGE and (is_json or content.lstrip().startswith(b"[")):
                return read_json_folder(content, facts.address, source)
            if kind is Kind.FOLDER and looks_like_xml(content[:INSPECTED_BYTES]):
                return self._read_xml_folder(content, facts, shown, source)
            page = open_page(content, facts.address, facts.charset)
            if kind is Kind.FOLDER or (kind is None and is_folder_index(page)):
                listing = read_folder(page, source)
                listing.proves_absence = _is_closed(content)
                return listing
            listing = read_page(page, self._looking, source)
            listing.proves_absence = _is_closed(content)
        elif found in (Kind.FEED, Kind.SITEMAP):
            read = self._read_xml(parse_xml(content, shown), facts, kind, shown, source)
            if read is None or read.kind is Kind.FOLDER:
                return read
            listing = read
        else:
            return None
        listing.following = listing.following or _named_in_header(facts, facts.following)
        return listing

    def _read_xml(
        self, root: Element, facts: Metadata, kind: Kind | None, shown: str, source: str
    ) -> Listing | None:
        """Read a feed, a sitemap or a folder index in XML; None for another document.

        Raises:
            UnreadableSource: it is not of the given kind.
        """
        name = local_name(root).lower()
        if name in FEED_ROOTS:
            return read_feed(root, facts.address, source)
        if name in sitemaps.ROOTS:
            return sitemaps.read_sitemap(root, facts.address, source)
        if kind is None:
            return read_xml_folder(root, facts.address, source)
        raise UnreadableSource(
            shown, f"cannot be read as {kind}", "use another --as, or leave it out"
        )

    def _read_catalogue(
        self, content: bytes, facts: Metadata, kind: Kind | None, source: str
    ) -> Listing | None:
        """Read a catalogue; a document that only may have been one is a file.

        Raises:
            UnreadableSource: it was declared as one, and is not.
        """
        if facts.media_type == "application/linkset":
            return read_linkset_text(content, facts.address, source)
        if content.startswith(DECLARATION):
            bag = read_bag(self._access, facts.address, source)
            return Listing(
                facts.address, Kind.CATALOGUE, bag.offers, problems=bag.problems, odd=bag.odd
            )
        listing = read_catalogue(content, facts.address, source, facts.charset)
        if listing is None and kind is not None:
            raise UnreadableSource(
                without_secrets(facts.address) or source,
                "describes no files by a standard that is known",
                "use another --as, or leave it out",
            )
        if listing is not None:
            listing.following = listing.following or _named_in_header(facts, facts.following)
        return listing

    def _read_xml_folder(self, content: bytes, facts: Metadata, shown: str, source: str) -> Listing:
        listing = read_xml_folder(parse_xml(content, shown), facts.address, source)
        if listing is None:
            raise UnreadableSource(shown, "not a folder index", "use another --as, or leave it out")
        return listing


def _lead_to_linkset(facts: Metadata) -> Listing:
    """Return a listing that consists of the linkset which a page names."""
    address = _named_in_header(facts, facts.linkset)
    return Listing(facts.address, Kind.CATALOGUE, parts=[] if address is None else [address])


def _is_closed(content: bytes) -> bool:
    """Whether a page ends with the tags that it began with; otherwise it may have been cut off."""
    page = content.lower()
    if b"<html" in page:
        return b"</html" in page[-_END_BYTES:]
    # Some servers send only what is inside a page.
    blocks = (b"body", b"table", b"pre", b"ul")
    is_balanced = all(page.count(b"<" + tag) == page.count(b"</" + tag) for tag in blocks)
    return is_balanced and page.rstrip().endswith(b">")


def _named_in_header(facts: Metadata, reference: str | None) -> str | None:
    """Return the address that a field of an answer refers to; None without one."""
    try:
        return Resolver(facts.address).resolve(reference or "")
    except BadAddress:
        return None
