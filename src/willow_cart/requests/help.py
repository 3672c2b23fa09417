"""The request of `help`."""

from __future__ import annotations

from dataclasses import dataclass

from willow_cart.options.option import argument
from willow_cart.requests.request import Request


@dataclass(frozen=True, kw_only=True)
class HelpRequest(Request):
    """A request for the guide."""

    command = "help"

    topic: tuple[str, ...] = argument(
        (),
        str,
        "the topic: errands, checksums, or an option without its dashes, such as since",
        metavar="TOPIC",
        nargs="*",
    )
