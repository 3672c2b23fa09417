"""The request of `pack`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.looking import ChoosingOptions
from willow_cart.options.option import argument, option
from willow_cart.options.shared import OverwriteOption
from willow_cart.requests.request import Request


@dataclass(frozen=True, kw_only=True)
class PackRequest(OverwriteOption, ChoosingOptions, Request):
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
