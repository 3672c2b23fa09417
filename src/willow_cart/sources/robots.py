"""The robots exclusion protocol (RFC 9309)."""

from __future__ import annotations

from urllib.robotparser import RobotFileParser

from willow_cart.addresses import origin_of
from willow_cart.errors import NotServed, TransferFailed
from willow_cart.protocols import Access
from willow_cart.protocols.read_all import fetch_whole
from willow_cart.version import __version__

AGENT = f"willow-cart/{__version__}"

# RFC 9309, 2.5: so much has to be read.
_MAX_ROBOTS_BYTES = 500 << 10


class Robots:
    """Reads robots.txt once per origin.

    Args:
        access: how places are talked to.
    """

    def __init__(self, access: Access) -> None:
        self._access = access
        self._rules: dict[str, RobotFileParser] = {}

    def allow(self, address: str) -> bool:
        """Whether a program that follows links may request an address."""
        origin = origin_of(address)
        rules = self._rules.get(origin)
        if rules is None:
            rules = self._rules[origin] = self._read(origin)
        return rules.can_fetch(AGENT, address)

    def _read(self, origin: str) -> RobotFileParser:
        rules = RobotFileParser()
        try:
            text = self._access.retrier.run(
                lambda: fetch_whole(f"{origin}/robots.txt", self._access, _MAX_ROBOTS_BYTES)[1]
            )
        except NotServed:
            # What is not there forbids nothing (2.3.1.3).
            rules.parse([])
        except TransferFailed:
            # What cannot be read might forbid everything (2.3.1.4).
            rules.parse(["User-agent: *", "Disallow: /"])
        else:
            rules.parse(text.decode("utf-8", "replace").splitlines())
        return rules
