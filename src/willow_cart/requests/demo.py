"""The request of `demo`."""

from __future__ import annotations

from pathlib import Path

from willow_cart.options.option import flag, option
from willow_cart.options.readers import port
from willow_cart.requests.request import Request


class DemoRequest(Request):
    """A request to run the demo."""

    command = "demo"

    into: Path | None = option(
        None,
        Path,
        "folder for the example (a new temporary folder, which is kept)",
        metavar="DIR",
    )
    serve: bool = flag("only start the servers, and keep them running")
    port: int = option(
        0, port, "port of the web server, with --serve (8031 if it is free)", metavar="N"
    )
