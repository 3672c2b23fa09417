"""`survey`: list what is offered and chosen."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from willow_cart.cart.cart import Cart
from willow_cart.choosing import Choice
from willow_cart.commands.connecting import make_access
from willow_cart.commands.finding import OfferFinder
from willow_cart.commands.request import LookingRequest
from willow_cart.commands.result import CommandResult
from willow_cart.errors import Exit
from willow_cart.kinds import extension_of
from willow_cart.model import Offer, Sizes
from willow_cart.observer import Observer
from willow_cart.options.groups import PaceOptions, PatienceOptions
from willow_cart.options.option import CSV, JSON, LANES, flag, option
from willow_cart.options.readers import positive
from willow_cart.sources.listing import Discovery, NotEntered, not_entered
from willow_cart.structs import asdict
from willow_cart.units import format_size

if TYPE_CHECKING:
    import pandas as pd


class SurveyRequest(LookingRequest):
    """A request for a survey."""

    command = "survey"

    why: bool = flag("also show what was excluded, and by which rule")
    tree: bool = flag("show a tree of folders", one_of="form")
    folders: bool = flag("show folders with their counts and sizes, instead of files")
    brief: bool = flag("show the totals only, without the files", one_of="form")
    levels: int | None = option(
        None, positive, "with --folders: show this many levels (all)", metavar="N"
    )
    json: bool = JSON
    csv: bool = CSV
    lanes: int = LANES
    pace: PatienceOptions = PatienceOptions()


class Survey(CommandResult):
    """The offers of the sources after the choosing rules.

    Going through it gives the offers, so it can be hauled as it is.

    Attributes:
        found: the findings and the problems.
        choice: how many offers there were, and how many are chosen.
        unanswered: of how many chosen offers no server reported the size.
        offers: the chosen ones, numbered as on their pages; empty where they were shown one by one.
    """

    found: Discovery
    choice: Choice
    unanswered: int
    offers: tuple[Offer, ...] = ()

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.GOOD if self.complete else Exit.INCOMPLETE

    @property
    def complete(self) -> bool:
        """Whether every source could be read to its end, and every size requested."""
        return not (self.found.troubles or self.unanswered)

    @property
    def offered(self) -> int:
        """The number of offers there were to choose from."""
        return self.choice.offered

    @property
    def not_entered(self) -> tuple[NotEntered, ...]:
        """Folders and pages that were seen and not entered."""
        return tuple(self.found.not_entered)

    def __iter__(self) -> Iterator[Offer]:
        return iter(self.offers)

    def __len__(self) -> int:
        return len(self.offers)

    @property
    def summary(self) -> str:
        """Return the number and size of the offers."""
        sizes = Sizes()
        for offer in self.offers:
            sizes.add(offer)
        return "; ".join([f"{sizes}, of {self.offered:,} offered", *not_entered(self.not_entered)])

    @property
    def counts(self) -> Mapping[str, int]:
        """The number of chosen files by extension."""
        return Counter(extension_of(offer.file_name) for offer in self.offers)

    def to_frame(self) -> pd.DataFrame:
        """Return the offers as a data frame with the columns of a cart; see `Cart.to_frame`."""
        return Cart.of(self.offers).to_frame()

    def shown(self) -> tuple[Sequence[str], Iterable[Sequence[object]], int]:
        """Return the columns and rows that people see."""
        rows = (
            (
                offer.number,
                offer.path,
                "" if offer.size is None else format_size(offer.size),
                f"{offer.modified:%Y-%m-%d %H:%M}" if offer.modified else "",
                offer.text,
            )
            for offer in self.offers
        )
        return ("number", "path", "size", "modified", "text"), rows, len(self.offers)


def survey(
    request: SurveyRequest,
    observer: Observer,
    show: Callable[[OfferFinder], None],
    besides: Iterable[Offer] = (),
) -> Survey:
    """List the sources and choose.

    Args:
        show: takes the offers as they go by; a million are not kept.
        besides: offers that are known already, chosen from as well.

    Raises:
        NothingChosen: nothing is left.
        WillowCartError: none of the sources can be read.
    """
    pace = PaceOptions(**asdict(request.pace))
    with make_access([request], request.lanes, observer, pace) as access:
        finder = OfferFinder(request, access, request.lanes, observer, besides=besides)
        show(finder)
    if not finder.has_only_folders:  # which are reported
        finder.require_some()
    return Survey(finder.found, finder.choice, finder.unanswered)
