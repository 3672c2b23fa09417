"""`pack`: pack a folder into one archive."""

from __future__ import annotations

from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.commands.request import Request
from willow_cart.errors import nothing_there
from willow_cart.options.option import argument, option
from willow_cart.options.shared import OVERWRITE
from willow_cart.packing import Packed, require_form
from willow_cart.packing import pack as pack_files
from willow_cart.stored_files import holdings_at
from willow_cart.structs import replace


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


def pack(request: PackRequest) -> Packed:
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
    return pack_files(
        (found[offer] for offer in choice.chosen), request.to, overwrite=request.overwrite
    )
