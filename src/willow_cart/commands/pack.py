"""`pack`: pack a folder into one archive."""

from __future__ import annotations

from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.commands.result import CommandResult
from willow_cart.errors import Exit, nothing_there
from willow_cart.options.option import OVERWRITE, Request, argument, option
from willow_cart.packing import Packed, require_form
from willow_cart.packing import pack as pack_files
from willow_cart.stored_files import holdings_at
from willow_cart.structs import replace
from willow_cart.units import count_of, format_size


class PackRequest(Request):
    """A request to pack a folder."""

    command = "pack"

    folder: Path = argument(Path(), Path, "a folder, hauled into or not", metavar="DIR")
    to: Path = option(
        Path(),
        Path,
        "the archive to write; its name ends in .zip or .tar.gz",
        metavar="FILE",
        required=True,
    )
    overwrite: bool = OVERWRITE
    choosing: Choosing = Choosing()


class PackResult(CommandResult):
    """The result of packing.

    Attributes:
        path: the archive.
        packed: counts, and the checksum of the archive.
    """

    path: Path
    packed: Packed

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.packed.exit_code

    @property
    def summary(self) -> str:
        """Return how much was packed."""
        done = self.packed
        files = f"{count_of(done.files, 'file')}, {format_size(done.bytes)}"
        return f"{files}; packed into {self.path}, {format_size(done.size)}"


def pack(request: PackRequest) -> PackResult:
    """Pack the chosen files.

    Raises:
        NothingChosen: nothing is left to pack.
        WillowCartError: an option cannot be understood, or the archive cannot be written.
    """
    require_form(request.to)
    own = request.to.resolve()
    found = {
        replace(each.offer, number=number): each
        for number, each in enumerate(holdings_at(request.folder), 1)
        if each.file.resolve() != own
    }
    if not found:
        raise nothing_there(request.folder, "file")
    choice = request.choosing.choose(found)
    choice.require_some()
    chosen = (found[offer] for offer in choice.chosen)
    return PackResult(request.to, pack_files(chosen, request.to, overwrite=request.overwrite))
