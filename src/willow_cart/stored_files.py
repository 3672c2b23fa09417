"""The files in a folder as offers, with the facts in its ledger."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import BinaryIO

from willow_cart.checks.digests import digest_of
from willow_cart.destination import FileTree
from willow_cart.errors import UnreadableSource, plainly
from willow_cart.identity import AddressId
from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.model import OWN_FOLDER, Offer
from willow_cart.outside_values import moment_at
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.protocols.local import address_of
from willow_cart.structs import Value


class Holding(Value):
    """A file in a folder.

    Attributes:
        offer: the file as it can be chosen: by its path below the folder, its size and its date.
        path: below the folder, with `/` between the parts; of a lone file its name.
        root: the folder that its path is below.
        arrival: its ledger entry; None if it does not know it.
        is_as_filed: whether it has the size and the time stamp that the ledger says.
    """

    offer: Offer
    path: str
    root: Path
    arrival: Arrival | None = None
    is_as_filed: bool = False

    @property
    def file(self) -> Path:
        """Return its path."""
        return self.root / self.path

    def open(self) -> BinaryIO:
        """Open it for reading.

        Raises:
            OSError: it cannot be opened, or is a link.
        """
        with FileTree(self.root) as tree:
            return tree.open(self.path)

    def sha256(self) -> str:
        """Return the SHA-256 in hexadecimal; computed only if the ledger does not have it.

        Raises:
            UnreadableSource: it cannot be read.
        """
        if self.arrival is not None and self.is_as_filed:
            return self.arrival.sha256
        try:
            with self.open() as file:
                return digest_of(file, ["sha256"])["sha256"].digest
        except OSError as error:
            raise UnreadableSource(
                self.path, f"cannot be read: {plainly(error)}", "check the file"
            ) from None

    def is_changed(self) -> bool:
        """Whether its content differs from the ledger; a changed time alone does not count.

        Raises:
            UnreadableSource: it cannot be read.
        """
        if self.arrival is None or self.is_as_filed:
            return False
        return self.sha256() != self.arrival.sha256


def holdings_at(place: Path, came_from: Collection[AddressId] | None = None) -> Iterator[Holding]:
    """Yield the files in a folder in order, or a single file.

    Args:
        place: the folder or the file.
        came_from: only files from these addresses, directly or in an archive; None for all.

    Raises:
        UnreadableSource: there is neither.
        UnreadableLedger: the folder's ledger cannot be read.
    """
    if place.is_dir():
        arrivals = {}
        if has_ledger(place):
            with Ledger(ledger_path(place)) as opened:
                wanted = {*map(opened.key_of, came_from or ())}
                arrivals = {
                    each.path: each
                    for each in opened.latest_arrivals()
                    if came_from is None or not wanted.isdisjoint((each.key, each.archive_key))
                }
        try:
            with FileTree(place) as tree:
                for path, status in tree.files(without=OWN_FOLDER):
                    if came_from is not None and path not in arrivals:
                        continue
                    yield _holding(place, path, status, arrivals.get(path), str(place))
        except OSError as error:
            raise UnreadableSource(
                str(place), f"cannot be read: {plainly(error)}", "check its permissions"
            ) from None
        return
    if came_from is not None:
        return  # what a lone file came from is in no ledger
    try:
        status = place.stat()
    except OSError as error:
        raise UnreadableSource(
            str(place), f"cannot be read: {plainly(error)}", "name a folder, or a file"
        ) from None
    yield _holding(place.resolve().parent, place.resolve().name, status, None, str(place))


def _holding(
    root: Path, path: str, status: os.stat_result, arrival: Arrival | None, source: str
) -> Holding:
    folder, _, name = path.rpartition("/")
    modified = parse_date(arrival.last_modified) if arrival else None
    offer = Offer(
        address_of(root / path),
        source,
        name=name,
        folder=folder,
        size=status.st_size,
        modified=modified or moment_at(status.st_mtime),
    )
    as_filed = arrival is not None and (
        (status.st_size, status.st_mtime_ns) == (arrival.size, arrival.mtime_ns)
    )
    return Holding(offer, path, root, arrival, as_filed)
