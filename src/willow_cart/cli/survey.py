"""`survey`: look at what is offered and chosen; fetches no file."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from willow_cart.cli.connecting import add_connecting, make_access
from willow_cart.cli.options import Looker, add_choosing, add_formats, add_lanes, add_sources
from willow_cart.errors import BadOption
from willow_cart.exits import Exit

if TYPE_CHECKING:
    from willow_cart.cli.showing import Showing

BRIEF = "look: what is offered and chosen, with counts and sizes; fetches no file"
DESCRIPTION = (
    "Show what the sources offer and what the choosing options leave of it: a table or a tree, the"
    " total, and counts by kind and by heading. Fetches no file."
)


def add_options(command: argparse.ArgumentParser) -> None:
    """Add what survey understands."""
    add_sources(command)
    add_choosing(command)
    add_connecting(command)
    command.add_argument(
        "--why",
        action="store_true",
        help="show also what was dropped, and by which rule",
    )
    add_lanes(command)
    forms = add_formats(command)
    forms.add_argument("--tree", action="store_true", help="show the folders as a tree")


def run(args: argparse.Namespace) -> int:
    """Look, choose, and show."""
    with make_access([args], args.lanes) as access:
        looker = Looker(args, access, args.lanes)
        _make_showing(args).show(looker)
    looker.choice.require_some()
    incomplete = looker.found.troubles or looker.unanswered
    return Exit.INCOMPLETE if incomplete else Exit.GOOD


def _make_showing(args: argparse.Namespace) -> Showing:
    from willow_cart.cli import showing

    if args.json:
        return showing.AsJson(why=args.why)
    if args.csv:
        return showing.AsCart(sys.stdout, why=args.why)
    if args.tree:
        if args.why:
            raise BadOption("--why", "does not go with --tree", "leave out one of them")
        return showing.AsTree()
    return showing.AsTable(why=args.why)
