"""The policy for files that exist already."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum

from willow_cart.destination import Destination
from willow_cart.filing import Plan
from willow_cart.ledger.entries import Result
from willow_cart.model import State
from willow_cart.redaction import without_secrets


class ExistingFilePolicy(StrEnum):
    """What a haul does about a file that exists at the path of another one."""

    RENEW = "renew"
    """Ask its place whether it has changed, and fetch it if so."""
    KEEP = "keep"
    """Leave it, and make no request."""
    REPLACE = "replace"
    """Fetch it anew, changed or not."""
    FAIL = "fail"
    """Leave it, and count it as a failure."""

    def settle(self, plan: Plan, destination: Destination) -> Iterator[Result]:
        """Yield the results for existing files that need no request.

        It is known before any lane is open, and a haul of files that are all here is over at once.
        """
        if self is ExistingFilePolicy.RENEW or self is ExistingFilePolicy.REPLACE:
            return
        for number, filed in enumerate(plan, 1):
            if destination.status(filed.path) is not None:
                offer = filed.offer
                address = without_secrets(offer.address)
                if self is ExistingFilePolicy.KEEP:
                    yield Result(number, address, filed.path, State.HERE, id=filed.offer.id)
                else:
                    why = "already exists; see --if-present"
                    yield Result(
                        number, address, filed.path, State.FAILED, why, attempts=1, id=offer.id
                    )
