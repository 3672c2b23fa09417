"""The paths of files that came out of archives."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from pathlib import Path

from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path


def paths_of_members(archives: Iterable[tuple[Path, Arrival]]) -> tuple[Path, ...]:
    """Return the paths of the files from archives that exist, in order.

    Args:
        archives: each with its destination.

    Raises:
        UnreadableLedger: a ledger there cannot be read.
    """
    by_folder: defaultdict[Path, list[Arrival]] = defaultdict(list)
    for folder, archive in archives:
        by_folder[folder].append(archive)
    paths: list[Path] = []
    for folder, arrivals in by_folder.items():
        with Ledger(ledger_path(folder)) as ledger:
            for archive in arrivals:
                paths += (folder / each.lies_at for each in ledger.members_of(archive))
    return tuple(path for path in paths if path.is_file())
