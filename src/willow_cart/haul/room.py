"""Room: whether what is to come fits on the disk, reckoned before anything is fetched."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from willow_cart.addresses import without_secrets
from willow_cart.errors import TooLittleRoom
from willow_cart.model import OWN_FOLDER, Offer, Sizes
from willow_cart.records import Arrival, Held, Ledger, ledger_path
from willow_cart.shelf import Shelf
from willow_cart.units import format_size

# What is left free for the ledger when a file would fill the disk, unless that is very small.
_RESERVE = 16 << 20


def room_at(folder: str | Path) -> int:
    """How many bytes may still be written in a folder, there or to be made; some are kept back.

    Raises:
        OSError: nobody can say.
    """
    place = Path(folder).absolute()
    while not place.exists() and place != place.parent:
        place = place.parent
    status = os.statvfs(place)
    reserve = min(_RESERVE, status.f_blocks * status.f_frsize // 8)
    return max(0, status.f_bavail * status.f_frsize - reserve)


def still_to_come(offers: Iterable[Offer], into: Path) -> tuple[Sizes, int]:
    """What of some offers is not in a destination yet, by what its ledger says.

    A file counts as here if it lies where it was filed with the size it had, and with the size
    that is offered now, if that is known.

    Returns:
        The sizes of what is not, and how many bytes of these are here in partial files.
    """
    sizes = Sizes()
    path = ledger_path(into)
    if not path.is_file():
        for offer in offers:
            sizes.add(offer)
        return sizes, 0
    with Ledger(path) as ledger, Held(path) as held:
        parts = ledger.parts()
        begun = 0
        for offer in offers:
            address = without_secrets(offer.address)
            if _is_here(offer, held.get(address), into):
                continue
            sizes.add(offer)
            if offer.size is not None and (part := parts.get(address)):
                begun += min(_size_of(into / OWN_FOLDER / "partial" / part.file), offer.size)
    return sizes, begun


def _is_here(offer: Offer, arrival: Arrival | None, into: Path) -> bool:
    if arrival is None or offer.size not in (None, arrival.size):
        return False
    return _size_of(into / arrival.path) == arrival.size


def _size_of(path: Path) -> int:
    try:
        return os.lstat(path).st_size
    except OSError:
        return 0


def require_room(offers: Shelf, into: Path) -> None:
    """Refuse to begin what cannot end, as far as sizes are known.

    Args:
        offers: what is wanted; gone through only if it might be too much.
        into: the destination.

    Raises:
        TooLittleRoom: they do not fit.
    """
    try:
        room = room_at(into)
    except OSError:
        return  # nobody can say, so let it be tried
    if offers.sizes.exact <= room:
        return
    sizes, begun = still_to_come(offers, into)
    needed = sizes.exact - begun
    if needed > room:
        raise TooLittleRoom(
            str(into),
            f"{format_size(needed)} are to come, and there is room for {format_size(room)}",
            "choose less, split it with weigh --drives, or give --tight to begin all the same",
            needed=needed,
            room=room,
        )
