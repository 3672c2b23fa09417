"""List sources and choose, as the options of a request say."""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from itertools import chain
from pathlib import Path
from typing import TypeVar

from willow_cart.choosing import Choice, Choosing, Unknown, parse_when
from willow_cart.choosing.choosing import read_span
from willow_cart.errors import BadOption, NothingChosen
from willow_cart.events import AwaitsAnswers, Looked, MayBeExpanded
from willow_cart.identity import AddressId
from willow_cart.kinds import kind_of
from willow_cart.model import Issue, Offer
from willow_cart.observer import Observer
from willow_cart.offer_store import OfferStore
from willow_cart.options.looking import ChoosingOptions, LookingOptions
from willow_cart.protocols import Access
from willow_cart.protocols.many_questions import ManyQuestions
from willow_cart.requests.request import LookingRequest
from willow_cart.sources.asking import ask_sizes
from willow_cart.sources.discover import discover_each
from willow_cart.sources.discovery import Discovery, DiscoveryOptions, PageRules, Why
from willow_cart.sources.listing import Kind
from willow_cart.sources.source_guide import Asking
from willow_cart.structs import replace
from willow_cart.units import count_of

Some = TypeVar("Some", str, tuple[str, ...])


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
    """Lists sources and chooses, as the options of a command say.

    Args:
        lanes: how many folders are read and sizes requested at a time.
        everything: whether also what was not chosen is to be listed.
        besides: offers that are known already, chosen from as well.
        asking: how to use responses that are files; None discards them.
        offered_before: what `--since` may leave out: an offer that is not among it is new, whatever
            its date. None for all.

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
        self._choosing = replace(make_choosing(request), offered_before=offered_before)
        self._looking = make_looking(request, lanes, self._choosing, everything=everything)
        self._asker = SizeAsker(access, lanes, observer)
        self.asks: bool = request.ask_sizes
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
        for option, pattern in _patterns_that_are_files(self._request):
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
        request = self._request
        told = request.command == "survey" or _wants_shown(request)
        unlisted = self.found.unlisted if told else Counter()
        self._observer.note(Looked(self.found, self.choice, request.depth, request.pages, unlisted))

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
            NothingChosen: nothing was; the error says why.
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


def make_choosing(request: ChoosingOptions, now: datetime | None = None) -> Choosing:
    """Return the rules that the options describe.

    Raises:
        BadOption: a rule cannot be read.
    """
    now = now or datetime.now(UTC)
    return Choosing(
        numbers=_some("--numbers", request.numbers or "", request.numbers is not None),
        link_text=request.link_text,
        heading=request.heading,
        column=request.column,
        extensions=_some("--ext", words_in(request.ext), request.ext),
        kinds=_some("--kind", words_in(request.kind), request.kind),
        keep=request.keep,
        drop=request.drop,
        keep_re=request.keep_re,
        drop_re=request.drop_re,
        after_name=request.after_name,
        after_path=isinstance(request, LookingOptions) and request.depth != 1,
        since=None if request.since is None else parse_when(request.since, now),
        until=None if request.until is None else parse_when(request.until, now, whole_day=True),
        at_least=request.at_least,
        at_most=request.at_most,
        media_types=_some("--media-type", words_in(request.media_type), request.media_type),
        within_time=None
        if request.within_time is None
        else (request.within_time, *read_span(request.within_time, now)),
        within_box=request.within_box or "",
        undated=Unknown(request.undated),
        unsized=Unknown(request.unsized),
        prefer=_some("--prefer", words_in(request.prefer), request.prefer),
        nth=request.nth,
        first=request.first,
    )


def make_looking(
    request: LookingRequest, lanes: int, choosing: Choosing, *, everything: bool = False
) -> DiscoveryOptions:
    """Return the listing options, and what the rules allow to skip.

    Args:
        lanes: how many folders are read at a time.
        choosing: what is chosen.
        everything: whether also what was not chosen is to be listed.

    Raises:
        BadOption: a selector or a part cannot be read.
    """
    return DiscoveryOptions(
        kind=None if request.as_ is None else Kind(request.as_),
        base=request.base,
        depth=request.depth,
        pages=request.pages,
        rules=PageRules(words_in([request.parts]), request.within, request.next_),
        ignore_robots=request.ignore_robots,
        lanes=lanes,
        most_listed=request.most_listed,
        largest_listing=request.largest_listing,
        beginning="" if everything else choosing.beginning(deep=request.depth != 1),
        after="" if everything else choosing.after_name,
        keep_folders=request.keep_folders,
    )


def words_in(texts: Sequence[str]) -> tuple[str, ...]:
    """Split words that were given one by one or separated by commas."""
    return tuple(word.strip() for text in texts for word in text.split(",") if word.strip())


def _some(option: str, read: Some, given: object = True) -> Some:
    """Return the words of an option; refuse an empty one, which would choose everything.

    Raises:
        BadOption: it is one.
    """
    if given and not read:
        raise BadOption(option, "is empty", "leave it out, or add patterns to keep")
    return read
