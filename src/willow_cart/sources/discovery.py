"""Options and results of listing sources, as values."""

from __future__ import annotations

from collections import Counter
from enum import StrEnum

from willow_cart.defaults import QUESTIONS
from willow_cart.errors import BadOption, NothingChosen
from willow_cart.model import Issue, Offer
from willow_cart.protocols.read_all import MAX_DOCUMENT_BYTES
from willow_cart.sources.listing import Kind
from willow_cart.structs import Record, Value, field

MAX_DEPTH = 100
"""How many levels are gone down at most; what is deeper is a fault of the place."""


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


class PageRules(Value):
    """The rules for references on a page.

    Attributes:
        parts: the kinds of references.
        within: a CSS selector; only what stands in the elements that it names counts.
        following: a CSS selector for the link to the next page; empty for `rel=next`.

    Raises:
        BadOption: a selector or a part cannot be read.
    """

    parts: tuple[str, ...] = (PagePart.LINKS.value,)
    within: str = ""
    following: str = ""

    def __post_init__(self) -> None:
        for part in self.parts:
            if part not in list(PagePart):
                raise BadOption(
                    f"--parts {part}", "not a known part", f"there are {', '.join(PagePart)}"
                )
        for option, selector in (("--within", self.within), ("--next", self.following)):
            if selector:
                from willow_cart.sources.web_pages.selectors import read_selector  # slow to import

                read_selector(option, selector)


class DiscoveryOptions(Value):
    """How sources are listed.

    Attributes:
        kind: what the sources are, where they cannot be told; None asks them.
        base: the address that a saved page is from; empty where it says so itself.
        depth: how many levels of folders; 1 is the folder itself, None is all.
        pages: how many pages of a series.
        rules: what counts on pages.
        ignore_robots: whether to go where a site asks programs not to; for one's own sites.
        lanes: how many folders are read at a time.
        most_listed: files after which a source is read no further.
        largest_listing: bytes of a page or a folder index that are read.
        beginning: what the paths begin with that are wanted; places that can list no others.
        after: likewise what the paths sort behind.
        keep_folders: whether paths begin with the folders of the addresses that were typed.
    """

    kind: Kind | None = None
    base: str = ""
    depth: int | None = 1
    pages: int = 1
    rules: PageRules = field(default_factory=PageRules)
    ignore_robots: bool = False
    lanes: int = QUESTIONS
    most_listed: int = 10_000_000
    largest_listing: int = MAX_DOCUMENT_BYTES
    beginning: str = ""
    after: str = ""
    keep_folders: bool = False


class Discovery(Record):
    """The offers of sources, and problems with them.

    Attributes:
        offers: in the order of the sources and within each as it offers them.
        troubles: lines and places that could not be read.
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
