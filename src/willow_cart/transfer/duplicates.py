"""Files of the same content: what is done with them, and what depends on one of them."""

from __future__ import annotations

from enum import StrEnum

from willow_cart.destination import PARTIAL, Destination, Stamp
from willow_cart.identity import hash_of
from willow_cart.ledger.ledger import Ledger


class DuplicatePolicy(StrEnum):
    """What a haul does about a file that has the same content as another file here, by SHA-256."""

    KEEP = "keep"
    """File it anyway."""
    LINK = "link"
    """Have both names lead to one file on the disk (a hard link, POSIX `link`)."""
    SKIP = "skip"
    """Leave it out; the ledger knows which file stands for it."""


def give_own_files(ledger: Ledger, destination: Destination, path: str) -> dict[str, Stamp]:
    """Give a file of their own to those that another file stands for, before it is replaced.

    They are linked, or copied where the disk has no links, and entered in the ledger before this
    returns.

    Args:
        ledger: of the destination.
        destination: where the files are.
        path: of the file that is to be replaced, moved or deleted.

    Returns:
        The paths of the files given, with their stamps.

    Raises:
        CannotStore: one cannot lie there.
        OSError: one cannot be copied.
    """
    given: dict[str, Stamp] = {}
    for arrival in ledger.dependants_of(path):
        if destination.stamp(path) != arrival.stamp:
            continue  # its bytes are lost already; `audit` reports it
        if destination.stamp(arrival.path) != arrival.stamp:
            temporary = f"{PARTIAL}/{hash_of(arrival.path)}"
            destination.link_or_copy_within(path, temporary)
            destination.place(temporary, arrival.path)
        given[arrival.path] = arrival.stamp
        with ledger.transaction():
            ledger.replace_by(arrival, "")
    if given:
        destination.sync_folders()
        with ledger.transaction(lasting=True):
            pass
    return given
