"""Read the files that a job needs, such as lists, from a path or an address."""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

from willow_cart.addresses import BEGINNINGS, looks_like_address, normalise, scheme_of
from willow_cart.errors import TransferFailed, UnreadableSource, plainly
from willow_cart.named_files import open_named
from willow_cart.protocols import Access
from willow_cart.protocols.read_all import fetch_whole
from willow_cart.redaction import without_secrets

MAX_LIST_BYTES = 1 << 30
"""The most bytes of a list in a file; larger ones are no lists that a user keeps."""


def read_text(place: str, access: Access) -> str:
    """Read a UTF-8 text from a path or an address; invalid bytes are replaced.

    Raises:
        UsageError: it cannot be fetched, or is too large for what it should be.
    """
    if not looks_like_address(place):
        return read_file(place).decode("utf-8", "replace")
    try:
        facts, content = access.retrier.run(lambda: fetch_whole(normalise(place), access))
    except TransferFailed as error:
        raise UnreadableSource(error.thing, error.reason, error.advice) from None
    if scheme_of(normalise(place)) == "https" and scheme_of(facts.address) == "http":
        # What others are checked by must have come from whom it says.
        raise UnreadableSource(
            without_secrets(place),
            "redirected from https to http",
            "name an address that is not redirected",
        )
    return content.decode("utf-8", "replace")


def read_file(name: str) -> bytes:
    """Read the file of a list.

    Raises:
        UnreadableSource: it cannot be read; the error says what may have been meant.
    """
    with open_file(name) as file:
        return file.read(MAX_LIST_BYTES)


def open_file(name: str) -> BinaryIO:
    """Open the file of a list.

    Raises:
        UnreadableSource: it cannot be read; the error says what may have been meant.
    """
    path = Path(name)
    try:
        if path.is_dir():
            raise UnreadableSource(name, "is a folder", "name a file with addresses in it")
        return open_named(path)
    except FileNotFoundError:
        raise UnreadableSource(name, "no such file", BEGINNINGS) from None
    except OSError as error:
        raise UnreadableSource(
            name, f"cannot be read: {plainly(error)}", "check the file"
        ) from None
