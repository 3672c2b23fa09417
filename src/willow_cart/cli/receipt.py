"""`receipt`: the account of a haul."""

from __future__ import annotations

import argparse
import csv
import json
import sys
from dataclasses import asdict, fields
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cli.options import add_formats, positive
from willow_cart.exits import Exit

if TYPE_CHECKING:
    from willow_cart.records import Receipt

NAME = "receipt"
BRIEF = "the account of the last haul into a folder, or of any before it"
DESCRIPTION = (
    "Show what a haul brought: each file with its state, size, checksum and how it was checked."
    " The figures are read from the ledger in the folder."
)


def add_options(command: argparse.ArgumentParser) -> None:
    """Add what receipt understands."""
    command.add_argument(
        "folder",
        nargs="?",
        type=Path,
        default=Path(),
        metavar="DIR",
        help="a folder that was hauled into (the current one)",
    )
    command.add_argument(
        "--run",
        dest="number",
        type=positive,
        metavar="N",
        help="the haul with this number, not the last one",
    )
    add_formats(command)


def run(args: argparse.Namespace) -> int:
    """Read the receipt and show it."""
    from willow_cart.records import read_receipt

    receipt = read_receipt(args.folder, args.number)
    if args.json:
        print(json.dumps(_as_json(receipt), ensure_ascii=False, indent=2))
    elif args.csv:
        _write_csv(receipt)
    else:
        _show(receipt)
    return Exit.GOOD


def _as_json(receipt: Receipt) -> dict[str, object]:
    return {
        "run": receipt.run,
        "command": receipt.command,
        "started": receipt.started,
        "ended": receipt.ended,
        "exit_code": receipt.exit_code,
        "counts": dict(receipt.counts),
        "received": receipt.received,
        "files": [asdict(row) for row in receipt.rows],
    }


def _write_csv(receipt: Receipt) -> None:
    from willow_cart.cart import cover
    from willow_cart.records import Row

    writer = csv.writer(sys.stdout)
    writer.writerow(field.name for field in fields(Row))
    for row in receipt.rows:
        cells = asdict(row).values()
        writer.writerow("" if cell is None else cover(str(cell)) for cell in cells)


def _when(receipt: Receipt) -> str:
    """When a run was, for people: in UTC, as the ledger has it."""
    from willow_cart.units import format_duration

    began = datetime.fromisoformat(receipt.started)
    if receipt.ended is None:
        return f"{began:%Y-%m-%d %H:%M} UTC, cut off before its end"
    seconds = (datetime.fromisoformat(receipt.ended) - began).total_seconds()
    return f"{began:%Y-%m-%d %H:%M} UTC, took {format_duration(seconds)}"


def _show(receipt: Receipt) -> None:
    from willow_cart.cli.screen import show_line, show_table
    from willow_cart.cli.telling import counted
    from willow_cart.units import format_size

    show_line(f"Run {receipt.run}: {receipt.command}")
    show_line(_when(receipt), dim=True)
    show_line("")
    rows = [
        [
            str(row.number),
            row.state,
            row.path,
            "" if row.size is None else format_size(row.size),
            row.verdict or "",
            (row.sha256 or "")[:12],
        ]
        for row in receipt.rows
    ]
    columns = ("no.", "state", "path", "size", "checked by", "sha256")
    show_table(columns, rows, numeric=("no.", "size"))
    for row in receipt.rows:
        if row.reason:
            show_line(f"{row.path}: {row.reason}")
        elif row.resumed:
            show_line(f"{row.path}: resumed at {format_size(row.resumed)}", dim=True)
    counts = counted(len(receipt.rows), receipt.counts)
    show_line(f"{counts}; {format_size(receipt.received)} received")
