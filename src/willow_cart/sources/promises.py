"""Checksum lists that a person names, read from wherever they are."""

from __future__ import annotations

from collections.abc import Iterable

from willow_cart.access import Access
from willow_cart.addresses import looks_like_address, normalise, without_secrets
from willow_cart.checks import Entry, read_checksum_list
from willow_cart.model import Trouble
from willow_cart.sources.fetching import read_text


def read_lists(places: Iterable[str], access: Access) -> tuple[list[Entry], list[Trouble]]:
    """Read checksum lists.

    Args:
        places: paths and addresses.
        access: how places are talked to.

    Returns:
        What they promise, and the lines that are none of a list.

    Raises:
        UnreadableSource, TransferFailed: one of them cannot be read at all.
    """
    entries: list[Entry] = []
    troubles: list[Trouble] = []
    for place in places:
        text = read_text(place, access)
        shown = without_secrets(normalise(place)) if looks_like_address(place) else place
        for item in read_checksum_list(text, shown):
            if isinstance(item, Entry):
                entries.append(item)
            else:
                troubles.append(item)
    return entries, troubles
