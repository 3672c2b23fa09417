"""`runs`: running and past hauls."""

from __future__ import annotations

from dataclasses import dataclass

from willow_cart.options.option import flag, option
from willow_cart.options.readers import positive
from willow_cart.requests.request import Request


@dataclass(frozen=True, kw_only=True)
class RunsRequest(Request):
    """What `runs` is asked for."""

    command = "runs"

    watch: int | None = option(
        None,
        positive,
        "show how far a haul is until it ends; Ctrl-C ends the watching alone",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    stop: int | None = option(
        None,
        positive,
        "have a haul end: it keeps what has come, and its command goes on from there",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    log: int | None = option(
        None,
        positive,
        "what a haul in the background has said so far",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    json: bool = flag("list them as JSON", one_of="what")
