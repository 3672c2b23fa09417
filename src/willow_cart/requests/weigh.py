"""The request of `weigh`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.options.option import flag, option
from willow_cart.options.readers import drives, few, speed
from willow_cart.options.shared import CART, OVERWRITE
from willow_cart.requests.request import ReachingRequest


class WeighRequest(ReachingRequest):
    """A request to total a cart."""

    command = "weigh"

    into: Path = option(
        Path(),
        Path,
        "the planned destination, for free space, files that are already there, and the speed of "
        "the last haul (the current folder)",
        metavar="DIR",
    )
    at: int | None = option(
        None, speed, "estimate the duration at this speed, such as 20MB/s", metavar="SPEED"
    )
    ask_sizes: bool = flag(
        "ask the servers for unknown sizes, with one request per file, and store them in the cart"
    )
    drives: tuple[int, ...] | None = option(
        None,
        drives,
        "write one cart per drive of these sizes; folders stay together where they fit",
        metavar="SIZE,...",
        one_of="parts",
    )
    shares: int | None = option(
        None, few, "write N carts of about equal size", metavar="N", one_of="parts"
    )
    figure: Path | None = option(None, Path, "draw a figure: FILE.png or FILE.svg", metavar="FILE")
    json: bool = flag("print JSON")
    cart: Path = CART
    overwrite: bool = OVERWRITE
