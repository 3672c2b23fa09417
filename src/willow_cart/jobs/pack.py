"""`pack`: packing what was hauled."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.jobs.looking_options import ChoosingOptions
from willow_cart.jobs.option import argument, option
from willow_cart.jobs.requests import Request
from willow_cart.jobs.shared_options import OverwriteOption


@dataclass(frozen=True, kw_only=True)
class PackRequest(OverwriteOption, ChoosingOptions, Request):
    """What `pack` is asked for."""

    command = "pack"

    folder: Path = argument(Path(), Path, "a folder, hauled into or not", metavar="DIR")
    to: Path = option(
        Path(), Path, "a name that ends in .zip or .tar.gz", metavar="FILE", required=True
    )
