"""`peek`: look into files before they are hauled."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from willow_cart.addresses import expand_ranges, looks_like_address, normalise
from willow_cart.commands.connecting import make_access
from willow_cart.commands.request import ReachingRequest
from willow_cart.errors import UnreadableSource, WillowCartError
from willow_cart.exits import Exit
from willow_cart.model import Offer
from willow_cart.observer import Observer
from willow_cart.options.option import argument, flag, option
from willow_cart.options.readers import whole
from willow_cart.peeking.peek import Peeked
from willow_cart.peeking.peek import peek as peek_at
from willow_cart.protocols.local import address_of
from willow_cart.structs import Value, field


class PeekRequest(ReachingRequest):
    """A request to look into files."""

    command = "peek"

    sources: tuple[str, ...] = argument(
        (), str, "addresses or paths of files", metavar="ADDRESS", nargs="+"
    )
    rows: int = option(5, whole, "show this many rows, records or members of each (5)", metavar="N")
    json: bool = flag("print JSON")


class PeekDone(Value):
    """What was found in files.

    Attributes:
        files: those that could be looked into.
        failures: why others could not.
    """

    files: Sequence[Peeked] = field(default_factory=list)
    failures: Sequence[WillowCartError] = field(default_factory=list)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.failures else Exit.GOOD


def peek(request: PeekRequest, observer: Observer) -> PeekDone:
    """Look into files, one after the other.

    Raises:
        WillowCartError: an address or an option cannot be understood.
    """
    addresses = [*_addresses(request.sources)]
    files: list[Peeked] = []
    failures: list[WillowCartError] = []
    with make_access([request], 2, observer) as access:
        for address in addresses:
            try:
                files.append(peek_at(access, address, request.rows))
            except WillowCartError as error:
                failures.append(error)
                observer.note(error)
    return PeekDone(files, failures)


def peek_offer(request: ReachingRequest, offer: Offer, rows: int) -> Peeked:
    """Look into the file of an offer.

    Args:
        request: how places are reached.
        offer: its address is looked at.
        rows: how many rows, records or members are wanted.

    Raises:
        WillowCartError: it cannot be reached.
    """
    with make_access([request], 1, Observer()) as access:
        return peek_at(access, offer.address, rows)


def _addresses(sources: Sequence[str]) -> Iterator[str]:
    """Yield the addresses of files.

    Raises:
        UnreadableSource: a folder, or a path where nothing is.
    """
    for source in sources:
        if looks_like_address(source):
            found = [normalise(each) for each in expand_ranges(source)]
        elif Path(source).is_file():
            found = [address_of(source)]
        else:
            is_folder = Path(source).is_dir()
            reason = "is a folder" if is_folder else "no such file"
            advice = "list it with survey" if is_folder else "check its name, or give an address"
            raise UnreadableSource(source, reason, advice)
        for address in found:
            if address.endswith("/"):
                raise UnreadableSource(address, "is a folder or a page", "list it with survey")
            yield address
