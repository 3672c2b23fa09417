"""The paths of files that came out of archives."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from pathlib import Path

from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path


def paths_of_members(archives: Iterable[tuple[Path, str]]) -> tuple[Path, ...]:
    """Return the paths of the files from archives that exist, in order.

    Args:
        archives: the destination and the address of each.

    Raises:
        UnreadableLedger: a ledger there cannot be read.
    """
    by_folder: defaultdict[Path, list[str]] = defaultdict(list)
    for folder, address in archives:
        by_folder[folder].append(address)
    paths: list[Path] = []
    for folder, addresses in by_folder.items():
        with Ledger(ledger_path(folder)) as ledger:
            for address in addresses:
                paths += (folder / each.lies_at for each in ledger.members_of(address))
    return tuple(path for path in paths if path.is_file())
