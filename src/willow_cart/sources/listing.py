"""The types of listings, what they hold, and how sources are looked at."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator
from enum import StrEnum
from itertools import islice, takewhile
from urllib.parse import unquote

from willow_cart.addresses import expand_ranges, name_of, normalise
from willow_cart.checks.soft_failures import INSPECTED_BYTES, PAGE_TYPES, looks_like_page
from willow_cart.defaults import QUESTIONS
from willow_cart.errors import BadAddress, BadOption, NothingChosen, UnreadableSource
from willow_cart.kinds import extension_of, kind_of
from willow_cart.model import Issue, Metadata, Offer
from willow_cart.options.groups import LookingOptions
from willow_cart.options.readers import words_in
from willow_cart.protocols.base import MAX_DOCUMENT_BYTES
from willow_cart.structs import Record, Value, field, replace
from willow_cart.units import count_of

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
        unsure: the addresses of offers that may be folders: the listing does not show it.
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


MAX_DEPTH = 100
"""How many levels are gone down at most; deeper levels are a fault of the server."""


class Why(StrEnum):
    """The reason why something was not entered."""

    DEPTH = "deeper than --depth"
    ROBOTS = "disallowed by robots.txt"
    LOOP = "leads back to an earlier folder"
    DEEP = f"more than {MAX_DEPTH} levels down"
    PAGES = "a further page"
    MANY = "too many folders"


class NotEntered(Value):
    """A folder or page that was found and not entered.

    Attributes:
        address: where it is, without secrets.
        path: below the source, decoded; of a further page its address.
        why: the reason.
        source: the source that it is of, as typed by the user.
    """

    address: str
    path: str
    why: Why
    source: str


def not_entered(found: Iterable[NotEntered]) -> Iterator[str]:
    """Yield how many folders and pages were not entered, with the option that enters them."""
    reasons = Counter(each.why for each in found)
    pages = reasons.pop(Why.PAGES, 0)
    if folders := reasons.total():
        hint = " (--depth all)" if reasons[Why.DEPTH] else ""
        yield f"{count_of(folders, 'folder')} not entered{hint}"
    if pages:
        yield f"{count_of(pages, 'further page')} not followed (--pages all)"


class PagePart(StrEnum):
    """The kinds of references on a page."""

    LINKS = "links"
    """What a user can follow: `a`, `area`, `iframe`, `frame`, `link` to other documents."""
    IMAGES = "images"
    """`img`, `picture`, posters and icons."""
    MEDIA = "media"
    """`video`, `audio`, `track`, `embed`, `object`."""
    STYLES = "styles"
    SCRIPTS = "scripts"


class Looking(LookingOptions):
    """The looking options, with what is known of what is wanted.

    Attributes:
        lanes: how many folders are read at a time.
        largest_listing: bytes of a page or a folder index that are read.
        beginning: the common prefix of wanted paths; some servers list only these.
        after: as above what the paths sort after.

    Raises:
        BadOption: a selector or a part cannot be read.
    """

    lanes: int = QUESTIONS
    largest_listing: int = MAX_DOCUMENT_BYTES
    beginning: str = ""
    after: str = ""

    def __post_init__(self) -> None:
        for part in self.page_parts:
            if part not in list(PagePart):
                raise BadOption(
                    f"--parts {part}", "not a known part", f"there are {', '.join(PagePart)}"
                )
        for option, selector in (("--within", self.within), ("--next", self.next_)):
            if selector:
                from willow_cart.sources.web_pages.selectors import read_selector  # slow to import

                read_selector(option, selector)

    @property
    def kind(self) -> Kind | None:
        """What the sources are, if they cannot be detected; None asks them."""
        return None if self.as_ is None else Kind(self.as_)

    @property
    def page_parts(self) -> tuple[str, ...]:
        """The kinds of references on pages that count."""
        return words_in([self.parts])


class Discovery(Record):
    """The offers of sources, and problems with them.

    Attributes:
        offers: in the order of the sources and within each as it offers them.
        troubles: lines and sources that could not be read.
        notes: further messages.
        not_entered: folders and pages that were seen and not entered.
        sources: those that could be read at all, as offers name them.
        ended_by: the rule that ended the reading early, as typed; empty for none.
        empty: why sources offered nothing.
        unlisted: how many references of other parts the pages have, such as images.
        unproved: sources of which a listing may have been cut off.
        clocks: by how many seconds the clocks of servers are ahead of this machine's.
    """

    offers: list[Offer] = field(default_factory=list)
    troubles: list[Issue] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    not_entered: list[NotEntered] = field(default_factory=list)
    sources: list[str] = field(default_factory=list)
    ended_by: str = ""
    empty: list[NothingChosen] = field(default_factory=list)
    unlisted: Counter[str] = field(default_factory=Counter)
    unproved: set[str] = field(default_factory=set)
    clocks: list[float] = field(default_factory=list)

    def covers(self, offer: Offer) -> bool:
        """Whether the listing would have included an offer if it existed.

        Unknown where anything could not be read.
        """
        if self.troubles or self.ended_by or offer.source in self.unproved:
            return False
        return not any(
            each.source == offer.source
            and (each.why is Why.PAGES or offer.address.startswith(each.address))
            for each in self.not_entered
        )
