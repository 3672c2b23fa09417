"""`haul`: fetch, check, file."""

from __future__ import annotations

import argparse
from pathlib import Path

from willow_cart.cli.bringing import bring, keeping_answers
from willow_cart.cli.connecting import make_access
from willow_cart.cli.detaching import Background, detach
from willow_cart.cli.errand_writing import write_errand
from willow_cart.cli.filing import preview
from willow_cart.cli.options import Looker
from willow_cart.cli.pacing import make_request_rules, make_wishes
from willow_cart.cli.running import shown_command
from willow_cart.exits import Exit


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
