"""The request of `help`."""

from __future__ import annotations

from willow_cart.options.option import argument
from willow_cart.requests.request import Request


class HelpRequest(Request):
    """A request for the guide."""

    command = "help"

    topic: tuple[str, ...] = argument(
        (),
        str,
        "a topic, such as errands, or words to look for: slow server",
        metavar="WORD",
        nargs="*",
    )
