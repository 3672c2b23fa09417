"""The request of `unpack`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.choosing import Choosing
from willow_cart.options.hauling import UnpackingOptions
from willow_cart.options.option import argument, option
from willow_cart.requests.request import Request


class UnpackRequest(Request):
    """A request to unpack archives."""

    command = "unpack"

    archives: tuple[Path, ...] = argument(
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
