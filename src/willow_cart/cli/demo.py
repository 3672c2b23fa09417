"""`demo`: start the stand-ins and run the full example."""

from __future__ import annotations

import argparse
from pathlib import Path

from willow_cart.exits import Exit


def run(args: argparse.Namespace) -> int:
    """Run the example, or serve."""
    import tempfile

    from willow_cart.demo.example import run_example, serve

    folder = args.into or Path(tempfile.mkdtemp(prefix="harrowmere-"))
    if args.serve:
        serve(folder, args.port)
        return Exit.GOOD
    return run_example(folder)
