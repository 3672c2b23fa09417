"""Move files aside that are no longer offered, or that changed on the disk."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from willow_cart.addresses import take_inside
from willow_cart.destination import Destination, FileTree
from willow_cart.errors import NotServed, TransferFailed, UsageError
from willow_cart.identity import AddressId
from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.protocols import Access
from willow_cart.protocols.kept_answers import ManyQuestions
from willow_cart.redaction import lacks_secret

# What servers answer for a file that they do not have: of the web, and of FTP.
_GONE = frozenset({404, 410, 550})


def find_gone(root: Path, identifiers: Collection[AddressId]) -> list[Arrival]:
    """Return the files in a destination whose addresses are no longer offered.

    Args:
        identifiers: of these addresses.
    """
    if not identifiers or not has_ledger(root):
        return []
    with Ledger(ledger_path(root)) as ledger, FileTree(root) as tree:
        keys = {*map(ledger.key_of, identifiers)}
        return [
            each
            for each in ledger.latest_arrivals()
            if each.archive_key in keys and tree.stamp(each.lies_at) is not None
        ]


def confirm_gone(unlisted: Sequence[Arrival], access: Access, lanes: int) -> list[Arrival]:
    """Ask for files that are no longer listed; return those whose server states that they are gone.

    Each address is requested once, that of an archive for all of its files. A file whose address
    has a secret, which the ledger does not have, cannot be asked for.

    Args:
        unlisted: the files.
        access: client for all protocols.
        lanes: how many are asked for at a time.
    """
    questions = ManyQuestions(access)

    def is_gone(address: str) -> bool:
        if lacks_secret(address):
            return False
        try:
            questions.ask(address)
        except NotServed as error:
            return error.status in _GONE
        except (TransferFailed, UsageError):
            return False
        return False

    addresses = dict.fromkeys(take_inside(each.address)[0] for each in unlisted)
    with ThreadPoolExecutor(max(1, lanes)) as pool:
        gone = dict(zip(addresses, pool.map(is_gone, addresses), strict=True))
    return [each for each in unlisted if gone[take_inside(each.address)[0]]]


def move_gone_aside(root: Path, gone: Collection[Arrival]) -> list[tuple[str, Path]]:
    """Move files aside that are no longer offered.

    A file that was changed here since it arrived stays, and so does one that stands for another.

    Returns:
        The path of each, and where it is kept.

    Raises:
        UnusableDestination: a haul is running there.
        CannotStore: one cannot be moved.
    """
    kept = []
    with Destination(root) as destination, Ledger(ledger_path(root)) as ledger:
        needed = ledger.paths_for_twins()
        for arrival in gone:
            is_ours = destination.stamp(arrival.path) == arrival.own_stamp
            if arrival.instead or arrival.path in needed or not is_ours:
                continue
            # Entered first: a kill in between leaves a file that is in no ledger, and loses none.
            with ledger.transaction(lasting=True):
                ledger.replace_by(arrival, "nothing")
            if there := destination.move_aside(arrival.path):
                kept.append((arrival.path, there))
        destination.drop_empty_folders(path for path, _ in kept)
    return kept


def move_corrupt_aside(root: Path, arrivals: Iterable[Arrival]) -> list[tuple[str, Path]]:
    """Move files aside whose content changed although their size and date did not.

    A haul would believe them. Others it sees for itself, once what replaces them is there.

    Args:
        arrivals: their ledger entries.

    Returns:
        The path of each, and where it is kept.

    Raises:
        UnusableDestination: a haul is running there.
        CannotStore: one cannot be moved.
    """
    with Destination(root) as destination:
        rotten = [each.path for each in arrivals if destination.stamp(each.path) == each.own_stamp]
        kept = [(path, destination.move_aside(path)) for path in rotten]
    return [(path, there) for path, there in kept if there is not None]
