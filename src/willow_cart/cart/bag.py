"""Read and write `fetch.txt`, the list of files to be fetched into a bag (RFC 8493, 2.2.3)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import TextIO

from willow_cart.addresses import normalise
from willow_cart.bag_paths import decode_path, encode_path
from willow_cart.errors import BadAddress
from willow_cart.model import Issue, Offer
from willow_cart.redaction import without_secrets
from willow_cart.units import read_count

_LINE = re.compile(r"(\S+)[ \t]+(\d+|-)[ \t]+(\S.*)")

# What a bag holds lies below this folder of it.
_PAYLOAD = "data/"


def looks_like_fetch_list(line: str) -> bool:
    """Whether a line belongs to a fetch.txt."""
    found = _LINE.fullmatch(line.strip())
    return found is not None and "://" in found[1] and found[3].startswith(_PAYLOAD)


def read_fetch_list(lines: Iterable[str], place: str) -> Iterator[Offer | Issue]:
    """Read offers from lines of the form `URL LENGTH PATH`; a length of `-` is unknown."""
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        found = _LINE.fullmatch(line.strip())
        if found is None:
            yield Issue(f"{place}, line {number}", "is not URL LENGTH PATH; fix it")
            continue
        url, length, path = found.groups()
        folder, _, name = decode_path(path).rpartition("/")
        try:
            address = normalise(url)
        except BadAddress as error:
            yield Issue(f"{place}, line {number}", str(error))
            continue
        yield Offer(
            address, place, number, name, folder, None if length == "-" else read_count(length)
        )


def write_fetch_list(offers: Iterable[Offer], to: TextIO) -> None:
    """Write offers without secrets, one per line; paths outside `data/` are moved into it."""
    for offer in offers:
        path = offer.path if offer.path.startswith(_PAYLOAD) else _PAYLOAD + offer.path
        length = "-" if offer.size is None else offer.size
        to.write(f"{without_secrets(offer.address)} {length} {encode_path(path)}\n")
