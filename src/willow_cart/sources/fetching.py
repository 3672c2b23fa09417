"""Reading what the job itself needs to read: from a file or from an address."""

from __future__ import annotations

from pathlib import Path

from willow_cart.access import Access, Delivery, Patience, Unchanged, persist
from willow_cart.addresses import BEGINNINGS, looks_like_address, normalise, without_secrets
from willow_cart.errors import TransferFailed, UnreadableSource
from willow_cart.model import Facts
from willow_cart.units import format_size

LARGEST_LIST = 1 << 30
"""The most bytes of a list in a file; larger ones are no lists that a person keeps."""

LARGEST_DOCUMENT = 64 << 20
"""The most bytes of a page, listing or checksum list from the network."""


def read_text(place: str, access: Access) -> str:
    """Read a text from a path or an address, as UTF-8; what is none is replaced.

    Raises:
        NotUnderstood: it is not to be had, or too large for what it should be.
    """
    if not looks_like_address(place):
        return read_file(place).decode("utf-8", "replace")
    try:
        _, content = persist(lambda: fetch(normalise(place), access), Patience())
    except TransferFailed as error:
        raise UnreadableSource(error.thing, error.reason, error.advice) from None
    return content.decode("utf-8", "replace")


def fetch(address: str, access: Access, largest: int = LARGEST_DOCUMENT) -> tuple[Facts, bytes]:
    """Fetch a document into memory, in one attempt.

    Raises:
        TransferFailed: it did not come.
        UnreadableSource: it is too large for what it should be.
    """
    delivery = access.open(address)
    assert not isinstance(delivery, Unchanged), "no condition was made"
    try:
        return delivery.facts, read_all(delivery, largest)
    finally:
        delivery.close()


def read_all(delivery: Delivery, largest: int = LARGEST_DOCUMENT) -> bytes:
    """Read a delivery to its end.

    Raises:
        TransferFailed: it stops short.
        UnreadableSource: it is too large for what it should be.
    """
    content = bytearray()
    while piece := delivery.read():
        content += piece
        if len(content) > largest:
            raise UnreadableSource(
                without_secrets(delivery.facts.address),
                f"is more than {format_size(largest)} long, too large for a list or a page",
                "give --as file to take it as a file",
            )
    return bytes(content)


def read_file(name: str) -> bytes:
    """Read a list's file.

    Raises:
        UnreadableSource: it cannot be read; the error says what may have been meant.
    """
    path = Path(name)
    try:
        if path.is_dir():
            raise UnreadableSource(name, "is a folder", "name a file with addresses in it")
        with path.open("rb") as file:
            return file.read(LARGEST_LIST)
    except FileNotFoundError:
        raise UnreadableSource(name, "there is no such file", BEGINNINGS) from None
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise UnreadableSource(name, f"cannot be read: {reason}", "see to the file") from None
