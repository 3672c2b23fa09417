"""`load`: putting what is chosen in a cart."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.option import flag, option
from willow_cart.options.reaching import PatienceOptions
from willow_cart.options.shared import LanesOption, OverwriteOption, WriteErrandOption
from willow_cart.requests.request import LookingRequest


@dataclass(frozen=True, kw_only=True)
class LoadRequest(OverwriteOption, WriteErrandOption, LanesOption, LookingRequest, PatienceOptions):
    """What `load` is asked for."""

    command = "load"

    cart: Path | None = option(None, Path, "the cart, made or brought up to date", metavar="FILE")
    to_script: Path | None = option(
        None,
        Path,
        "write a Python file that brings it all home by itself, with checks and resume, where "
        "nothing but Python is",
        metavar="FILE.py",
    )
    add: bool = flag("add sources to a cart that has files of others")
