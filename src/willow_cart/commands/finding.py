"""List sources and choose, according to the options of a request."""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Iterable, Iterator, Sequence
from itertools import chain
from pathlib import Path

from willow_cart.choosing import Choice, Choosing
from willow_cart.commands.request import LookingRequest
from willow_cart.errors import NothingChosen
from willow_cart.events import AwaitsAnswers, Looked, MayBeExpanded
from willow_cart.identity import AddressId
from willow_cart.kinds import kind_of
from willow_cart.model import Issue, Offer
from willow_cart.observer import Observer
from willow_cart.offer_store import OfferStore
from willow_cart.options.groups import ChoosingOptions
from willow_cart.options.readers import words_in
from willow_cart.protocols import Access
from willow_cart.protocols.kept_answers import ManyQuestions
from willow_cart.sources.asking import ask_sizes
from willow_cart.sources.discover import Asking, discover_each
from willow_cart.sources.listing import Discovery, Looking, Why
from willow_cart.structs import asdict, replace
from willow_cart.units import count_of


class SizeAsker:
    """Asks servers for the sizes and dates of offers, and reports those that remain unknown.

    Args:
        lanes: how many are requested at a time.

    Attributes:
        unanswered: how many offers have no known size.
    """

    def __init__(self, access: Access, lanes: int, observer: Observer) -> None:
        self._questions = ManyQuestions(access)
        self._lanes = lanes
        self._observer = observer
        self.unanswered = 0

    def __call__(self, offers: Sequence[Offer]) -> Sequence[Offer]:
        """Return the offers with the facts learnt."""
        learnt, troubles = ask_sizes(offers, self._questions, self._lanes)
        self._observer.note_each(troubles)
        self.unanswered += len(troubles)
        return learnt


class OfferFinder:
    """Lists sources and chooses, according to the options of a command.

    Args:
        lanes: how many folders are read and sizes requested at a time.
        everything: whether offers that were not chosen are listed, too.
        besides: offers that are known already, chosen from as well.
        asking: how to use responses that are files; None discards them.
        offered_before: what `--since` may leave out: an offer that is not among it is new, whatever
            its date. None for all.

    Attributes:
        asks: whether it asks servers for sizes.
        found: the problems, as far as they are known.
        choice: the counts so far.
    """

    def __init__(
        self,
        request: LookingRequest,
        access: Access,
        lanes: int,
        observer: Observer,
        *,
        everything: bool = False,
        besides: Iterable[Offer] = (),
        asking: Asking | None = None,
        offered_before: Container[AddressId] | None = None,
    ) -> None:
        def await_answers(answered: int, waiting: Sequence[str]) -> None:
            observer.note(AwaitsAnswers(answered, waiting))

        self._asking = replace(asking or Asking(), progress=await_answers)
        self._observer = observer
        self._request = request
        self._access = access
        self._besides = besides
        self._choosing = replace(
            request.choosing,
            after_path=request.looking.depth != 1,
            offered_before=offered_before,
        )
        self._looking = make_looking(request, lanes, self._choosing, everything=everything)
        self._asker = SizeAsker(access, lanes, observer)
        self.asks: bool = request.choosing.ask_sizes
        self.found: Discovery = Discovery()
        self.choice: Choice = self._choosing.begin()

    @property
    def unanswered(self) -> int:
        """The number of offers of unknown size."""
        return self._asker.unanswered

    def judged(self) -> Iterator[tuple[Offer, str]]:
        """Yield every offer with the rule that excluded it; report problems at the end.

        Raises:
            WillowCartError: none of the sources can be read.
        """
        for option, pattern in _patterns_that_are_files(self._request.choosing):
            self._observer.note(MayBeExpanded(option, pattern))
        offers = discover_each(
            self._request.sources,
            self.found,
            self._access,
            self._looking,
            self._observer.standard_input(),
            asking=self._asking,
        )
        learn = self._asker if self.asks else None
        yield from self._choosing.judge(chain(offers, self._besides), self.choice, learn)
        offers.close()
        self.found.ended_by = self.choice.ended_by
        if self.choice.offered:
            # Others did offer something: one that was to match and did not is a failure.
            for each in self.found.empty:
                if each.rule is not None:
                    self.found.troubles.append(Issue(each.thing, each.why))
        self._observer.note_each(self.found.troubles)
        request, looking = self._request, self._request.looking
        told = request.command == "survey" or _wants_shown(request.choosing)
        unlisted = self.found.unlisted if told else Counter()
        self._observer.note(Looked(self.found, self.choice, looking.depth, looking.pages, unlisted))

    @property
    def has_only_folders(self) -> bool:
        """Whether nothing was offered, as the sources hold folders that were not entered."""
        left = self.found.not_entered
        if any(each.rule is not None for each in self.found.empty):
            return False  # something was to match
        return not self.choice.offered and any(each.why is Why.DEPTH for each in left)

    def require_some(self) -> None:
        """Raise NothingChosen if nothing was chosen.

        Raises:
            NothingChosen: nothing was; the error gives the reason.
        """
        if self.has_only_folders:
            folders = count_of(len(self.found.not_entered), "folder")
            raise NothingChosen(
                "no files found",
                f"only {folders}, not entered",
                "use --depth 2 or --depth all",
                offered=0,
                rule=None,
            )
        if not self.choice.offered:
            raise _nothing_offered(self.found)
        self.choice.require_some()

    def chosen(self) -> OfferStore:
        """Return the chosen offers, each address once.

        Raises:
            WillowCartError: none of the sources can be read.
            NothingChosen: nothing is left.
        """
        chosen = OfferStore(offer for offer, dropped_by in self.judged() if not dropped_by)
        self.require_some()
        return chosen


