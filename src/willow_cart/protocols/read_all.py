"""Read short documents into memory: listings, pages, checksum lists."""

from __future__ import annotations

import time

from willow_cart.errors import ProtocolError, TimedOut
from willow_cart.model import Metadata
from willow_cart.protocols.base import Access, Download, Unchanged
from willow_cart.redaction import without_secrets
from willow_cart.units import format_duration, format_size

MAX_DOCUMENT_BYTES = 64 << 20
"""The most bytes of a document that are read; what is longer is a file."""


def fetch_whole(
    address: str, access: Access, largest: int = MAX_DOCUMENT_BYTES
) -> tuple[Metadata, bytes]:
    """Fetch a document in one attempt.

    Raises:
        TransferFailed: it did not come.
        ProtocolError: it is too long for what it should be.
    """
    delivery = access.open(address)
    assert not isinstance(delivery, Unchanged), "no condition was made"
    try:
        return delivery.facts, read_whole(delivery, largest, access.document_seconds)
    finally:
        delivery.close()


def read_whole(
    delivery: Download, largest: int = MAX_DOCUMENT_BYTES, seconds: float = float("inf")
) -> bytes:
    """Read a download to its end.

    Args:
        delivery: what is read.
        largest: bytes that are read.
        seconds: within which it must have come.

    Raises:
        TransferFailed: it stops short.
        TimedOut: it takes too long.
        ProtocolError: it is too long for what it should be.
    """
    content = bytearray()
    until = time.monotonic() + seconds
    while piece := delivery.read():
        content += piece
        if time.monotonic() > until:
            raise TimedOut(
                without_secrets(delivery.facts.address),
                f"not complete after {format_duration(seconds)}",
                "try again later",
            )
        if len(content) > largest:
            raise ProtocolError(
                without_secrets(delivery.facts.address),
                f"is more than {format_size(largest)} long, too large for a list or a page",
                "give --as file to take it as a file, or a larger --largest-listing",
            )
    return bytes(content)
