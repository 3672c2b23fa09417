"""`haul`: fetch, check, file."""

from __future__ import annotations

import argparse
from pathlib import Path

from willow_cart.cli.bringing import bring, keeping_answers
from willow_cart.cli.connecting import add_connecting, make_access
from willow_cart.cli.detaching import Background, detach
from willow_cart.cli.errand_writing import add_writing, write_errand
from willow_cart.cli.filing import add_filing, preview
from willow_cart.cli.options import Looker, add_choosing, add_sources
from willow_cart.cli.pacing import add_pace, make_request_rules, make_wishes
from willow_cart.cli.running import shown_command
from willow_cart.cli.unpacking import add_unpacking
from willow_cart.exits import Exit

BRIEF = "bring what is chosen home: fetch with resume, check, file"
DESCRIPTION = (
    "Fetch what the sources offer and the choosing options leave, check it, and file it. A file"
    " appears under its name only whole and checked. Run the same command again to go on after"
    " any break, and next month to renew what has changed."
)


def add_options(command: argparse.ArgumentParser) -> None:
    """Add what haul understands."""
    add_sources(command)
    command.add_argument(
        "--into", type=Path, required=True, metavar="DIR", help="the folder to file into"
    )
    add_filing(command)
    command.add_argument(
        "--times",
        choices=["keep", "now"],
        default="keep",
        metavar="keep|now",
        help="give files the time at which they were changed last at their places, or leave them"
        " the time of their arrival (%(default)s)",
    )
    command.add_argument(
        "--preview",
        action="store_true",
        help="show the tree that the folder would get; fetches and writes nothing",
    )
    command.add_argument(
        "--checksums",
        action="append",
        default=[],
        metavar="FILE|ADDRESS",
        help="a checksum list to hold what comes against, in GNU or BSD style",
    )
    command.add_argument(
        "--find-checksums",
        action="store_true",
        help="look for checksum lists beside the files: SHA256SUMS, md5sums.txt, name.sha256, ...",
    )
    command.add_argument(
        "--must-check",
        action="store_true",
        help="refuse what no checksum proves: none in the cart, in a list, or from its place",
    )
    command.add_argument(
        "--inspect",
        action="store_true",
        help="open archives, pictures, tables and JSON that arrive, and say what is broken inside",
    )
    command.add_argument(
        "--accept-anything",
        action="store_true",
        help="file also pages that come where something else was asked for",
    )
    command.add_argument(
        "--if-present",
        choices=["renew", "keep", "replace", "fail"],
        default="renew",
        metavar="renew|keep|replace|fail",
        help="of files that lie here already: ask whether they have changed, leave them unasked,"
        " fetch them anew, or count them as failed (%(default)s)",
    )
    command.add_argument(
        "--twins",
        choices=["keep", "link", "skip"],
        default="keep",
        metavar="keep|link|skip",
        help="of files whose bytes lie here under another name already: file them as well, have"
        " both names lead to one file, or leave them out (%(default)s)",
    )
    command.add_argument(
        "--cart",
        type=Path,
        metavar="FILE",
        help="leave a cart of what is hauled behind, as load writes it",
    )
    command.add_argument(
        "--tight",
        action="store_true",
        help="begin also where there is not enough room for everything",
    )
    command.add_argument(
        "--note", default="", metavar="TEXT", help="your own words about it, kept in the ledger"
    )
    command.add_argument(
        "--detach",
        action="store_true",
        help="hand the terminal back and go on in the background; willow-cart runs sees to it",
    )
    command.add_argument(
        "--log", type=Path, metavar="FILE", help="write what happens as JSON lines, one event each"
    )
    add_writing(command)
    command.add_argument(
        "--on-arrival",
        metavar="COMMAND",
        help="run a command for every file that arrives, without a shell: 'check {path}'; the guide"
        " has the fields",
    )
    add_choosing(command)
    unpacking = add_unpacking(command, "Archives are unpacked once everything has come.")
    unpacking.add_argument(
        "--unpack",
        action="append",
        default=[],
        metavar="PATTERN",
        help="unpack archives that match a wildcard pattern, as for --keep: '*.zip'",
    )
    add_connecting(command)
    add_pace(command)


def run(args: argparse.Namespace) -> int:
    """Look, choose, haul, and account for it, here or in the background."""
    require_outside(args)
    if not args.detach:
        return _run(args, None)
    background = detach(shown_command(args), args.into)
    if isinstance(background, int):
        return background
    try:
        return _run(args, background)
    except BaseException:
        background.failed()
        raise


def _run(args: argparse.Namespace, background: Background | None) -> int:
    from willow_cart.cart import Find, form_for
    from willow_cart.cli.load import put_in_cart
    from willow_cart.cli.telling import tell
    from willow_cart.sources import Look

    if args.cart is not None:
        form_for(args.cart)  # a name that says nothing is told before any work is done
    wishes = make_wishes(args)
    if args.write_errand is not None:
        write_errand(args.write_errand, "haul", args.typed[1:])
    lanes = wishes.lanes_per_host
    with (
        make_access([args], lanes, make_request_rules(args, wishes)) as made,
        keeping_answers(made, args.into, lanes) as (access, asking),
    ):
        looker = Looker(args, access, lanes, asking=None if args.preview else asking)
        offers = looker.chosen()
        troubles = len(looker.found.troubles)
        if args.preview:
            preview(offers, args.into, wishes.layout)
            return Exit.INCOMPLETE if troubles else Exit.GOOD
        if args.cart is not None:
            # Left behind now, so that it is there whatever becomes of the haul.
            find = Find((offer, True) for offer in offers)
            tell(put_in_cart(find, args.cart, Look(sources=looker.found.sources), add=False))
        return bring(args, wishes, offers, access, background, troubles=troubles)


def require_outside(args: argparse.Namespace) -> None:
    """Refuse a destination in the midst of what is hauled: every run would haul the one before.

    Raises:
        UnusableDestination: it is one.
    """
    from willow_cart.access.local import path_of
    from willow_cart.errors import UnusableDestination

    into = args.into.resolve()
    for source in args.sources:
        folder = Path(path_of(source) if source.startswith("file://") else source)
        if args.depth != 1 and folder.is_dir() and into.is_relative_to(folder.resolve()):
            raise UnusableDestination(
                str(args.into), f"lies in {source}, which is to be hauled", "name another --into"
            )
