"""`pick`: take rows of a cart out, or put them back."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cart import Tray, Way, mark_in, pick_in, read_marked, undo, weigh
from willow_cart.choosing import Unknown
from willow_cart.cli.connecting import make_access
from willow_cart.cli.looking import SizeAsker
from willow_cart.cli.telling import in_words, tell_each, tell_unknown
from willow_cart.errors import BadOption
from willow_cart.exits import Exit
from willow_cart.jobs.looking_policies import make_choosing
from willow_cart.jobs.pick import PickRequest

if TYPE_CHECKING:
    from willow_cart.cart import Picked


# So many sizes are asked for at a time.
_LANES = 4


def run(request: PickRequest) -> int:
    """Pick by options, or show the view."""
    if request.undo:
        undo(request.cart)
        taken = weigh(read_marked(request.cart, [], [])).all
        print(f"{request.cart}: as before the last picking; taken are {in_words(taken)}")
        return Exit.GOOD
    ways = [way for way in Way if getattr(request, way)]
    return _pick(request, ways[0]) if ways else _tick(request)


def _pick(request: PickRequest, way: Way) -> int:

    if request.column:
        raise BadOption("--column", "is not known of the rows of a cart", "use it when loading")
    # Where a rule cannot tell, the row stays as it is.
    unsure = Unknown.KEEP if way == "only" else Unknown.DROP
    choosing = make_choosing(
        replace(request, undated=request.undated or unsure, unsized=request.unsized or unsure)
    )
    choice = choosing.begin()
    with make_access([request], _LANES) as access:
        asker = SizeAsker(access, _LANES) if request.ask_sizes else None
        picked = pick_in(request.cart, way, choosing, choice, asker, only_gone=request.gone)
    _sum_up(request.cart, picked, "put back" if way == "back" else "taken out")
    if choice.undated or choice.unsized:
        tell_unknown(choice)
    return Exit.INCOMPLETE if picked.unread or (asker and asker.unanswered) else Exit.GOOD


def _tick(request: PickRequest) -> int:
    if not (sys.stdin is not None and sys.stdin.isatty() and sys.stdout.isatty()):
        raise BadOption(
            str(request.cart),
            "there is no terminal to tick in",
            "say what to do: --out, --only or --back, with options that choose",
        )
    from willow_cart.cli.ticking import tick

    tray = Tray(request.cart)
    if not tick(tray):
        print(f"{request.cart}: left as it was")
        return Exit.GOOD
    picked = mark_in(tray.sheet, map(bool, tray.marks))
    _sum_up(request.cart, picked, "changed")
    return Exit.INCOMPLETE if picked.unread else Exit.GOOD


def _sum_up(path: Path, picked: Picked, done: str) -> None:

    tell_each([*picked.unread, *picked.oddities])
    print(f"{path}: {done} {in_words(picked.changed)}; taken are now {in_words(picked.taken)}")
