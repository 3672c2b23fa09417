"""`weigh`: counts and sizes of a cart."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.option import flag, option
from willow_cart.options.readers import drives, few, speed
from willow_cart.options.shared import CartArgument, OverwriteOption
from willow_cart.requests.request import ReachingRequest


@dataclass(frozen=True, kw_only=True)
class WeighRequest(CartArgument, OverwriteOption, ReachingRequest):
    """What `weigh` is asked for."""

    command = "weigh"

    into: Path = option(
        Path(),
        Path,
        "where it is to be hauled: its free space, what is there already, the speed of the last "
        "haul (the current folder)",
        metavar="DIR",
    )
    at: int | None = option(
        None, speed, "how long it takes at a speed, such as 20MB/s", metavar="SPEED"
    )
    ask_sizes: bool = flag(
        "ask the servers for sizes that are not known, one request a file, and note them in the "
        "cart"
    )
    drives: tuple[int, ...] | None = option(
        None,
        drives,
        "write a cart for each drive of these sizes, whole folders together where they fit",
        metavar="SIZE,...",
        one_of="parts",
    )
    shares: int | None = option(
        None, few, "write N carts of about the same size", metavar="N", one_of="parts"
    )
    figure: Path | None = option(None, Path, "draw it: FILE.png or .svg", metavar="FILE")
    json: bool = flag("write JSON for other programs")
