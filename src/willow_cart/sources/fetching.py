"""Reading a small text that the job itself needs: from a file or from an address."""

from __future__ import annotations

from willow_cart.access import Access, Unchanged
from willow_cart.addresses import looks_like_address, normalise
from willow_cart.errors import TransferFailed, UnreadableSource
from willow_cart.sources.look import read_file

_LARGEST_TEXT = 64 << 20


def read_text(place: str, access: Access) -> str:
    """Read a text from a path or an address, as UTF-8; what is none is replaced.

    Raises:
        NotUnderstood: it is not to be had, or too large for what it should be.
    """
    if not looks_like_address(place):
        return read_file(place).decode("utf-8", "replace")
    pieces: list[bytes] = []
    try:
        delivery = access.open(normalise(place))
        assert not isinstance(delivery, Unchanged), "no condition was made"
        try:
            while piece := delivery.read():
                pieces.append(piece)
                if sum(map(len, pieces)) > _LARGEST_TEXT:
                    raise UnreadableSource(place, "is too large for a list", "check the address")
        finally:
            delivery.close()
    except TransferFailed as error:
        raise UnreadableSource(error.thing, error.reason, error.advice) from None
    return b"".join(pieces).decode("utf-8", "replace")
