"""`pick`: take rows of a cart out, or put them back."""

from __future__ import annotations

import sys
from pathlib import Path

from willow_cart.cart.cart_view import CartView
from willow_cart.cart.picking import Picked, Way, mark_in
from willow_cart.cli.console import Console
from willow_cart.cli.screen import show_line, tell_each
from willow_cart.commands.pick import PickRequest, pick, undo_picking, way_of
from willow_cart.destination import room_at
from willow_cart.errors import BadOption, Exit
from willow_cart.events import Unsure


def run(request: PickRequest) -> int:
    """Pick by options, or in the picker."""
    if request.undo:
        done = undo_picking(request)
        show_line(f"{request.cart}: last change undone; taken: {done.taken}")
        return Exit.GOOD
    way = way_of(request)
    return _tick(request) if way is None else _pick(request, way)


def _pick(request: PickRequest, way: Way) -> int:
    console = Console()
    done = pick(request, way, console)
    done_to = {Way.BACK: "put back", Way.SWAP: "swapped"}.get(way, "taken out")
    _sum_up(request.cart, done.picked, done_to)
    if done.choice is not None:
        console.note(Unsure(done.choice))
    return done.exit_code


def _tick(request: PickRequest) -> int:
    if not (sys.stdin is not None and sys.stdin.isatty() and sys.stdout.isatty()):
        raise BadOption(
            str(request.cart),
            "selecting rows needs a terminal",
            "use --out, --only, --back or --swap with choosing options",
        )
    from willow_cart.cli.picker.app import tick

    tray = CartView(request.cart)
    if not tick(tray, request, _room()):
        show_line(f"{request.cart}: not changed")
        return Exit.GOOD
    picked = mark_in(tray.sheet, map(bool, tray.marks))
    _sum_up(request.cart, picked, "changed")
    return Exit.INCOMPLETE if picked.unread else Exit.GOOD


def _room() -> int | None:
    """Return the bytes that are free in the current folder; None for unknown."""
    try:
        return room_at(Path())
    except OSError:
        return None


def _sum_up(path: Path, picked: Picked, done: str) -> None:
    tell_each([*picked.unread, *picked.oddities])
    show_line(f"{path}: {done}: {picked.changed}; taken now: {picked.taken}")
