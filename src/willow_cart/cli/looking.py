"""Looking at sources, and telling of what was seen."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import chain
from typing import TYPE_CHECKING

from willow_cart.choosing import Choice
from willow_cart.cli.telling import tell, tell_each, tell_unknown, tell_waiting
from willow_cart.jobs.looking_policies import make_choosing, make_looking
from willow_cart.jobs.requests import LookingRequest
from willow_cart.shelf import Shelf
from willow_cart.sources import Look, Why, ask_sizes, look_through
from willow_cart.sources.look import Asking
from willow_cart.units import count_of

if TYPE_CHECKING:
    from willow_cart.access import Access
    from willow_cart.model import Offer

# So many of what was not entered are named.
_MOST_NAMED = 8


def _tell_look(found: Look, choice: Choice, *, depth: int | None, pages: int) -> None:
    """Say what was seen and not entered, and of what a rule could not tell.

    Args:
        found: what came of looking.
        choice: what came of choosing.
        depth: the levels that were asked for.
        pages: the pages that were asked for.
    """
    tell_each(found.notes)
    if found.ended_by:
        tell(f"the listing was read up to {found.ended_by}; there may be more")
    ways = {
        Why.DEPTH: f"not entered (--depth {(depth or 0) + 1} or --depth all goes on)",
        Why.ROBOTS: "not entered, as robots.txt asks (--ignore-robots for your own servers)",
        Why.LOOP: "not entered, a way back to where it began",
        Why.DEEP: f"not entered, {Why.DEEP}",
        Why.MANY: "not entered, after so many others (--most-listed allows more)",
        Why.PAGES: f"not followed (--pages {pages + 1} or more goes on)",
    }
    for why, way in ways.items():
        paths = [each.path for each in found.not_entered if each.why is why]
        if paths:
            noun = "further page" if why is Why.PAGES else "folder"
            named = ", ".join(paths[:_MOST_NAMED])
            more = f", ... and {len(paths) - _MOST_NAMED:,} more" if paths[_MOST_NAMED:] else ""
            tell(f"{count_of(len(paths), noun)} {way}: {named}{more}")
    tell_unknown(choice)


class SizeAsker:
    """Asks servers for the sizes and dates of offers, and tells of those that nobody knows.

    Args:
        access: how places are talked to.
        lanes: how many are asked for at a time.

    Attributes:
        unanswered: how many offers nobody would tell the size of.
    """

    def __init__(self, access: Access, lanes: int) -> None:
        self._access = access
        self._lanes = lanes
        self.unanswered = 0

    def __call__(self, offers: Sequence[Offer]) -> Sequence[Offer]:
        """The offers with what was learnt."""
        learnt, troubles = ask_sizes(offers, self._access, self._lanes)
        tell_each(troubles)
        self.unanswered += len(troubles)
        return learnt


class Looker:
    """Looks at sources and chooses, as the options of a command say.

    Args:
        request: the options.
        access: how places are talked to.
        lanes: how many folders are read and sizes asked for at a time.
        everything: whether also what is not chosen is to be listed.
        besides: offers that are known already, chosen from as well.
        asking: what becomes of answers that are files; None throws them away.

    Attributes:
        asks: whether it asks servers for sizes.
        found: what could not be taken, as far as it is known.
        choice: what has been counted so far.
    """

    def __init__(
        self,
        request: LookingRequest,
        access: Access,
        lanes: int,
        *,
        everything: bool = False,
        besides: Iterable[Offer] = (),
        asking: Asking | None = None,
    ) -> None:

        self._asking = replace(asking or Asking(), progress=tell_waiting)
        self._request = request
        self._access = access
        self._besides = besides
        self._choosing = make_choosing(request)
        self._looking = make_looking(request, lanes, self._choosing, everything=everything)
        self._asker = SizeAsker(access, lanes)
        self.asks: bool = request.ask_sizes
        self.found: Look = Look()
        self.choice: Choice = self._choosing.begin()

    @property
    def unanswered(self) -> int:
        """How many offers nobody would tell the size of."""
        return self._asker.unanswered

    def judged(self) -> Iterator[tuple[Offer, str]]:
        """Every offer with the rule that dropped it; says at the end what could not be taken.

        Raises:
            WillowCartError: none of the sources can be read.
        """
        # A program that is started from a timetable may have no standard input at all.
        standard_input = sys.stdin.buffer if sys.stdin is not None else None
        offers = look_through(
            self._request.sources,
            self.found,
            self._access,
            self._looking,
            standard_input,
            asking=self._asking,
        )
        learn = self._asker if self.asks else None
        yield from self._choosing.judge(chain(offers, self._besides), self.choice, learn)
        offers.close()
        self.found.ended_by = self.choice.ended_by
        tell_each(self.found.troubles)
        _tell_look(self.found, self.choice, depth=self._request.depth, pages=self._request.pages)

    def chosen(self) -> Shelf:
        """What is chosen, each address once.

        Raises:
            WillowCartError: none of the sources can be read.
            NothingChosen: nothing is left.
        """
        chosen = Shelf(offer for offer, dropped_by in self.judged() if not dropped_by)
        self.choice.require_some()
        return chosen
