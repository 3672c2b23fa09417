"""`knock`: test a server."""

from __future__ import annotations

from collections.abc import Sequence

from willow_cart.addresses import normalise
from willow_cart.commands.connecting import make_access, trust_of
from willow_cart.commands.request import ReachingRequest
from willow_cart.exits import Exit
from willow_cart.knocking.steps import Knocker, KnockFinding, Verdict
from willow_cart.observer import Observer
from willow_cart.options.looking import KindOption
from willow_cart.options.option import argument, flag
from willow_cart.sources.discovery import Looking
from willow_cart.structs import Value


class KnockRequest(ReachingRequest):
    """A request to test a server."""

    command = "knock"

    sources: tuple[str, ...] = argument((), str, "the place", metavar="ADDRESS", nargs=1)
    json: bool = flag("print JSON")
    looking: KindOption = KindOption()


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
        signing = request.signing
        keys = signing.account_key or signing.shared_access
        fields = signing.token or signing.header or signing.cookies
        signed = bool(signing.user or signing.key or fields or keys or signing.sign_in)
        kind = request.looking.as_ or ("bucket" if request.has_container_key else None)
        looking = Looking(as_=kind)
        knocker = Knocker(access, trust_of(request.connecting).context(), signed, looking)
        return Knocked(address, list(knocker.knock(address)))
