"""Every place that is spoken to here, each by its own protocol."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping

from willow_cart.access.inside import Inside
from willow_cart.access.patience import Retrier
from willow_cart.access.seam import Access, Delivery, Directory, Store, Unchanged
from willow_cart.addresses import STORES, is_inside, scheme_of
from willow_cart.archives import Bounds
from willow_cart.errors import BadAddress
from willow_cart.model import Facts, Validators
from willow_cart.redaction import lacks_secret, without_secrets


class Everywhere(Access):
    """Hands every address to the access that speaks its scheme, made when it is first needed.

    Args:
        makers: what makes the access for each scheme; several schemes may share one.
        retrier: makes attempts again for listings and other documents.
        stopped: set by `abort`, to end what waits.
        document_seconds: within which a listing or another document must have come; None as usual.
        bounds: how far archives may swell whose members are fetched; None as usual.

    Attributes:
        inside: what brings files inside archives.
    """

    def __init__(
        self,
        makers: Mapping[str, Callable[[], Access]],
        retrier: Retrier | None = None,
        stopped: threading.Event | None = None,
        document_seconds: float | None = None,
        bounds: Bounds | None = None,
    ) -> None:
        if document_seconds is not None:
            self.document_seconds = document_seconds
        self.retrier = retrier or Retrier()
        self._stopped = stopped or threading.Event()
        self._makers = dict(makers)
        self._made: dict[Callable[[], Access], Access] = {}
        self.inside = Inside(self, bounds)

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Delivery | Unchanged:
        """Ask for a file (see the seam)."""
        return self._access_to(address).open(address, start=start, end=end, validators=validators)

    def ask(self, address: str) -> Facts:
        """Ask what is known of a file (see the seam)."""
        return self._access_to(address).ask(address)

    def directory(self, address: str) -> Directory | None:
        """What lists the folders there (see the seam)."""
        return self._access_to(address).directory(address)

    def contact(self, address: str) -> str:
        """The address that is really asked (see the seam)."""
        return self._access_to(address).contact(address)

    def trust(self, address: str) -> None:
        """Let a store be asked with what this machine keeps for stores (see the seam)."""
        if scheme_of(address) in STORES:
            self._access_to(address).trust(address)

    def store(self, address: str) -> Store | None:
        """What lists the objects there (see the seam)."""
        return self._access_to(address).store(address)

    def abort(self) -> None:
        """End every exchange under way (see the seam)."""
        self._stopped.set()
        for access in list(self._made.values()):
            access.abort()

    def disown(self) -> None:
        """Forget every connection (see the seam)."""
        for access in self._made.values():
            access.disown()

    def close(self) -> None:
        """Let go of every connection."""
        for access in self._made.values():
            access.close()

    def _access_to(self, address: str) -> Access:
        if lacks_secret(address):
            raise BadAddress(
                without_secrets(address),
                "its secret was left out when the address was recorded",
                "haul it from the source that offers it",
            )
        if is_inside(address):
            return self.inside
        maker = self._makers.get(scheme_of(address))
        if maker is None:
            shown = without_secrets(address)
            raise BadAddress(shown, f"{scheme_of(address)}:// is not spoken here", "")
        access = self._made.get(maker)
        if access is None:
            # Of two that lanes make at the same time, one is kept; the other has done nothing yet.
            access = self._made.setdefault(maker, maker())
        return access
