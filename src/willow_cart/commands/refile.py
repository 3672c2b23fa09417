"""`refile`: move hauled files to a new layout."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from willow_cart.commands.policies import make_rule
from willow_cart.commands.result import CommandResult
from willow_cart.errors import Exit
from willow_cart.hauling.refiling import Refiled
from willow_cart.hauling.refiling import refile as refile_here
from willow_cart.ledger.entries import Move
from willow_cart.options.groups import FilingOptions
from willow_cart.options.option import FOLDER, Request, flag
from willow_cart.units import count_of


class RefileRequest(Request):
    """A request to move hauled files."""

    command = "refile"

    preview: bool = flag("show the resulting tree; moves nothing")
    folder: Path = FOLDER
    filing: FilingOptions = FilingOptions()

    @property
    def has_rule(self) -> bool:
        """Whether an option determines where files go."""
        return any(key in self.given for key in FilingOptions.by_key())


class RefileResult(CommandResult):
    """The result of refiling.

    Attributes:
        folder: a folder that was hauled into.
        refiled: the plan, the moves, and the files that stay.
        preview: whether nothing was moved.
    """

    columns = ("old", "new", "url")

    folder: Path
    refiled: Refiled
    preview: bool = False

    @property
    def moves(self) -> Sequence[Move]:
        """The moves, made or planned."""
        return self.refiled.moves

    @property
    def staying(self) -> Sequence[str]:
        """Paths of files that are missing or changed, and so were left alone."""
        return self.refiled.staying

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.staying else Exit.GOOD

    @property
    def summary(self) -> str:
        """Return how many files were moved."""
        staying = f", {len(self.staying):,} missing or changed" if self.staying else ""
        verb = "to move" if self.preview else "moved"
        return f"{count_of(len(self.moves), 'file')} {verb}{staying}"

    def records(self) -> Iterator[Sequence[object]]:
        """Return a row per move: the old path, the new one, and the url."""
        return ((move.old, move.new, move.address) for move in self.moves)

    def __repr__(self) -> str:
        return f"<RefileResult of {self.folder}: {self.summary}>"


def refile(request: RefileRequest) -> RefileResult:
    """Move the files, or plan it: without a rule, nothing is moved.

    Raises:
        WillowCartError: an option cannot be understood, or the files cannot be moved.
    """
    only_look = request.preview or not request.has_rule
    refiled = refile_here(request.folder, make_rule(request.filing), only_look=only_look)
    return RefileResult(request.folder, refiled, only_look)
