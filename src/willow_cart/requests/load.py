"""The request of `load`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.options.option import flag, option
from willow_cart.options.reaching import PatienceOptions
from willow_cart.options.shared import LANES, OVERWRITE, WRITE_ERRAND
from willow_cart.requests.request import LookingRequest


class LoadRequest(LookingRequest):
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
    overwrite: bool = OVERWRITE
    write_errand: Path | None = WRITE_ERRAND
    lanes: int = LANES
    pace: PatienceOptions = PatienceOptions()
