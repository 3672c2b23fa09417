"""`demo`: the full example."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.options.option import flag, option
from willow_cart.options.readers import port
from willow_cart.requests.request import Request


@dataclass(frozen=True, kw_only=True)
class DemoRequest(Request):
    """What `demo` is asked for."""

    command = "demo"

    into: Path | None = option(
        None,
        Path,
        "where the example is run (a new temporary folder, which is kept)",
        metavar="DIR",
    )
    serve: bool = flag("only start the stand-ins, and keep them up")
    port: int = option(
        0, port, "the port of the web server, with --serve (a free one)", metavar="N"
    )
