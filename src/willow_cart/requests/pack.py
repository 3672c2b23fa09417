"""The request of `pack`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.options.option import argument, option
from willow_cart.options.shared import OVERWRITE
from willow_cart.requests.request import Request


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
