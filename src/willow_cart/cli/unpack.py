"""`unpack`: take out what is in archives that are here."""

from __future__ import annotations

import argparse
from pathlib import Path

from willow_cart.cli.options import add_choosing, make_choosing
from willow_cart.cli.unpacking import add_unpacking, make_unpacking, show_unpacked

BRIEF = "take out what is in archives that were hauled, or lie anywhere here"
DESCRIPTION = (
    "Unpack archives: zip, tar (also packed by gzip, bzip2, xz or Zstandard), and single packed"
    " files. Of a folder that was hauled into all its archives, or those that are chosen. Nothing"
    " gets out of its folder, and the ledger knows of every file what archive it was in. Run again,"
    " only what is new is unpacked."
)


def add_options(command: argparse.ArgumentParser) -> None:
    """Add what unpack understands."""
    command.add_argument(
        "archives",
        nargs="+",
        type=Path,
        metavar="DIR|ARCHIVE",
        help="a folder that was hauled into, or an archive",
    )
    command.add_argument(
        "--into",
        type=Path,
        metavar="DIR",
        help="the folder to unpack archives into (that which they were hauled into, or lie in)",
    )
    command.add_argument(
        "--name-parts",
        default="",
        metavar="REGEX",
        help="cuts parts out of names for --unpack-to, as for --file-as",
    )
    add_unpacking(command, "")
    add_choosing(command)


def run(args: argparse.Namespace) -> int:
    """Unpack, and account for it."""
    from willow_cart.cli.running import shown_command, stoppable
    from willow_cart.cli.telling import tell
    from willow_cart.cli.view import PlainView
    from willow_cart.hauling import unpack

    wish = make_unpacking(args, [])
    choosing = make_choosing(args)
    with stoppable() as stop:
        account = unpack(
            args.archives,
            args.into,
            wish,
            choosing,
            command=shown_command(args),
            observer=PlainView(),
            stop=stop,
        )
    show_unpacked(account)
    if account.interrupted:
        tell("stopped before all was unpacked; the same command goes on")
    return account.exit_code
