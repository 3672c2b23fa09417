"""`demo`: run the full example, or serve its data."""

from __future__ import annotations

import tempfile
from pathlib import Path

from willow_cart.demo.example import run_example, serve
from willow_cart.exits import Exit
from willow_cart.requests.demo import DemoRequest


def run(request: DemoRequest) -> int:
    """Run the example, or serve."""
    folder = request.into or Path(tempfile.mkdtemp(prefix="harrowmere-"))
    if request.serve:
        serve(folder, request.port)
        return Exit.GOOD
    return run_example(folder)
