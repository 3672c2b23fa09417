"""The request of `knock`."""

from __future__ import annotations

from willow_cart.options.looking import KindOption
from willow_cart.options.option import argument, flag
from willow_cart.requests.request import ReachingRequest


class KnockRequest(ReachingRequest):
    """A request to test a server."""

    command = "knock"

    sources: tuple[str, ...] = argument((), str, "the place", metavar="ADDRESS", nargs=1)
    json: bool = flag("print JSON")
    looking: KindOption = KindOption()
