"""`knock`: test a server."""

from __future__ import annotations

from collections.abc import Sequence

from willow_cart.addresses import normalise
from willow_cart.exits import Exit
from willow_cart.jobs.connecting import make_access, trust_of
from willow_cart.knocking.steps import Knocker, KnockFinding, Verdict
from willow_cart.observer import Observer
from willow_cart.requests.knock import KnockRequest
from willow_cart.sources.discovery import DiscoveryOptions
from willow_cart.sources.listing import Kind
from willow_cart.structs import Value


class Knocked(Value):
    """The findings at a server.

    Attributes:
        findings: the steps with their results.
    """

    address: str
    findings: Sequence[KnockFinding]

    @property
    def failed(self) -> bool:
        """Whether a step failed."""
        return any(finding.verdict is Verdict.FAILED for finding in self.findings)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.failed else Exit.GOOD


def knock(request: KnockRequest, observer: Observer) -> Knocked:
    """Test a server step by step.

    Raises:
        WillowCartError: the address or an option cannot be understood.
    """
    address = normalise(request.sources[0])
    with make_access([request], 2, observer) as access:
        keys = request.account_key or request.shared_access
        fields = request.token or request.header or request.cookies
        signed = bool(request.user or request.key or fields or keys or request.sign_in)
        kind = request.as_ or ("bucket" if request.has_container_key else None)
        looking = DiscoveryOptions(kind=None if kind is None else Kind(kind))
        knocker = Knocker(access, trust_of(request).context(), signed, looking)
        return Knocked(address, list(knocker.knock(address)))
