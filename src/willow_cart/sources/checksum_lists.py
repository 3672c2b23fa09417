"""Read checksum lists: those that the user names, and those next to the files."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from urllib.parse import urljoin

from willow_cart.addresses import looks_like_address, normalise
from willow_cart.errors import TransferFailed, VerificationError
from willow_cart.formats.checksums import (
    ListedChecksum,
    is_bare_checksum,
    is_checksum_line,
    read_checksum_list,
)
from willow_cart.model import Issue, Offer
from willow_cart.protocols import Access
from willow_cart.protocols.base import fetch_whole
from willow_cart.redaction import without_secrets
from willow_cart.sources.reading import read_text
from willow_cart.structs import Value

# What publishers call the list of a folder, the strongest first.
_LISTS = (
    "SHA256SUMS", "SHA256SUMS.txt", "sha256sums.txt", "sha256sum.txt", "SHA512SUMS",
    "checksums.txt", "CHECKSUMS", "MD5SUMS", "MD5SUMS.txt", "md5sums.txt", "md5sum.txt",
)  # fmt: skip

# What they put after a file's own name.
_ENDINGS = (".sha256", ".sha512", ".sha1", ".md5")

_MAX_LIST_BYTES = 16 << 20


class FoundList(Value):
    """A checksum list next to files.

    Attributes:
        place: its address, without secrets.
        entries: what it promises.
    """

    place: str
    entries: tuple[ListedChecksum, ...]


def read_lists(places: Iterable[str], access: Access) -> tuple[list[ListedChecksum], list[Issue]]:
    """Read checksum lists.

    Args:
        places: their paths and addresses.

    Returns:
        What they promise, and the lines that are none of a list.

    Raises:
        UnreadableSource, TransferFailed: one of them cannot be read at all.
    """
    entries: list[ListedChecksum] = []
    troubles: list[Issue] = []
    for place in places:
        text = read_text(place, access)
        shown = without_secrets(normalise(place)) if looks_like_address(place) else place
        for item in read_checksum_list(text, shown):
            if isinstance(item, ListedChecksum):
                entries.append(item)
            else:
                troubles.append(item)
    return entries, troubles


def lists_beside(offers: Iterable[Offer], access: Access) -> Iterator[FoundList]:
    """Look for a checksum list in the folder of each offer.

    Each usual name of a list is requested from a folder until one exists. If none does, a checksum
    file for the first file is requested, and only if it exists those for the others: no server
    gets hundreds of requests for files that do not exist.

    Args:
        offers: the files.
    """
    folders: defaultdict[str, list[str]] = defaultdict(list)
    for offer in offers:
        bare = offer.address.partition("?")[0]
        folders[urljoin(bare, ".")].append(bare)
    for folder, addresses in folders.items():
        for name in _LISTS:
            if (found := _read(f"{folder}{name}", access)) is not None:
                yield found
                break
        else:
            yield from _sums_of_their_own(addresses, access)


def _sums_of_their_own(addresses: list[str], access: Access) -> Iterator[FoundList]:
    for ending in _ENDINGS:
        first = _read(f"{addresses[0]}{ending}", access)
        if first is None:
            continue
        yield first
        others = (_read(f"{address}{ending}", access) for address in addresses[1:])
        yield from (each for each in others if each is not None)
        return


def _read(address: str, access: Access) -> FoundList | None:
    """Return the list at an address, or None."""
    try:
        _, content = fetch_whole(address, access, _MAX_LIST_BYTES)
    except (TransferFailed, VerificationError):
        return None
    text = content.decode("utf-8", "replace")
    first = next((line.strip() for line in text.splitlines() if line.strip()), "")
    if not (is_checksum_line(first) or is_bare_checksum(first)):
        return None
    shown = without_secrets(address)
    items = read_checksum_list(text, shown)
    entries = tuple(item for item in items if isinstance(item, ListedChecksum))
    return FoundList(shown, entries) if entries else None
