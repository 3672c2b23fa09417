"""Reading a small text that the job itself needs: from a file or from an address."""

from __future__ import annotations

from willow_cart.access import Access, Patience, Unchanged, persist
from willow_cart.addresses import looks_like_address, normalise, without_secrets
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
    try:
        return persist(lambda: _fetch(normalise(place), access), Patience())
    except TransferFailed as error:
        raise UnreadableSource(error.thing, error.reason, error.advice) from None


def _fetch(address: str, access: Access) -> str:
    delivery = access.open(address)
    assert not isinstance(delivery, Unchanged), "no condition was made"
    text = bytearray()
    try:
        while piece := delivery.read():
            text += piece
            if len(text) > _LARGEST_TEXT:
                shown = without_secrets(address)
                raise UnreadableSource(shown, "is too large for a list", "check the address")
    finally:
        delivery.close()
    return text.decode("utf-8", "replace")
