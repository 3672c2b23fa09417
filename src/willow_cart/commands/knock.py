"""`knock`: test a server."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from willow_cart.addresses import normalise
from willow_cart.commands.connecting import make_access, trust_of
from willow_cart.commands.request import ReachingRequest
from willow_cart.commands.result import CommandResult
from willow_cart.errors import Exit
from willow_cart.knocking.steps import Knocker, KnockFinding, Verdict
from willow_cart.observer import Observer
from willow_cart.options.groups import KindOption
from willow_cart.options.option import argument, flag
from willow_cart.redaction import without_secrets
from willow_cart.sources.listing import Looking


class KnockRequest(ReachingRequest):
    """A request to test a server."""

    command = "knock"

    sources: tuple[str, ...] = argument((), str, "the place", metavar="ADDRESS", nargs=1)
    json: bool = flag("print JSON")
    looking: KindOption = KindOption()


class KnockResult(CommandResult):
    """The findings at a server.

    Attributes:
        findings: the steps with their results.
    """

    columns = ("tried", "verdict", "found", "remedy")

    address: str
    findings: tuple[KnockFinding, ...]

    @property
    def works(self) -> bool:
        """Whether files can be hauled from the server."""
        return all(each.verdict is not Verdict.FAILED for each in self.findings)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.GOOD if self.works else Exit.INCOMPLETE

    @property
    def summary(self) -> str:
        """Return whether the server works."""
        outcome = "ready to haul from" if self.works else "something does not work"
        return f"{without_secrets(self.address)}: {outcome}"

    def records(self) -> Iterator[Sequence[object]]:
        """Return a row per step."""
        return ((each.tried, str(each.verdict), each.found, each.remedy) for each in self.findings)


def knock(request: KnockRequest, observer: Observer) -> KnockResult:
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
        return KnockResult(address, tuple(knocker.knock(address)))
