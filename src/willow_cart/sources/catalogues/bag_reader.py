"""Bags (RFC 8493) on servers: their payload, with the checksums of their manifests."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import quote

from willow_cart.addresses import normalise
from willow_cart.bag_paths import decode_path
from willow_cart.errors import BadAddress, NotServed, UnreadableSource
from willow_cart.model import Offer
from willow_cart.protocols import Access
from willow_cart.protocols.read_all import fetch_whole
from willow_cart.redaction import without_secrets
from willow_cart.sources.catalogues.catalogue_words import checksums_of
from willow_cart.sources.listing import Kind, Listing, folder_of
from willow_cart.units import read_count

DECLARATION = b"BagIt-Version:"
"""How `bagit.txt` begins (RFC 8493, 2.1.1)."""

# The strongest first: a bag may have several manifests, each of the whole payload (2.1.3).
_ALGORITHMS = ("sha512", "sha256", "sha1", "md5")

_LINE = re.compile(r"([0-9A-Fa-f]+)\s+\*?(\S.*)")
_FETCHED = re.compile(r"(\S+)\s+(\S+)\s+(\S.*)")


def read_bag(access: Access, address: str, source: str) -> Listing:
    """Read the manifest of a bag, and what else has to be fetched for it.

    Args:
        address: of the bag's `bagit.txt`.
        source: the source that the offers are of.

    Raises:
        TransferFailed: a manifest did not come.
        UnreadableSource: the bag has no manifest.
    """
    listing = Listing(address, Kind.CATALOGUE)
    folder = folder_of(address)
    elsewhere = {
        decode_path(found[3]): (found[1], read_count(found[2]))
        for line in _lines(access, f"{folder}fetch.txt") or ()
        if (found := _FETCHED.fullmatch(line))
    }
    for algorithm in _ALGORITHMS:
        lines = _lines(access, f"{folder}manifest-{algorithm}.txt")
        if lines is None:
            continue
        for line in lines:
            found = _LINE.fullmatch(line)
            path = decode_path(found[2]) if found else ""
            if found is None or not path.startswith("data/") or ".." in path.split("/"):
                listing.problems.append(f"line of the manifest not understood: {line[:80]!r}")
                continue
            where, size = elsewhere.get(path, (folder + quote(path), None))
            try:
                offered = normalise(where)
            except BadAddress as error:
                listing.odd.append(f"{error.thing} ({error.reason})")
                continue
            above, _, name = path.rpartition("/")
            promised = checksums_of(f"{algorithm}:{found[1]}", algorithm)
            listing.offers.append(
                Offer(offered, source, name=name, folder=above, size=size, checksums=promised)
            )
        return listing
    raise UnreadableSource(without_secrets(folder), "a bag without a manifest", "check the address")


def _lines(access: Access, address: str) -> Iterator[str] | None:
    """Return the lines of a file of the bag; None if there is no such file."""
    try:
        _, content = access.retrier.run(lambda: fetch_whole(address, access))
    except NotServed:
        return None
    return filter(None, content.decode("utf-8-sig", "replace").splitlines())
