"""The request of `peek`."""

from __future__ import annotations

from willow_cart.options.option import argument, flag, option
from willow_cart.options.readers import whole
from willow_cart.requests.request import ReachingRequest


class PeekRequest(ReachingRequest):
    """A request to look into files."""

    command = "peek"

    sources: tuple[str, ...] = argument(
        (), str, "addresses or paths of files", metavar="ADDRESS", nargs="+"
    )
    rows: int = option(5, whole, "show this many rows, records or members of each (5)", metavar="N")
    json: bool = flag("print JSON")
