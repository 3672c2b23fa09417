"""`survey`: look at what is offered and chosen; fetches no file."""

from __future__ import annotations

import argparse
import json
import sys
from collections import defaultdict
from collections.abc import Sequence
from typing import TYPE_CHECKING

from willow_cart.cli.options import (
    add_choosing,
    add_formats,
    add_sources,
    look_and_choose,
    positive,
)
from willow_cart.exits import Exit

if TYPE_CHECKING:
    from willow_cart.choosing import Choice
    from willow_cart.model import Offer

NAME = "survey"
BRIEF = "look: what is offered and chosen, with counts and sizes; fetches no file"
DESCRIPTION = (
    "Show what the sources offer and what the choosing options leave of it: a table, the total,"
    " and counts by kind. Fetches no file."
)


def add_options(command: argparse.ArgumentParser) -> None:
    """Add what survey understands."""
    add_sources(command)
    add_choosing(command)
    command.add_argument(
        "--ask-sizes",
        action="store_true",
        help="ask the servers for the sizes that are not known, one request a file",
    )
    command.add_argument(
        "--lanes",
        type=positive,
        default=4,
        metavar="N",
        help="how many sizes are asked for at a time (%(default)s)",
    )
    add_formats(command)


def run(args: argparse.Namespace) -> int:
    """Look, choose, and show."""
    found, choice = look_and_choose(args)
    chosen = choice.chosen
    unanswered = 0
    if args.ask_sizes:
        from willow_cart.access.web import WebAccess
        from willow_cart.cli.telling import tell_troubles
        from willow_cart.sources import ask_sizes

        with WebAccess(lanes_per_host=args.lanes) as access:
            chosen, troubles = ask_sizes(chosen, access, args.lanes)
        tell_troubles(troubles)
        unanswered = len(troubles)

    if args.json:
        print(json.dumps(_as_json(choice, chosen), ensure_ascii=False, indent=2))
    elif args.csv:
        from willow_cart.cart import write_table

        write_table(chosen, sys.stdout)
    else:
        _show(choice, chosen, asked=args.ask_sizes)
    return Exit.INCOMPLETE if found.troubles or unanswered else Exit.GOOD


def _as_json(choice: Choice, chosen: Sequence[Offer]) -> dict[str, object]:
    from willow_cart.addresses import without_secrets
    from willow_cart.model import total_size

    known, unknown = total_size(chosen)
    return {
        "offered": choice.offered,
        "chosen": len(chosen),
        "bytes_known": known,
        "sizes_unknown": unknown,
        "kinds": [
            {"kind": kind, "files": files, "bytes_known": size}
            for kind, files, size, _ in _by_kind(chosen)
        ],
        "offers": [
            {
                "number": offer.number,
                "path": offer.path,
                "kind": offer.kind,
                "size": offer.size,
                "modified": offer.modified.isoformat() if offer.modified else None,
                "checksums": [str(checksum) for checksum in offer.checksums],
                "source": offer.source,
                "url": without_secrets(offer.address),
            }
            for offer in chosen
        ],
    }


def _by_kind(offers: Sequence[Offer]) -> list[tuple[str, int, int, int]]:
    """Kind, files, bytes known, sizes unknown; the largest first."""
    from willow_cart.model import total_size

    groups: defaultdict[str, list[Offer]] = defaultdict(list)
    for offer in offers:
        groups[offer.kind].append(offer)
    rows = [(kind, len(those), *total_size(those)) for kind, those in groups.items()]
    return sorted(rows, key=lambda row: (-row[2], -row[1], row[0]))


def _show(choice: Choice, chosen: Sequence[Offer], *, asked: bool) -> None:
    from willow_cart.addresses import host_of
    from willow_cart.cli.screen import show_line, show_table
    from willow_cart.model import total_size
    from willow_cart.units import count_of, format_size

    dated = any(offer.modified for offer in chosen)
    columns = ["no.", "path", "kind", "size", *(["modified"] if dated else []), "host"]
    rows = []
    for offer in chosen:
        size = "?" if offer.size is None else format_size(offer.size)
        when = f"{offer.modified:%Y-%m-%d %H:%M}" if offer.modified else ""
        cells = [str(offer.number), offer.path, offer.kind, size]
        rows.append([*cells, *([when] if dated else []), host_of(offer.address)])
    show_table(columns, rows, numeric=("no.", "size"))

    kinds = [
        [kind, f"{files:,}", _size_with_gaps(known, unknown)]
        for kind, files, known, unknown in _by_kind(chosen)
    ]
    show_table(("kind", "files", "size"), kinds, numeric=("files", "size"))

    known, unknown = total_size(chosen)
    line = f"{count_of(choice.offered, 'offer')}, {len(chosen):,} chosen"
    if known or not unknown:
        line += f": {format_size(known)}"
    if unknown:
        line += f", {count_of(unknown, 'size')} unknown"
        line += "" if asked else " (--ask-sizes asks the servers)"
    show_line(line)


def _size_with_gaps(known: int, unknown: int) -> str:
    from willow_cart.units import format_size

    if not unknown:
        return format_size(known)
    return f"{format_size(known)} and {unknown:,} ?" if known else "?"
