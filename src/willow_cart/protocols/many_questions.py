"""Ask for the metadata of many files, each once."""

from __future__ import annotations

from willow_cart.addresses import host_of
from willow_cart.errors import ServerBusy, TransientError
from willow_cart.model import Metadata
from willow_cart.protocols.base import Access
from willow_cart.protocols.retry import RetryPolicy
from willow_cart.redaction import without_secrets

# A busy host gets a second chance, and no more.
_ONCE_MORE = RetryPolicy(attempts=2, longest_wait=10.0)


class ManyQuestions:
    """Asks hosts until one wants to be left alone for longer than is waited; thread-safe."""

    def __init__(self, access: Access) -> None:
        self._access = access
        self._refusals: dict[str, TransientError] = {}

    def ask(self, address: str) -> Metadata:
        """Request the size, the date and the version of a file.

        Raises:
            ServerBusy: its host wants to be left alone, and was not asked.
            TransferFailed: as for `Access.ask`.
        """
        host = host_of(address)
        if (refusal := self._refusals.get(host)) is not None:
            shown, reason = without_secrets(address), f"not requested: {refusal.reason} before"
            raise ServerBusy(shown, reason, refusal.advice, wait=refusal.wait, status=0)
        try:
            return self._access.retrier.run(lambda: self._access.ask(address), _ONCE_MORE)
        except TransientError as error:
            if error.wait is not None and error.wait > _ONCE_MORE.longest_wait:
                self._refusals[host] = error
            raise
