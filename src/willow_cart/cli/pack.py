"""`pack`: what lies in a folder, as one archive."""

from __future__ import annotations

import argparse

from willow_cart.cli.options import make_choosing
from willow_cart.errors import nothing_there
from willow_cart.exits import Exit


def run(args: argparse.Namespace) -> int:
    """Pack, and account for it."""
    from dataclasses import replace

    from willow_cart.cli.screen import show_line
    from willow_cart.cli.telling import tell_each
    from willow_cart.holdings import holdings_at
    from willow_cart.packing import pack, require_form
    from willow_cart.units import count_of, format_size

    require_form(args.to)
    own = args.to.resolve()
    found = {
        replace(each.offer, number=number): each
        for number, each in enumerate(holdings_at(args.folder), 1)
        if each.file.resolve() != own
    }
    if not found:
        raise nothing_there(args.folder, "file")
    choice = make_choosing(args).choose(found)
    choice.require_some()
    packed = pack((found[offer] for offer in choice.chosen), args.to, overwrite=args.overwrite)
    tell_each(packed.troubles)
    show_line(
        f"{count_of(packed.files, 'file')}, {format_size(packed.bytes)}; packed into {args.to},"
        f" {format_size(packed.size)}"
    )
    show_line(f"sha256:{packed.sha256}", dim=True)
    return Exit.CHECK_FAILED if packed.troubles else Exit.GOOD
