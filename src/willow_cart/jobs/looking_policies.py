"""What the options of looking and choosing come to."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TypeVar

from willow_cart.choosing import Choosing, Unknown, parse_when
from willow_cart.errors import BadOption
from willow_cart.jobs.looking_options import ChoosingOptions
from willow_cart.jobs.requests import LookingRequest
from willow_cart.sources import Kind, Looking, PageRules

Some = TypeVar("Some", str, tuple[str, ...])


def make_choosing(request: ChoosingOptions, now: datetime | None = None) -> Choosing:
    """The choosing that the options ask for.

    Raises:
        BadOption: a rule cannot be read.
    """
    now = now or datetime.now(UTC)
    return Choosing(
        numbers=_some("--numbers", request.numbers or "", request.numbers is not None),
        link_text=request.link_text,
        column=request.column,
        extensions=_some("--ext", words_in(request.ext), request.ext),
        kinds=_some("--kind", words_in(request.kind), request.kind),
        keep=request.keep,
        drop=request.drop,
        keep_re=request.keep_re,
        drop_re=request.drop_re,
        after_name=request.after_name,
        since=None if request.since is None else parse_when(request.since, now),
        until=None if request.until is None else parse_when(request.until, now, whole_day=True),
        at_least=request.at_least,
        at_most=request.at_most,
        undated=Unknown(request.undated),
        unsized=Unknown(request.unsized),
        prefer=_some("--prefer", words_in(request.prefer), request.prefer),
        nth=request.nth,
        first=request.first,
    )


def make_looking(
    request: LookingRequest, lanes: int, choosing: Choosing, *, everything: bool = False
) -> Looking:
    """How the options want sources looked at, and what need not be listed for the choosing.

    Args:
        request: the options.
        lanes: how many folders are read at a time.
        choosing: what is chosen.
        everything: whether also what is not chosen is to be listed.

    Raises:
        BadOption: a selector or a part cannot be read.
    """
    compares_paths = request.depth == 1 or "/" in choosing.after_name

    return Looking(
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
        after="" if everything or not compares_paths else choosing.after_name,
    )


def words_in(texts: Sequence[str]) -> tuple[str, ...]:
    """Words that were given one by one or with commas between them."""
    return tuple(word.strip() for text in texts for word in text.split(",") if word.strip())


def _some(option: str, read: Some, given: object = True) -> Some:
    """What an option gives; one that was given and says nothing would choose everything.

    Raises:
        BadOption: it is one.
    """
    if given and not read:
        raise BadOption(option, "is empty", "leave it out, or say what to keep")
    return read
