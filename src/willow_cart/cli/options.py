"""Options that several commands share."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from willow_cart.choosing import Choice, Choosing, Unknown, parse_when
from willow_cart.errors import BadOption
from willow_cart.units import parse_seconds, parse_size

if TYPE_CHECKING:
    from willow_cart.access import Access
    from willow_cart.model import Offer
    from willow_cart.shelf import Shelf
    from willow_cart.sources import Look, Looking
    from willow_cart.sources.look import Asking

Some = TypeVar("Some", str, tuple[str, ...])
Number = TypeVar("Number", int, float)


def add_sources(command: argparse.ArgumentParser) -> None:
    """Add the sources, the first thing most commands are told, and how they are looked at."""
    from willow_cart.sources.listing import Kind
    from willow_cart.sources.looking import Part

    command.add_argument(
        "sources",
        nargs="+",
        metavar="SOURCE",
        help="an http:// or https:// address of a file, a page, a folder, a feed or a sitemap; a"
        " list of addresses, a CSV table with a url column, a saved page; or - for standard input;"
        " addresses may hold ranges: {2018..2031}, {01..12}, {a,b}",
    )
    group = command.add_argument_group("looking")
    group.add_argument(
        "--as",
        dest="kind",
        choices=[kind.value for kind in Kind],
        metavar="|".join(Kind),
        help="what the sources are, where that cannot be told by asking",
    )
    group.add_argument(
        "--depth",
        type=depth,
        default=1,
        metavar="N|all",
        help="how many levels of folders, or of pages that lead on below the page (%(default)s)",
    )
    group.add_argument(
        "--within", default="", metavar="SELECTOR", help="only the part of a page that a CSS"
        " selector names"
    )  # fmt: skip
    group.add_argument(
        "--parts",
        default=Part.LINKS.value,
        metavar="PART,...",
        help=f"which references on a page count: {', '.join(Part)} (%(default)s)",
    )
    group.add_argument(
        "--pages",
        type=positive,
        default=1,
        metavar="N",
        help="how many pages of a series are followed (%(default)s)",
    )
    group.add_argument(
        "--next",
        default="",
        metavar="SELECTOR",
        help="the link to the next page as a CSS selector, where it does not say rel=next",
    )
    group.add_argument(
        "--base", default="", metavar="ADDRESS", help="the address that a saved page is from"
    )
    group.add_argument(
        "--most-listed",
        type=positive,
        default=10_000_000,
        metavar="N",
        help="stop reading a source after so many files, or a hundredth as many folders"
        " (%(default)s)",
    )
    group.add_argument(
        "--ignore-robots",
        action="store_true",
        help="follow links also where robots.txt asks programs not to; for your own servers",
    )


def add_choosing(command: argparse.ArgumentParser) -> None:
    """Add the choosing options, the same in every command."""
    group = command.add_argument_group("choosing")
    several: dict[str, object] = {"action": "append", "default": []}

    def add(option: str, metavar: str, text: str, **more: object) -> None:
        group.add_argument(option, metavar=metavar, help=text, **more)  # type: ignore[arg-type]

    add("--numbers", "N,N-M,...", "keep these numbers of a survey or a cart: 3,7-12")
    add("--link-text", "PATTERN", "keep links whose words match a wildcard pattern", **several)
    add("--column", "N|TITLE", "keep links in a column of a table, by number or title", default="")
    add("--ext", "EXT,...", "keep these extensions, whatever their case; tar.gz counts as one",
        **several)  # fmt: skip
    add("--kind", "KIND,...", "keep families of extensions: table, archive, image, ...",
        dest="kinds", **several)  # fmt: skip
    add("--keep", "PATTERN", "keep names that match a wildcard pattern (* ? [abc]); with a / in it"
        " the path below the source is matched, and ** stands for any folders; several --keep add"
        " up", **several)  # fmt: skip
    add("--drop", "PATTERN", "drop what matches a wildcard pattern", **several)
    add("--keep-re", "REGEX", "keep paths in which a regular expression is found", **several)
    add("--drop-re", "REGEX", "drop paths in which a regular expression is found", **several)
    add("--after-name", "NAME", "keep names that sort behind this one", default="")
    add("--since", "WHEN", "keep what was modified then or later: 2031-05-01, 2031-05-01T06:00Z,"
        " or how long ago: 5d, 24h; without a zone it is UTC")  # fmt: skip
    add("--until", "WHEN", "keep what was modified then or earlier; a date means its whole day")
    add("--undated", "keep|drop", "what becomes of offers without a date, when dates are chosen by"
        " (%(default)s)", choices=list(Unknown), default=Unknown.KEEP)  # fmt: skip
    add("--at-least", "SIZE", "keep files of this size or larger: 10MB, 1.5GiB", type=read_size)
    add("--at-most", "SIZE", "keep files of this size or smaller", type=read_size)
    add("--unsized", "keep|drop", "what becomes of offers without a size, or with one that is"
        " rounded and close to the limit (%(default)s)",
        choices=list(Unknown), default=Unknown.KEEP)  # fmt: skip
    add("--prefer", "WORD,...", "of twins, such as one recording in two formats, keep the first of"
        " these: extensions, names of folders, or last words of names", **several)  # fmt: skip
    add("--nth", "K/N", "of every N that are left keep the K-th: 1/3", default="")
    add("--first", "N", "keep the first N of what is left", type=positive)
    group.add_argument(
        "--ask-sizes",
        action="store_true",
        help="ask the servers for sizes and dates that are not known, one request a file",
    )


def add_lanes(command: argparse.ArgumentParser) -> None:
    """Add how many lanes there are for looking, and how patient they are."""
    from willow_cart.cli.connecting import add_patience

    add_patience(command.add_argument_group("pace"))
    command.add_argument(
        "--lanes",
        type=few,
        default=4,
        metavar="N",
        help="how many folders are read and sizes asked for at a time (%(default)s)",
    )


def make_choosing(args: argparse.Namespace, now: datetime | None = None) -> Choosing:
    """The choosing that the options ask for.

    Raises:
        BadOption: a rule cannot be read.
    """
    now = now or datetime.now(UTC)
    return Choosing(
        numbers=_some("--numbers", args.numbers or "", args.numbers is not None),
        link_text=tuple(args.link_text),
        column=args.column,
        extensions=_some("--ext", words_in(args.ext), args.ext),
        kinds=_some("--kind", words_in(args.kinds), args.kinds),
        keep=tuple(args.keep),
        drop=tuple(args.drop),
        keep_re=tuple(args.keep_re),
        drop_re=tuple(args.drop_re),
        after_name=args.after_name,
        since=None if args.since is None else parse_when(args.since, now),
        until=None if args.until is None else parse_when(args.until, now, whole_day=True),
        at_least=args.at_least,
        at_most=args.at_most,
        undated=Unknown(args.undated),
        unsized=Unknown(args.unsized),
        prefer=_some("--prefer", words_in(args.prefer), args.prefer),
        nth=args.nth,
        first=args.first,
    )


def make_looking(
    args: argparse.Namespace, lanes: int, choosing: Choosing, *, everything: bool = False
) -> Looking:
    """How the options want sources looked at, and what need not be listed for the choosing.

    Args:
        args: the options.
        lanes: how many folders are read at a time.
        choosing: what is chosen.
        everything: whether also what is not chosen is to be listed.

    Raises:
        BadOption: a selector or a part cannot be read.
    """
    from willow_cart.sources import Kind, Looking, PageRules

    compares_paths = args.depth == 1 or "/" in choosing.after_name

    return Looking(
        kind=None if args.kind is None else Kind(args.kind),
        base=args.base,
        depth=args.depth,
        pages=args.pages,
        rules=PageRules(words_in([args.parts]), args.within, args.next),
        ignore_robots=args.ignore_robots,
        lanes=lanes,
        most_listed=args.most_listed,
        largest_listing=args.largest_listing,
        beginning="" if everything else choosing.beginning(deep=args.depth != 1),
        after="" if everything or not compares_paths else choosing.after_name,
    )


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
        from willow_cart.cli.telling import tell_each
        from willow_cart.sources import ask_sizes

        learnt, troubles = ask_sizes(offers, self._access, self._lanes)
        tell_each(troubles)
        self.unanswered += len(troubles)
        return learnt


class Looker:
    """Looks at sources and chooses, as the options of a command say.

    Args:
        args: the options.
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
        args: argparse.Namespace,
        access: Access,
        lanes: int,
        *,
        everything: bool = False,
        besides: Iterable[Offer] = (),
        asking: Asking | None = None,
    ) -> None:
        from willow_cart.cli.telling import tell_waiting
        from willow_cart.sources import Look
        from willow_cart.sources.look import Asking

        self._asking = replace(asking or Asking(), progress=tell_waiting)
        self._args = args
        self._access = access
        self._besides = besides
        self._choosing = make_choosing(args)
        self._looking = make_looking(args, lanes, self._choosing, everything=everything)
        self._asker = SizeAsker(access, lanes)
        self.asks: bool = args.ask_sizes
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
        from willow_cart.cli.telling import tell_each, tell_look
        from willow_cart.sources import look_through

        # A program that is started from a timetable may have no standard input at all.
        standard_input = sys.stdin.buffer if sys.stdin is not None else None
        offers = look_through(
            self._args.sources,
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
        tell_look(self.found, self.choice, depth=self._args.depth, pages=self._args.pages)

    def chosen(self) -> Shelf:
        """What is chosen, each address once.

        Raises:
            WillowCartError: none of the sources can be read.
            NothingChosen: nothing is left.
        """
        from willow_cart.shelf import Shelf

        chosen = Shelf(offer for offer, dropped_by in self.judged() if not dropped_by)
        self.choice.require_some()
        return chosen


def add_folder(command: argparse.ArgumentParser) -> None:
    """Add the folder that a command looks into."""
    command.add_argument(
        "folder",
        nargs="?",
        type=Path,
        default=Path(),
        metavar="DIR",
        help="a folder that was hauled into (the current one)",
    )


def add_formats(command: argparse.ArgumentParser) -> argparse._MutuallyExclusiveGroup:
    """Add the forms for machines, and return their group for more forms."""
    group = command.add_mutually_exclusive_group()
    group.add_argument("--json", action="store_true", help="write JSON for other programs")
    group.add_argument("--csv", action="store_true", help="write CSV for spreadsheets")
    return group


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


def _read_by(read: Callable[[str], Number], text: str) -> Number:
    try:
        return read(text)
    except BadOption as error:
        raise argparse.ArgumentTypeError(str(error)) from None


def read_size(text: str) -> int:
    """Read a size: bytes, or with a unit."""
    return _read_by(parse_size, text)


def read_speed(text: str) -> int:
    """Read a speed in bytes a second: `2MB/s`."""
    speed = read_size(text.removesuffix("/s"))
    if not speed:
        raise argparse.ArgumentTypeError(f"{text} brings nothing")
    return speed


def read_seconds(text: str) -> float:
    """Read a time: seconds, or with a unit."""
    return _read_by(parse_seconds, text)


def depth(text: str) -> int | None:
    """Read a depth: a number from 1 up, or `all`."""
    return None if text == "all" else positive(text)


MOST_AT_ONCE = 1000
"""More lanes, threads or shares than any machine or server serves well."""


def add_overwrite(command: argparse.ArgumentParser) -> None:
    """Add what allows a file to be replaced that another program has written."""
    command.add_argument(
        "--overwrite",
        action="store_true",
        help="replace a file that is there, also if willow-cart has not written it",
    )


def positive(text: str) -> int:
    """Read a count from 1 up."""
    number = int(text) if re.fullmatch(r"\s*\+?\d{1,12}\s*", text) else 0
    if number < 1:
        raise argparse.ArgumentTypeError(f"{text:.60} is not a whole number from 1 up")
    return number


def few(text: str) -> int:
    """Read a count of what works at the same time, such as lanes."""
    number = positive(text)
    if number > MOST_AT_ONCE:
        raise argparse.ArgumentTypeError(f"{text:.60} is more than {MOST_AT_ONCE:,}")
    return number


def whole(text: str) -> int:
    """Read a count from 0 up."""
    if not re.fullmatch(r"\d{1,12}", text):
        raise argparse.ArgumentTypeError(f"{text:.60} is not a whole number from 0 up")
    return int(text)
