"""Options that several commands share."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from willow_cart.choosing import Choice, Choosing

if TYPE_CHECKING:
    from willow_cart.sources import Look


def add_sources(command: argparse.ArgumentParser) -> None:
    """Add the sources, the first thing most commands are told."""
    command.add_argument(
        "sources",
        nargs="+",
        metavar="SOURCE",
        help="an http:// or https:// address, a list of addresses, a CSV table with a url column,"
        " or - for standard input; addresses may hold ranges: {2018..2031}, {01..12}, {a,b}",
    )


def add_choosing(command: argparse.ArgumentParser) -> None:
    """Add the choosing options, the same in every command."""
    group = command.add_argument_group("choosing")
    group.add_argument(
        "--ext",
        action="append",
        default=[],
        metavar="EXT,...",
        help="keep these extensions, whatever their case; tar.gz counts as one",
    )
    group.add_argument(
        "--keep",
        action="append",
        default=[],
        metavar="PATTERN",
        help="keep names that match a wildcard pattern (* ? [abc]); with a / in it the path below"
        " the source is matched, and ** stands for any folders; several --keep add up",
    )
    group.add_argument(
        "--drop",
        action="append",
        default=[],
        metavar="PATTERN",
        help="drop what matches a wildcard pattern",
    )
    group.add_argument(
        "--keep-re",
        action="append",
        default=[],
        metavar="REGEX",
        help="keep paths in which a regular expression is found",
    )
    group.add_argument(
        "--drop-re",
        action="append",
        default=[],
        metavar="REGEX",
        help="drop paths in which a regular expression is found",
    )
    group.add_argument(
        "--first", type=positive, metavar="N", help="keep the first N of what is left"
    )


def look_and_choose(args: argparse.Namespace) -> tuple[Look, Choice]:
    """Look at the sources, say what could not be taken from them, and choose.

    Raises:
        NotUnderstood: a rule or every source cannot be read.
        NothingChosen: nothing is left.
    """
    from willow_cart.cli.telling import tell_troubles
    from willow_cart.sources import look

    choosing = Choosing(
        extensions=tuple(ext for word in args.ext for ext in word.split(",") if ext),
        keep=tuple(args.keep),
        drop=tuple(args.drop),
        keep_re=tuple(args.keep_re),
        drop_re=tuple(args.drop_re),
        first=args.first,
    )
    # A program that is started from a timetable may have no standard input at all.
    found = look(args.sources, sys.stdin.buffer if sys.stdin is not None else None)
    tell_troubles(found.troubles)
    choice = choosing.choose(found.offers)
    choice.require_some()
    return found, choice


def add_formats(command: argparse.ArgumentParser) -> None:
    """Add the forms for machines."""
    group = command.add_mutually_exclusive_group()
    group.add_argument("--json", action="store_true", help="write JSON for other programs")
    group.add_argument("--csv", action="store_true", help="write CSV for spreadsheets")


def positive(text: str) -> int:
    """Read a count from 1 up."""
    try:
        number = int(text)
    except ValueError:
        number = 0
    if number < 1:
        raise argparse.ArgumentTypeError(f"{text} is not a whole number from 1 up")
    return number
