"""Archives as sources: each file inside is an offer."""

from __future__ import annotations

from collections.abc import Iterator

from willow_cart.addresses import take_inside
from willow_cart.model import Offer
from willow_cart.protocols import Access
from willow_cart.protocols.inside import Inside


def offers_in_archive(access: Access, archive: str, source: str) -> Iterator[Offer]:
    """Yield the files in a zip archive; only its directory is fetched.

    Args:
        access: how the archive is talked to.
        archive: its address.
        source: as typed by the user.

    Raises:
        TransferFailed: it does not arrive, is not an archive, or its place does not serve parts.
    """
    for number, entry in enumerate(Inside(access).entries(archive), 1):
        folder = take_inside(entry.address)[1].rpartition("/")[0]
        yield Offer(
            entry.address, source, number, folder=folder, size=entry.size, modified=entry.modified
        )
