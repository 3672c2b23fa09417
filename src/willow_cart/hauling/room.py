"""Check before a haul whether the files fit on the disk."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from willow_cart.destination import LARGEST_ON_FAT, PARTIAL, FileTree, room_at, takes
from willow_cart.errors import TooLittleRoom
from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.known_files import KnownFiles
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import has_ledger, ledger_path
from willow_cart.model import Offer, Sizes
from willow_cart.offer_store import OfferStore
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value
from willow_cart.units import format_size


class Prospect(Value):
    """An estimate of a haul before it starts.

    Attributes:
        to_come: the sizes of files that are not in the destination yet.
        here: how many files are.
        begun: bytes of the files to come that partial files contain.
        room: bytes that may be written; None if unknown.
        speed: of the last haul there that took any time, in bytes a second, or None.
        too_large: how many of the files to come are larger than the disk takes.
    """

    to_come: Sizes
    here: int
    begun: int
    room: int | None
    speed: float | None
    too_large: int = 0

    @property
    def needed(self) -> int:
        """Return the bytes to be written, as far as sizes are known."""
        return self.to_come.bytes - self.begun

    @property
    def short(self) -> int:
        """Return how many more free bytes are needed, as far as known."""
        return 0 if self.room is None else max(0, self.needed - self.room)

    @property
    def fits(self) -> bool:
        """Whether there is enough space, and none too large, as far as known."""
        return not (self.too_large or self.short)


def prospect(offers: Iterable[Offer], into: Path) -> Prospect:
    """Estimate what hauling offers into a folder would fetch, using its ledger.

    A file counts as here if it is where it was filed with the size it had, and with the size
    that is offered now, if that is known.

    Raises:
        UnreadableLedger: the ledger there is damaged or of a later version.
    """
    to_come = Sizes()
    here = begun = large = 0
    speed = None

    def add(offer: Offer) -> None:
        nonlocal large
        to_come.add(offer)
        large += (offer.size or 0) > LARGEST_ON_FAT

    try:
        room = room_at(into)
    except OSError:
        room = None
    if has_ledger(into):
        path = ledger_path(into)
        with Ledger(path) as ledger, KnownFiles(path) as held, FileTree(into) as tree:
            parts = ledger.parts()
            for offer in offers:
                if _is_here(offer, held.get(offer.id), tree):
                    here += 1
                    continue
                add(offer)
                if offer.size is not None and (part := parts.get(ledger.key_of(offer.id))):
                    begun += min(_size_of(f"{PARTIAL}/{part.file}", tree), offer.size)
            speed = _last_speed(ledger)
    else:
        for offer in offers:
            add(offer)
    too_large = large if large and not takes(LARGEST_ON_FAT + 1, into) else 0
    return Prospect(to_come, here, begun, room, speed, too_large)


def _is_here(offer: Offer, arrival: Arrival | None, tree: FileTree) -> bool:
    if arrival is None or offer.size not in (None, arrival.size):
        return False
    return _size_of(arrival.path, tree) == arrival.size


def _size_of(path: str, tree: FileTree) -> int:
    stamp = tree.stamp(path)
    return 0 if stamp is None else stamp.size


def require_room(offers: OfferStore, into: Path) -> None:
    """Refuse to start if the known sizes do not fit, or a file is larger than any on its disk.

    Args:
        offers: the wanted files; gone through only if all of it would be too much.

    Raises:
        TooLittleRoom: they do not fit.
    """
    _require_file_sizes(offers, into)
    try:
        if offers.sizes.exact <= room_at(into):
            return
    except OSError:
        return  # unknown, so try
    ahead = prospect(offers, into)
    if ahead.room is not None and ahead.short:
        raise TooLittleRoom(
            str(into),
            f"{format_size(ahead.needed)} needed, but only {format_size(ahead.room)} free",
            "choose fewer files, split the cart with weigh --drives, or use --even-if-full",
            needed=ahead.needed,
            room=ahead.room,
        )


def _require_file_sizes(offers: OfferStore, into: Path) -> None:
    if offers.sizes.exact <= LARGEST_ON_FAT:
        return
    largest = max(offers, key=lambda each: each.size or 0)
    size = largest.size or 0
    if not takes(size, into):
        raise TooLittleRoom(
            without_secrets(largest.address),
            f"{format_size(size)}, but the disk of {into} takes files of at most"
            f" {format_size(LARGEST_ON_FAT)} (FAT)",
            "name a folder on another disk with --into, leave the file out, or use --even-if-full"
            " to haul the others",
            needed=size,
            room=LARGEST_ON_FAT,
        )


def _last_speed(ledger: Ledger) -> float | None:
    """Return the speed of the last run of some seconds in bytes per second, or None."""
    # Runs are recorded to the second, so shorter ones say nothing.
    rows = ledger.rows(
        "SELECT sum(received) AS bytes, (julianday(ended) - julianday(started)) * 86400 AS seconds"
        " FROM run JOIN result ON result.run = run.id GROUP BY run.id"
        " HAVING seconds > 2 AND bytes > 0 ORDER BY run.id DESC LIMIT 1"
    )
    return rows[0]["bytes"] / rows[0]["seconds"] if rows else None
