"""Lists of addresses: one per line, with comments and ranges."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from urllib.parse import quote

from willow_cart.addresses import expand_ranges, looks_like_address, normalise
from willow_cart.checks.checksum_files import read_checksum_list
from willow_cart.errors import UnreadableSource, UsageError
from willow_cart.model import Issue, Offer

# Bytes that are not UTF-8, as they are left in a text.
_NOT_UTF8 = re.compile("[\udc80-\udcff]")


def read_list(lines: Iterable[str], place: str) -> Iterator[Offer | Issue]:
    """Read a list of addresses line by line.

    One address, or one with ranges, a line; a `#` at the beginning of a line or after a blank
    starts a comment, so that a fragment is not one.

    Yields:
        The offers in each line, or what is wrong with the line.
    """
    number = 0
    for line_number, raw in enumerate(lines, 1):
        if not raw.isascii() and _NOT_UTF8.search(raw):
            yield Issue(f"{place}, line {line_number}", "is not UTF-8; save it as UTF-8")
            continue
        line = uncommented(raw)
        if not line:
            continue
        try:
            for offer in offers_from(line, place, number):
                number = offer.number
                yield offer
        except UsageError as error:
            yield Issue(f"{place}, line {line_number}", str(error))


def uncommented(line: str) -> str:
    """Return a line of a list without its comment."""
    return re.sub(r"(?:^|\s)#.*", "", line).strip()


def offers_from(text: str, place: str, after: int = 0) -> Iterator[Offer]:
    """Yield the offers of an address, several if it contains ranges.

    Args:
        text: the address as it was written.
        place: the source it was written in.
        after: the number of the offer before.

    Raises:
        BadAddress: it is invalid.
    """
    for number, address in enumerate(expand_ranges(text), after + 1):
        yield Offer(address=normalise(address), source=place, number=number)


def offers_promised(lines: Iterable[str], place: str, base: str) -> Iterator[Offer | Issue]:
    """Yield the files that a checksum list names, with their expected checksums.

    Args:
        lines: of the list.
        place: where the list is; the files lie beside it.
        base: where the files are, where the list lies elsewhere.

    Raises:
        UnreadableSource: the location of the files is unknown.
    """
    beside = base or (place if looks_like_address(place) else "")
    if not beside:
        raise UnreadableSource(
            place,
            "is a checksum list and does not contain the addresses of its files",
            "give the address of their folder with --base, or a list for --checksums",
        )
    folder = normalise(beside).rpartition("/")[0]
    number = 0
    for item in read_checksum_list("".join(lines), place):
        if isinstance(item, Issue):
            yield item
            continue
        number += 1
        # A way up would lead out of what the list is a list of.
        parts = [part for part in item.parts if part != ".."]
        path = "/".join(quote(part, safe="~") for part in parts)
        yield Offer(
            normalise(f"{folder}/{path}"),
            place,
            number,
            folder="/".join(parts[:-1]),
            checksums=(item.checksum,),
        )
