"""Lists of addresses as people keep them: one a line, with comments and ranges."""

from __future__ import annotations

import re
from collections.abc import Iterator

from willow_cart.addresses import expand_ranges, normalise
from willow_cart.errors import NotUnderstood
from willow_cart.model import Offer, Trouble


def read_list(text: str, place: str) -> Iterator[Offer | Trouble]:
    """Read a list of addresses.

    One address, or one with ranges, a line; a `#` at the beginning of a line or after a blank
    begins a comment, so that a fragment is none.

    Yields:
        The offers in each line, or what is wrong with the line.
    """
    number = 0
    for line_number, raw in enumerate(re.split(r"\r\n|\r|\n", text), 1):
        line = re.sub(r"(?:^|\s)#.*", "", raw).strip()
        if not line:
            continue
        try:
            for offer in offers_from(line, place, number):
                number = offer.number
                yield offer
        except NotUnderstood as error:
            yield Trouble(f"{place}, line {line_number}", str(error))


def offers_from(text: str, place: str, after: int = 0) -> Iterator[Offer]:
    """The offers that an address stands for, several if it holds ranges.

    Args:
        text: the address as it was written.
        place: the source it was written in.
        after: the number of the offer before.

    Raises:
        BadAddress: it is none.
    """
    for number, address in enumerate(expand_ranges(text), after + 1):
        yield Offer(address=normalise(address), source=place, number=number)
