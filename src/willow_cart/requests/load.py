"""The request of `load`."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.option import flag, option
from willow_cart.options.reaching import PatienceOptions
from willow_cart.options.shared import (
    LanesOption,
    OverwriteOption,
    WriteErrandOption,
)
from willow_cart.requests.request import LookingRequest


@dataclass(frozen=True, kw_only=True)
class LoadRequest(
    OverwriteOption,
    WriteErrandOption,
    LanesOption,
    LookingRequest,
    PatienceOptions,
):
    """A request to load a cart."""

    command = "load"

    cart: Path | None = option(None, Path, "the cart to create or update", metavar="FILE")
    delimiter: str = option(
        "",
        str,
        "how to write the cart: semicolon opens in spreadsheets of many European countries "
        "(comma, or tab for a name that ends in .tsv)",
        choices=("comma", "semicolon", "tab"),
    )
    to_script: Path | None = option(
        None,
        Path,
        "write a Python script that hauls the cart on a machine that has only Python, with "
        "checks and resume",
        metavar="FILE.py",
    )
    add: bool = flag("add sources to a cart that was loaded from others")
