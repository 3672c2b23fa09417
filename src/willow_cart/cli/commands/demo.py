"""`demo`: run the full example, or serve its data."""

from __future__ import annotations

import socket
import tempfile
from pathlib import Path

from willow_cart.commands.program import DemoRequest
from willow_cart.demo.example import run_example
from willow_cart.demo.serving import serve
from willow_cart.errors import Exit

# The examples in the help have it.
_USUAL_PORT = 8031


def _usual_port() -> int:
    """Return the port that the examples name, or 0 for any if it is taken."""
    with socket.socket() as probe:
        try:
            probe.bind(("127.0.0.1", _USUAL_PORT))
        except OSError:
            return 0
    return _USUAL_PORT


def run(request: DemoRequest) -> int:
    """Run the example, or serve."""
    folder = request.into or Path(tempfile.mkdtemp(prefix="harrowmere-"))
    if request.serve:
        serve(folder, request.port or _usual_port())
        return Exit.GOOD
    return run_example(folder)
