"""Read the references on a web page, with their positions."""

from __future__ import annotations

import re
from collections.abc import Iterator

from willow_cart.errors import BadAddress
from willow_cart.kinds import extension_of, kind_of
from willow_cart.model import Offer
from willow_cart.sources.listing import Kind, Listing, Looking, PagePart, folder_below
from willow_cart.sources.tables import Tables
from willow_cart.sources.web_pages.elements import Element, words_of
from willow_cart.sources.web_pages.markup import Page
from willow_cart.sources.web_pages.references import sources_in_set
from willow_cart.sources.web_pages.selectors import read_selector
from willow_cart.structs import replace

# `link` relations that lead to no file (WHATWG HTML, "Link types").
_HINTS = frozenset({"dns-prefetch", "preconnect", "pingback"})
_PRELOADED = {"style": PagePart.STYLES, "font": PagePart.STYLES, "script": PagePart.SCRIPTS,
              "image": PagePart.IMAGES, "audio": PagePart.MEDIA, "video": PagePart.MEDIA,
              "track": PagePart.MEDIA}  # fmt: skip
_REFRESH = re.compile(r"\s*[\d.]+\s*[;,]?\s*(?:url\s*=\s*)?[\"']?([^\"']+)", re.IGNORECASE)
_HREF_IN_SVG = "{http://www.w3.org/1999/xlink}href"

# One attribute, one kind of reference.
_SIMPLE = {
    "a": (("href", PagePart.LINKS),),
    "area": (("href", PagePart.LINKS),),
    "iframe": (("src", PagePart.LINKS),),
    "frame": (("src", PagePart.LINKS),),
    "video": (("src", PagePart.MEDIA), ("poster", PagePart.IMAGES)),
    "audio": (("src", PagePart.MEDIA),),
    "track": (("src", PagePart.MEDIA),),
    "embed": (("src", PagePart.MEDIA),),
    "object": (("data", PagePart.MEDIA),),
    "script": (("src", PagePart.SCRIPTS),),
    "image": (
        ("href", PagePart.IMAGES),
        (_HREF_IN_SVG, PagePart.IMAGES),
        ("xlink:href", PagePart.IMAGES),
    ),
}
# What users see on a page, and may want though it is not linked.
_SHOWN_PARTS = (PagePart.IMAGES, PagePart.MEDIA)

_LEVELS = ("h1", "h2", "h3", "h4", "h5", "h6")
_HEADINGS = frozenset({*_LEVELS, "caption"})
_TAGS = (*_SIMPLE, "img", "source", "link", "meta", "input", *_HEADINGS, "tr")


def read_page(page: Page, looking: Looking, source: str) -> Listing:
    """List the references on a page in order, each address once, without the page itself."""
    listing = Listing(page.address, Kind.PAGE)
    if page.root is None:
        return listing
    tables = Tables()
    found: dict[str, Offer] = {}
    for address, element, headings in _references_on(page.root, page, looking, listing, tables):
        cell = tables.cell_of(element) if element.tag == "a" else None
        earlier = found.get(address)
        if earlier is None and address != page.address:
            found[address] = Offer(
                address=address,
                source=source,
                number=len(found) + 1,
                folder=folder_below(listing.folder, address),
                text=_text_of(element),
                title=" ".join((element.get("title") or "").split()),
                headings=headings,
                cell=cell,
            )
        elif earlier is not None and not earlier.text and (text := _text_of(element)):
            # A picture and words side by side lead to the same address: the words say more.
            found[address] = replace(earlier, text=text)
    listing.offers = list(found.values())
    for addresses in listing.unlisted.values():
        addresses.difference_update(found)
    listing.below = [each for each in found if _leads_down(each, listing.folder)]
    listing.following = _following(page, page.root, looking)
    return listing


class _Sections:
    """The headings of the sections around the current place of a page (HTML, 4.3.11).

    A page's only `h1` is its title, and heads no section if there are other headings.
    """

    def __init__(self, root: Element) -> None:
        levels = [element.tag for element in root.iter("h1", "h2", "h3", "h4", "h5", "h6")]
        self._title = "h1" if levels.count("h1") == 1 else ""
        self._open: list[tuple[int, str]] = []
        self.headings: tuple[str, ...] = ()

    def enter(self, tag: str, words: str) -> None:
        """Enter the section of a heading; an empty one changes nothing."""
        if not words:
            return
        # Captions, and headings among the rows of a table, are below all others.
        level = int(tag[1]) if tag in _LEVELS else len(_LEVELS) + (tag == "tr") + 1
        while self._open and self._open[-1][0] >= level:
            self._open.pop()
        self._open.append((level, words))
        shown = [words for level, words in self._open if level > 1 or not self._title]
        self.headings = tuple(shown) or (words,)


