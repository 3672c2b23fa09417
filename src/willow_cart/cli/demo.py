"""`demo`: start the stand-ins and run the full example."""

from __future__ import annotations

import argparse
import re
from pathlib import Path

from willow_cart.exits import Exit

BRIEF = "run the full example against stand-in servers on this machine"
DESCRIPTION = (
    "Start stand-ins for the made-up Harrowmere Wetland Trust's web server, its contractor's FTP"
    " outbox and its object store on this machine and run the full example against them, or keep"
    " them up to play with. Needs no network."
)


def add_options(command: argparse.ArgumentParser) -> None:
    """Add what demo understands."""
    command.add_argument(
        "--into",
        type=Path,
        metavar="DIR",
        help="where the example is run (a new temporary folder, which is kept)",
    )
    command.add_argument(
        "--serve", action="store_true", help="only start the stand-ins, and keep them up"
    )
    command.add_argument(
        "--port",
        type=_port,
        default=0,
        metavar="N",
        help="the port of the web server, with --serve (a free one)",
    )


def _port(text: str) -> int:
    number = int(text) if re.fullmatch(r"\d{1,5}", text) else 65536
    if number > 65535:
        raise argparse.ArgumentTypeError(f"{text:.60} is not a port from 0 to 65535")
    return number


def run(args: argparse.Namespace) -> int:
    """Run the example, or serve."""
    import tempfile

    from willow_cart.demo.example import run_example, serve

    folder = args.into or Path(tempfile.mkdtemp(prefix="harrowmere-"))
    if args.serve:
        serve(folder, args.port)
        return Exit.GOOD
    return run_example(folder)
