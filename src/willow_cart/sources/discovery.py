"""Options and results of listing sources, as values."""

from __future__ import annotations

from collections import Counter
from enum import StrEnum

from willow_cart.defaults import QUESTIONS
from willow_cart.errors import BadOption, NothingChosen
from willow_cart.model import Issue, Offer
from willow_cart.options.looking import LookingOptions
from willow_cart.options.readers import words_in
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


class Looking(LookingOptions):
    """The looking options, with what is known of what is wanted.

    Attributes:
        lanes: how many folders are read at a time.
        largest_listing: bytes of a page or a folder index that are read.
        beginning: what the paths begin with that are wanted; places that can list no others.
        after: likewise what the paths sort behind.

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
        """What the sources are, where they cannot be told; None asks them."""
        return None if self.as_ is None else Kind(self.as_)

    @property
    def page_parts(self) -> tuple[str, ...]:
        """The kinds of references on pages that count."""
        return words_in([self.parts])


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
