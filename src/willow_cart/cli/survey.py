"""`survey`: look at what is offered and chosen; fetches no file."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from willow_cart.cli.connecting import make_access
from willow_cart.cli.options import Looker
from willow_cart.errors import BadOption
from willow_cart.exits import Exit

if TYPE_CHECKING:
    from willow_cart.cli.showing import Showing


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
