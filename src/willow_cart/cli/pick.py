"""`pick`: take rows of a cart out, or put them back."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.choosing import Unknown
from willow_cart.cli.connecting import make_access
from willow_cart.cli.options import SizeAsker, make_choosing
from willow_cart.errors import BadOption
from willow_cart.exits import Exit

if TYPE_CHECKING:
    from willow_cart.cart import Picked, Way


# So many sizes are asked for at a time.
_LANES = 4


def add_cart(command: argparse.ArgumentParser) -> None:
    """Add the cart, which is not looked at as sources are."""
    command.add_argument("cart", type=Path, metavar="CART", help="a cart that load has made")
    command.set_defaults(sources=())  # the places to sign in at are named by --sign-in-at


def run(args: argparse.Namespace) -> int:
    """Pick by options, or show the view."""
    from willow_cart.cart import Way, read_marked, undo, weigh
    from willow_cart.cli.telling import in_words

    if args.undo:
        undo(args.cart)
        taken = weigh(read_marked(args.cart, [], [])).all
        print(f"{args.cart}: as before the last picking; taken are {in_words(taken)}")
        return Exit.GOOD
    ways = [way for way in Way if getattr(args, way)]
    return _pick(args, ways[0]) if ways else _tick(args)


def _pick(args: argparse.Namespace, way: Way) -> int:
    from willow_cart.cart import pick_in

    if args.column:
        raise BadOption("--column", "is not known of the rows of a cart", "use it when loading")
    # Where a rule cannot tell, the row stays as it is.
    unsure = Unknown.KEEP if way == "only" else Unknown.DROP
    args.undated, args.unsized = args.undated or unsure, args.unsized or unsure
    choosing = make_choosing(args)
    choice = choosing.begin()
    with make_access([args], _LANES) as access:
        asker = SizeAsker(access, _LANES) if args.ask_sizes else None
        picked = pick_in(args.cart, way, choosing, choice, asker, only_gone=args.gone)
    _sum_up(args.cart, picked, "put back" if way == "back" else "taken out")
    if choice.undated or choice.unsized:
        from willow_cart.cli.telling import tell_unknown

        tell_unknown(choice)
    return Exit.INCOMPLETE if picked.unread or (asker and asker.unanswered) else Exit.GOOD


def _tick(args: argparse.Namespace) -> int:
    if not (sys.stdin is not None and sys.stdin.isatty() and sys.stdout.isatty()):
        raise BadOption(
            str(args.cart),
            "there is no terminal to tick in",
            "say what to do: --out, --only or --back, with options that choose",
        )
    from willow_cart.cart import Tray, mark_in
    from willow_cart.cli.ticking import tick

    tray = Tray(args.cart)
    if not tick(tray):
        print(f"{args.cart}: left as it was")
        return Exit.GOOD
    picked = mark_in(tray.sheet, map(bool, tray.marks))
    _sum_up(args.cart, picked, "changed")
    return Exit.INCOMPLETE if picked.unread else Exit.GOOD


def _sum_up(path: Path, picked: Picked, done: str) -> None:
    from willow_cart.cli.telling import in_words, tell_each

    tell_each([*picked.unread, *picked.oddities])
    print(f"{path}: {done} {in_words(picked.changed)}; taken are now {in_words(picked.taken)}")
