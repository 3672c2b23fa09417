"""Names in the listings of servers, and what is said of a listing that is too long."""

from __future__ import annotations

from willow_cart.units import format_size


def readable_name(name: bytes) -> str | None:
    """Return a readable form of a name that is not UTF-8; None if the address is readable."""
    try:
        name.decode("utf-8")
    except UnicodeDecodeError:
        return name.decode("cp1252", "replace")
    return None


def too_long(largest: int) -> str:
    """Return the clause for a listing of which only the first `largest` bytes were read."""
    return (
        f"the listing is longer than {format_size(largest)}; the rest was not read"
        " (--largest-listing allows more)"
    )
