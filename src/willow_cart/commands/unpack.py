"""`unpack`: unpack archives on this machine."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from functools import cached_property
from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.commands.policies import make_unpacking
from willow_cart.commands.request import shown_command
from willow_cart.commands.result import CommandResult
from willow_cart.errors import Exit
from willow_cart.hauling.summary import HaulSummary
from willow_cart.hauling.unpacking import unpack as unpack_here
from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.observer import Observer
from willow_cart.options.groups import UnpackingOptions
from willow_cart.options.option import Request, argument, option
from willow_cart.units import count_of


class UnpackRequest(Request):
    """A request to unpack archives."""

    command = "unpack"

    places: tuple[Path, ...] = argument(
        (), Path, "a folder that was hauled into, or an archive", metavar="DIR|ARCHIVE", nargs="+"
    )
    into: Path | None = option(
        None,
        Path,
        "the folder to unpack into (the folder they were hauled into, or the one that contains "
        "them)",
        metavar="DIR",
    )
    name_parts: str = option(
        "",
        str,
        "defines fields for --unpack-to from parts of names, as for --file-as",
        metavar="REGEX",
    )
    unpacking: UnpackingOptions = UnpackingOptions()
    choosing: Choosing = Choosing()


class UnpackResult(CommandResult):
    """The result of unpacking.

    Attributes:
        account: counts, and the exit code that follows from them.
    """

    account: HaulSummary

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.account.exit_code

    @cached_property
    def paths(self) -> tuple[Path, ...]:
        """The paths of the files from the archives, unpacked now or earlier."""
        return paths_of_members(self.account.archives)

    @property
    def summary(self) -> str:
        """Return how many archives were unpacked."""
        return unpacked_line(self.account)


def unpack(request: UnpackRequest, observer: Observer) -> UnpackResult:
    """Unpack the chosen archives, and count them.

    Raises:
        NothingChosen: nothing is left to unpack.
        WillowCartError: an option cannot be understood, or nothing can be filed there.
    """
    wish = make_unpacking(request.unpacking, request.name_parts, ())
    choosing = request.choosing
    with observer.stoppable() as stop:
        account = unpack_here(
            request.places,
            request.into,
            wish,
            choosing,
            command=shown_command(request),
            observer=observer,
            stop=stop,
        )
    return UnpackResult(account)


def unpacked_line(account: HaulSummary) -> str:
    """Return the summary of unpacking."""
    parts = []
    if account.unpacked or account.left_out:
        archives, files = count_of(account.unpacked, "archive"), count_of(account.members, "file")
        left_out = f", {account.left_out:,} left out" if account.left_out else ""
        parts.append(f"{archives} unpacked: {files}{left_out}")
    if account.unpacked_before:
        parts.append(f"{count_of(account.unpacked_before, 'archive')} unpacked before")
    if account.not_unpacked:
        parts.append(f"{count_of(account.not_unpacked, 'archive')} could not be unpacked")
    return "; ".join(parts) or "no archives to unpack"


def paths_of_members(archives: Iterable[tuple[Path, Arrival]]) -> tuple[Path, ...]:
    """Return the paths of the files from archives that exist, in order.

    Args:
        archives: each with its destination.

    Raises:
        UnreadableLedger: a ledger there cannot be read.
    """
    by_folder: defaultdict[Path, list[Arrival]] = defaultdict(list)
    for folder, archive in archives:
        by_folder[folder].append(archive)
    paths: list[Path] = []
    for folder, arrivals in by_folder.items():
        with Ledger(ledger_path(folder)) as ledger:
            for archive in arrivals:
                paths += (folder / each.lies_at for each in ledger.members_of(archive))
    return tuple(path for path in paths if path.is_file())
