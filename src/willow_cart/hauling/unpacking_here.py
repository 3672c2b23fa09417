"""Unpack archives that are on this machine, from a haul or not."""

from __future__ import annotations

import os
import threading
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from willow_cart.checks.digests import digest_of
from willow_cart.choosing import Choosing
from willow_cart.destination import Destination, FileTree
from willow_cart.errors import UnreadableSource, nothing_there, plainly
from willow_cart.filing import Filed
from willow_cart.hauling.refiling import end_moves
from willow_cart.hauling.summary import HaulSummary
from willow_cart.hauling.unpacking import Archive, Unpacker
from willow_cart.ledger.entries import Arrival, timestamp
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.model import Offer
from willow_cart.observer import Observer
from willow_cart.outside_values import moment_at
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.protocols.local import address_of
from willow_cart.transfer.policy import Unpacking


def unpack(
    places: Sequence[Path],
    into: Path | None,
    wish: Unpacking,
    choosing: Choosing,
    *,
    command: str = "",
    observer: Observer | None = None,
    stop: threading.Event | None = None,
) -> HaulSummary:
    """Unpack archives, each into its destination.

    Args:
        places: folders that were hauled into, whose archives are meant, and archives.
        into: the destination for all of them; None for that which they were hauled into, or else
            the folder that they lie in.
        command: the command line, for the ledger.
        stop: set it to end early.

    Returns:
        The account; `planned` is how many archives there were, and `run` that of the last ledger.

    Raises:
        NothingChosen: no archive, or none is chosen.
        UnreadableLedger: nothing was hauled into one of the folders.
        UnreadableSource: an archive cannot be read.
        UnusableDestination, CannotStore: nothing can be unpacked there.
        FieldsMissing: the template for folders has nothing to say for some of them.
    """
    stop = stop or threading.Event()
    found = {archive.filed.offer: (root, archive) for root, archive in _find(places, into)}
    if not found:
        raise nothing_there(", ".join(map(str, places)), "archive")
    choice = choosing.choose(found)
    choice.require_some()
    chosen = [found[offer] for offer in choice.chosen]
    wish.require_fields(archive.filed for _, archive in chosen)
    by_root: defaultdict[Path, list[Archive]] = defaultdict(list)
    for root, archive in chosen:
        by_root[root].append(archive)
    account = HaulSummary(0, len(chosen))
    account.archives = [(root, archive.arrival) for root, archive in chosen]
    for root, archives in by_root.items():
        with Destination(root) as destination, Ledger(ledger_path(root), create=True) as ledger:
            end_moves(ledger, destination)
            account.run = ledger.begin_run(command)
            unpacker = Unpacker(
                wish, ledger, destination, account.run, observer=observer or Observer(), stop=stop
            )
            for unpacked in unpacker.unpack_all(archives):
                account.add_unpacked(unpacked)
            account.interrupted = unpacker.broken_off
            with ledger.transaction():
                ledger.end_run(account.run, account.exit_code)
    return account


def _find(places: Iterable[Path], into: Path | None) -> Iterator[tuple[Path, Archive]]:
    """Yield every archive with its destination."""
    for place in places:
        if place.is_dir():
            yield from ((into or place, archive) for archive in _hauled_into(place, into))
        else:
            home = _destination_of(place)
            if home is not None and into is None:
                path = place.resolve().relative_to(home).as_posix()
                hauled = [each for each in _hauled_into(home, None) if each.arrival.path == path]
                if hauled:
                    yield home, hauled[0]
                    continue
            yield into or place.absolute().parent, _found_at(place)


def _hauled_into(folder: Path, into: Path | None) -> Sequence[Archive]:
    """Return the archives in a folder's ledger that are unchanged since they were filed."""
    with Ledger(ledger_path(folder)) as ledger:
        arrivals = [
            each
            for each in ledger.latest_arrivals()
            if Offer("file:///x", name=each.path.rpartition("/")[2]).kind == "archive"
        ]
    is_own = into is None or into == folder
    return [
        Archive(Filed(_offer_of(each, str(folder)), each.path), each, None if is_own else folder)
        for each in arrivals
    ]


def _offer_of(arrival: Arrival, source: str) -> Offer:
    folder, _, name = arrival.path.rpartition("/")
    return Offer(
        arrival.address,
        source,
        name=name,
        folder=folder,
        size=arrival.size,
        modified=parse_date(arrival.last_modified),
        digest=arrival.digest,
    )


def _destination_of(file: Path) -> Path | None:
    """Return the folder that a file was hauled into, or None."""
    return next((folder for folder in file.resolve().parents if has_ledger(folder)), None)


def _found_at(path: Path) -> Archive:
    """Return an archive that is in no ledger.

    Raises:
        UnreadableSource: it cannot be read.
    """
    try:
        with FileTree(path.parent) as folder, folder.open(path.name) as file:
            status = os.fstat(file.fileno())
            sha256 = digest_of(file, ["sha256"])["sha256"].digest
    except OSError as error:
        raise UnreadableSource(
            str(path), f"cannot be read: {plainly(error)}", "name an archive, or a haul's folder"
        ) from None
    address = address_of(path)
    modified = moment_at(status.st_mtime)
    offer = Offer(address, os.fspath(path), folder="", size=status.st_size, modified=modified)
    arrival = Arrival(
        address, address, path.name, timestamp(), status.st_size, sha256, None, None, "",
        "nothing", status.st_mtime_ns,
    )  # fmt: skip
    return Archive(Filed(offer, path.name), arrival, path.parent)
