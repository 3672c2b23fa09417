"""`survey`: list what is offered and chosen."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from willow_cart.choosing import Choice
from willow_cart.commands.connecting import make_access
from willow_cart.commands.discovering import OfferFinder
from willow_cart.commands.request import LookingRequest
from willow_cart.exits import Exit
from willow_cart.model import Offer
from willow_cart.observer import Observer
from willow_cart.options.option import flag, option
from willow_cart.options.reaching import PatienceOptions
from willow_cart.options.readers import positive
from willow_cart.options.shared import CSV, JSON, LANES
from willow_cart.sources.discovery import Discovery
from willow_cart.structs import Value


class SurveyRequest(LookingRequest):
    """A request for a survey."""

    command = "survey"

    why: bool = flag("also show what was excluded, and by which rule")
    tree: bool = flag("show a tree of folders", one_of="form")
    folders: bool = flag("show folders with their counts and sizes, instead of files")
    levels: int | None = option(
        None, positive, "with --folders: show this many levels (all)", metavar="N"
    )
    json: bool = JSON
    csv: bool = CSV
    lanes: int = LANES
    pace: PatienceOptions = PatienceOptions()


class Surveyed(Value):
    """The counts of a survey, complete once every offer was read.

    Attributes:
        found: what was seen, and what could not be taken.
        choice: how many offers there were, and how many are chosen.
        unanswered: of how many chosen offers no server would tell the size.
    """

    found: Discovery
    choice: Choice
    unanswered: int

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.found.troubles or self.unanswered else Exit.GOOD


def survey(
    request: SurveyRequest,
    observer: Observer,
    show: Callable[[OfferFinder], None],
    besides: Iterable[Offer] = (),
) -> Surveyed:
    """List the sources and choose.

    Args:
        show: takes the offers as they go by; a million are not kept.
        besides: offers that are known already, chosen from as well.

    Raises:
        NothingChosen: nothing is left.
        WillowCartError: none of the sources can be read.
    """
    with make_access([request], request.lanes, observer) as access:
        finder = OfferFinder(request, access, request.lanes, observer, besides=besides)
        show(finder)
    if not finder.has_only_folders:  # which are told, and what a survey is for
        finder.require_some()
    return Surveyed(finder.found, finder.choice, finder.unanswered)
