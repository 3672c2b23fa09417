"""The types of listings, and their content."""

from __future__ import annotations

import re
from enum import StrEnum
from itertools import islice, takewhile
from urllib.parse import unquote

from willow_cart.addresses import expand_ranges, name_of, normalise
from willow_cart.checks.soft_failures import INSPECTED_BYTES, PAGE_TYPES, looks_like_page
from willow_cart.errors import BadAddress, UnreadableSource
from willow_cart.kinds import extension_of, kind_of
from willow_cart.model import Metadata, Offer
from willow_cart.structs import Record, field, replace

# How the documents begin that are no pages.
_BEGINNING = re.compile(rb"(?:\xef\xbb\xbf)?\s*<(?:\?xml|rss|feed|rdf|urlset|sitemapindex|list)\b")

# Extensions that files have as well as feeds and sitemaps.
_XML = frozenset({"xml", "rss", "atom", "rdf"})

CATALOGUE_NAMES = frozenset({"datapackage.json", "ro-crate-metadata.json", "bagit.txt"})
"""What catalogues are called by their standards."""

CATALOGUE_TYPES = frozenset(
    {
        "application/geo+json",
        "application/ld+json",
        "application/linkset",
        "application/linkset+json",
    }
)
"""What a catalogue is sent as; other JSON is data."""


class Kind(StrEnum):
    """What an address may refer to."""

    FILE = "file"
    PAGE = "page"
    FOLDER = "folder"
    BUCKET = "bucket"
    FEED = "feed"
    SITEMAP = "sitemap"
    LIST = "list"
    ARCHIVE = "archive"
    WEBDAV = "webdav"
    CATALOGUE = "catalogue"


class Listing(Record):
    """The content of one listing.

    Attributes:
        address: its own, after redirects; empty if unknown.
        offers: the files, in order.
        below: what can be entered from here: a folder's folders, a page's links further down.
        unsure: the addresses of offers that may be folders: the listing does not say.
        parts: listings that belong to this one, such as the sitemaps of an index.
        following: the next of a series, where it names one.
        following_body: what is posted to ask for it, in JSON; empty for nothing.
        relative: how many references cannot be resolved since its address is unknown.
        problems: what of it could not be read, a clause for each.
        unlisted: the addresses of references of other parts than those wanted, by part.
        odd: references that are no addresses, or with unsupported schemes, with the reasons.
        proves_absence: whether all of it is known to be here, so that what it does not list is
            not there.
        clock: by how many seconds the server's clock is ahead of this machine's; None if unknown.
    """

    address: str
    kind: Kind
    offers: list[Offer] = field(default_factory=list)
    below: list[str] = field(default_factory=list)
    unsure: set[str] = field(default_factory=set)
    parts: list[str] = field(default_factory=list)
    following: str | None = None
    following_body: str = ""
    relative: int = 0
    unlisted: dict[str, set[str]] = field(default_factory=dict)
    odd: list[str] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)
    proves_absence: bool = True
    clock: float | None = None

    @property
    def folder(self) -> str:
        """Return the address of the folder that it is, or is in."""
        return folder_of(self.address)

    @property
    def mark(self) -> frozenset[tuple[object, ...]]:
        """Return a fingerprint without its address, to detect a folder inside itself."""
        files = ((o.file_name, o.size, o.about, o.modified) for o in self.offers)
        names = ((address[len(self.folder) :],) for address in self.below)
        return frozenset((*files, *names))


def folder_of(address: str) -> str:
    """Return the address of the folder of an address; a folder is its own."""
    return address.partition("?")[0].rpartition("/")[0] + "/" if address else ""


def is_folder_address(address: str) -> bool:
    """Whether an address is recognisable as a folder."""
    return folder_of(address) == address


def may_be_listing(address: str) -> bool:
    """Whether an address must be probed, because its name is not that of a file."""
    name = name_of(address)
    if extension_of(name) in _XML or is_packed_sitemap(address) or name in CATALOGUE_NAMES:
        return True
    return kind_of(name) in ("page", "other")


def looks_like_xml(beginning: bytes) -> bool:
    """Whether bytes start like a feed or a sitemap."""
    return _BEGINNING.match(beginning) is not None


def is_packed_sitemap(address: str) -> bool:
    """Whether the name of an address is that of a compressed sitemap."""
    name = name_of(address).lower() if address else ""
    return "sitemap" in name and name.endswith(".xml.gz")


def fixed_folder(source: str) -> str:
    """Return the folder in which the ranges of an address begin; empty if it has none.

    Args:
        source: as typed by the user.
    """
    addresses = list(islice(expand_ranges(source), 2))
    if len(addresses) < 2:
        return ""
    fixed = source[: source.index("{")].rpartition("/")[0]
    try:
        return normalise(f"{fixed}/")
    except BadAddress:
        return ""  # they begin in the host


def folders_from(base: str, address: str) -> str:
    """Return the folders of an address from a folder on; those with wildcards are left out."""
    folders = (folder_below(base, address) or "").split("/")
    return "/".join(takewhile(lambda name: not set(name) & set("*?["), folders))


def placed_below(above: str, offer: Offer, address: str) -> Offer:
    """Return an offer at an address with its folders.

    Args:
        above: the folders that come before those below the address.
        offer: what was found there.
        address: where it was looked.
    """
    if offer.folder is None and offer.address == address:
        return replace(offer, folder=above)
    if not above or offer.folder is None:
        return offer
    return replace(offer, folder=f"{above}/{offer.folder}" if offer.folder else above)


def folder_below(folder: str, address: str) -> str | None:
    """Return the folders between a folder and an address below it.

    None for an address elsewhere.
    """
    if not folder or not address.startswith(folder):
        return None
    between = address[len(folder) :].partition("?")[0]
    if "/" not in between:
        return ""
    parts = [unquote(part).replace("/", "_") for part in between.split("/")[:-1]]
    return "/".join(part for part in parts if part)


def require_folder_address(address: str) -> str:
    """Return the address of a folder, with a slash at the end.

    Raises:
        UnreadableSource: it has a query, so that nothing can be below it.
    """
    if "?" in address:
        raise UnreadableSource(address, "cannot be a folder", "leave out its query")
    return address if address.endswith("/") else f"{address}/"


def is_catalogue(address: str, media_type: str) -> bool:
    """Whether a document calls itself a catalogue, by its name or its type."""
    return name_of(address) in CATALOGUE_NAMES or media_type in CATALOGUE_TYPES


def kind_of_document(content: bytes, facts: Metadata) -> Kind | None:
    """Return the type of a document, from its headers and its first bytes."""
    if facts.media_type in PAGE_TYPES:
        return Kind.PAGE
    if is_catalogue(facts.address, facts.media_type):
        return Kind.CATALOGUE
    if facts.media_type == "application/json":
        return Kind.FOLDER
    beginning = content[:INSPECTED_BYTES]
    if looks_like_xml(beginning):
        return Kind.FEED
    if content.startswith(b"\x1f\x8b"):
        return Kind.SITEMAP if is_packed_sitemap(facts.address) else None
    return Kind.PAGE if looks_like_page(beginning) else None