# Sources named in one message about several.
_MAX_NAMED_SOURCES = 3


def _nothing_offered(found: Discovery) -> NothingChosen:
    """Return the error for sources that offered nothing."""
    if len(found.empty) == 1:
        return found.empty[0]
    if found.troubles and not found.empty:
        reason, advice = "nothing in the sources could be read", "see above"
    else:
        told = [f"{each.thing} ({each.reason})" for each in found.empty[:_MAX_NAMED_SOURCES]]
        reason, advice = f"nothing in {', '.join(told)}", "check the sources"
    return NothingChosen("no files found", reason, advice, offered=0, rule=None)


def _patterns_that_are_files(request: ChoosingOptions) -> Iterator[tuple[str, str]]:
    """Yield patterns that a shell has probably made of a wildcard: names of files here."""
    for option, patterns in (("--keep", request.keep), ("--drop", request.drop)):
        for pattern in patterns:
            if not set(pattern) & set("*?[") and Path(pattern).is_file():
                yield option, pattern


# Kinds of files that pages show without linking to them.
_SHOWN_KINDS = frozenset({"image", "sound", "video"})


def _wants_shown(request: ChoosingOptions) -> bool:
    """Whether a rule names files of a kind that pages show, such as pictures."""
    names = [f"x.{extension}" for extension in words_in(request.ext)]
    kinds = {*map(kind_of, [*names, *request.keep]), *words_in(request.kind)}
    return bool(kinds & _SHOWN_KINDS)


def make_looking(
    request: LookingRequest, lanes: int, choosing: Choosing, *, everything: bool = False
) -> Looking:
    """Return the listing options, and what the rules allow to skip.

    Args:
        lanes: how many folders are read at a time.
        choosing: the rules.
        everything: whether offers that were not chosen are listed, too.

    Raises:
        BadOption: a selector or a part cannot be read.
    """
    return Looking(
        **asdict(request.looking),
        lanes=lanes,
        largest_listing=request.connecting.largest_listing,
        beginning="" if everything else choosing.beginning(deep=request.looking.depth != 1),
        after="" if everything else choosing.after_name,
    )