def _references_on(
    root: Element, page: Page, looking: Looking, listing: Listing, tables: Tables
) -> Iterator[tuple[str, Element, tuple[str, ...]]]:
    """Yield each matching reference with its element and the headings above it, in order."""
    sections = _Sections(root)
    counted, parts = _in_scope(root, looking.within), looking.page_parts
    for element in root.iter(*_TAGS):
        tag = element.tag
        if tag in _HEADINGS:
            sections.enter(tag, words_of(element))
            continue
        if tag == "tr":
            sections.enter(tag, tables.enter(element))
            continue
        if counted is not None and element not in counted:
            continue
        for part, reference in _references(element):
            address = _resolved(page, reference, listing if part in parts else None)
            if address is None:
                continue
            if part in parts:
                yield address, element, sections.headings
            elif part in _SHOWN_PARTS:
                listing.unlisted.setdefault(part, set()).add(address)


def _references(element: Element) -> Iterator[tuple[PagePart, str]]:
    """Yield the references of an element with their kinds."""
    tag = element.tag
    assert isinstance(tag, str)
    if tag in _SIMPLE:
        for attribute, part in _SIMPLE[tag]:
            if reference := element.get(attribute):
                yield part, reference
    elif tag in ("img", "source"):
        yield from _pictured(element)
    elif tag == "link":
        relations = set((element.get("rel") or "").lower().split())
        reference = element.get("href")
        if reference and relations and not relations & _HINTS:
            yield _part_of_link(element, relations), reference
    elif tag == "meta":
        refreshes = (element.get("http-equiv") or "").lower() == "refresh"
        if refreshes and (match := _REFRESH.match(element.get("content") or "")):
            yield PagePart.LINKS, match[1]
    elif (element.get("type") or "").lower() == "image" and (reference := element.get("src")):
        yield PagePart.IMAGES, reference


def _pictured(element: Element) -> Iterator[tuple[PagePart, str]]:
    """Yield the references of an `img` or `source` element.

    A `source` may belong to a sound or to a picture.
    """
    parent = element.getparent()
    pictured = element.tag == "img" or (parent is not None and parent.tag == "picture")
    part = PagePart.IMAGES if pictured else PagePart.MEDIA
    if reference := element.get("src"):
        yield part, reference
    for reference in sources_in_set(element.get("srcset") or ""):
        yield part, reference


def _part_of_link(element: Element, relations: set[str]) -> PagePart:
    if "stylesheet" in relations:
        return PagePart.STYLES
    if any("icon" in relation for relation in relations):
        return PagePart.IMAGES
    if "modulepreload" in relations:
        return PagePart.SCRIPTS
    if relations & {"preload", "prefetch"}:
        return _PRELOADED.get((element.get("as") or "").lower(), PagePart.LINKS)
    return PagePart.LINKS


def _resolved(page: Page, reference: str, listing: Listing | None) -> str | None:
    """Return the address of a reference; None for one that has none.

    Args:
        reference: as it is there.
        listing: records what is wrong with it; None where that does not matter.
    """
    try:
        return page.resolver.resolve(reference)
    except BadAddress as error:
        if listing is not None and not page.address:
            listing.relative += 1
        elif listing is not None:
            listing.odd.append(f"{error.thing} ({error.reason})")
    return None


def _text_of(element: Element) -> str:
    """Return the text of a link, or of its image if it has no text."""
    if element.tag == "a" and (words := words_of(element)):
        return words
    for each in element.iter("img", "area", "input"):
        if alternative := each.get("alt"):
            return " ".join(alternative.split())
    return ""


def _in_scope(root: Element, selector: str) -> set[Element] | None:
    """Return the elements inside those that a selector matches; None for the whole page."""
    if not selector:
        return None
    tops = read_selector("--within", selector)(root)
    return {element for top in tops for element in top.iter(*_TAGS)}


def _following(page: Page, root: Element, looking: Looking) -> str | None:
    """Return the address of the next page.

    It is what the selector names, or a link with the relation `next` (RFC 8288).
    """
    if looking.next_:
        named = read_selector("--next", looking.next_)(root)
        candidates = [link for top in named for link in top.iter("a", "link", "area")]
    else:
        candidates = [
            element
            for element in root.iter("a", "link", "area")
            if "next" in (element.get("rel") or "").lower().split()
        ]
    for element in candidates:
        try:
            if address := page.resolver.resolve(element.get("href") or ""):
                return address
        except BadAddress:
            continue
    return None


def _leads_down(address: str, folder: str) -> bool:
    """Whether an address below a folder may be a page or a folder."""
    if not address.startswith(folder) or len(address) == len(folder):
        return False
    name = address.partition("?")[0].rpartition("/")[2]
    return not extension_of(name) or kind_of(name) == "page"
