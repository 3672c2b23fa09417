"""Files that their places offer no more: put aside, never deleted."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from willow_cart.hauling.destination import Destination
from willow_cart.records import Arrival, Ledger, ledger_path


def find_gone(root: Path, addresses: Collection[str]) -> list[Arrival]:
    """Of addresses that are offered no more, what lies in a destination.

    Args:
        root: the destination.
        addresses: without secrets.
    """
    if not addresses or not ledger_path(root).is_file():
        return []
    with Ledger(ledger_path(root)) as ledger:
        return [
            each
            for each in ledger.latest_arrivals()
            if each.archive_address in addresses and (root / each.lies_at).is_file()
        ]


def put_gone_aside(root: Path, gone: Collection[Arrival]) -> list[tuple[str, Path]]:
    """Put files aside that their places offer no more.

    A file that was changed here since it arrived stays, and so does one that stands for another.

    Returns:
        The path of each, and where it is kept.

    Raises:
        UnusableDestination: a haul is under way there.
        CannotStore: one cannot be moved.
    """
    kept = []
    with Destination(root) as destination, Ledger(ledger_path(root)) as ledger:
        needed = ledger.paths_for_twins()
        for arrival in gone:
            if arrival.instead or arrival.path in needed or not destination.holds(arrival):
                continue
            # Entered first: a kill in between leaves a file that nobody knows, and loses none.
            with ledger.transaction(lasting=True):
                ledger.let_stand_for(arrival, "nothing")
            if there := destination.make_way(arrival.path):
                kept.append((arrival.path, there))
        destination.drop_empty_folders(path for path, _ in kept)
    return kept
