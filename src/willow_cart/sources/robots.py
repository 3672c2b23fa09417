"""The robots exclusion protocol (RFC 9309)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from willow_cart.addresses import origin_of
from willow_cart.errors import NotServed, TooManyRedirects, TransferFailed
from willow_cart.protocols import Access, Unchanged

if TYPE_CHECKING:
    from protego import Protego

_PRODUCT = "willow-cart"
"""The product token (2.2.1)."""

# RFC 9309, 2.5: so much has to be read; what is beyond it is ignored.
_MAX_ROBOTS_BYTES = 500 << 10


class Robots:
    """Reads robots.txt once per origin.

    Args:
        access: how places are talked to.
    """

    def __init__(self, access: Access) -> None:
        self._access = access
        self._rules: dict[str, Protego] = {}

    def allow(self, address: str) -> bool:
        """Whether a program that follows links may request an address."""
        origin = origin_of(address)
        rules = self._rules.get(origin)
        if rules is None:
            rules = self._rules[origin] = self._read(origin)
        return rules.can_fetch(address, _PRODUCT)

    def _read(self, origin: str) -> Protego:
        try:
            text = self._access.retrier.run(lambda: self._fetch(f"{origin}/robots.txt"))
        except (NotServed, TooManyRedirects):
            text = b""  # what is not there forbids nothing (2.3.1.2, 2.3.1.3)
        except TransferFailed:
            text = b"User-agent: *\nDisallow: /"  # it might forbid everything (2.3.1.4)
        from protego import Protego  # few sources are walked into

        return Protego.parse(text.decode("utf-8", "replace").removeprefix("\ufeff"))

    def _fetch(self, address: str) -> bytes:
        download = self._access.open(address)
        assert not isinstance(download, Unchanged), "no condition was made"
        text = b""
        try:
            while len(text) < _MAX_ROBOTS_BYTES and (piece := download.read()):
                text += piece
        finally:
            download.close()
        return text[:_MAX_ROBOTS_BYTES]
