"""The request of `runs`."""

from __future__ import annotations

from willow_cart.options.option import flag, option
from willow_cart.options.readers import positive
from willow_cart.requests.request import Request


class RunsRequest(Request):
    """A request about runs."""

    command = "runs"

    watch: int | None = option(
        None,
        positive,
        "show the progress of a haul until it ends; Ctrl-C only ends the display",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    stop: int | None = option(
        None,
        positive,
        "stop a haul; what has arrived is kept, and its command resumes it",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    log: int | None = option(
        None,
        positive,
        "print the output of a haul in the background",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    json: bool = flag("print JSON", one_of="what")
