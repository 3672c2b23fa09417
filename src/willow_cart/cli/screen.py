"""Print tables and lines on standard output."""

from __future__ import annotations

import csv
import os
import sys
import textwrap
from collections.abc import Iterable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, TextIO

from willow_cart.cart.sheet import cover
from willow_cart.model import State
from willow_cart.platform import processes
from willow_cart.structs import Record, field
from willow_cart.units import printable, printable_lines

if TYPE_CHECKING:
    from rich.table import Table


def wrapped(line: str, stream: TextIO) -> str:
    """Wrap a line at words to the width of a terminal; return it unchanged for other streams.

    Words that are longer than a line, such as addresses, are left for the terminal to break, so
    that they can be copied whole.
    """
    try:
        width = os.get_terminal_size(stream.fileno()).columns if stream.isatty() else 0
    except (OSError, ValueError):
        return line
    if not width or len(line) <= width:
        return line
    return textwrap.fill(line, width, break_long_words=False, break_on_hyphens=False)


MAX_DRAWN_ROWS = 2000
"""As many rows are drawn on a terminal; more are written as plain lines.

Drawing takes a third of a millisecond a row, which is nothing for what a user reads and half a
minute for rows that are never read.
"""


class Branch(Record):
    """A line of a tree, with the branches below it.

    Attributes:
        name: of the entry.
        note: what is after it, set back.
        branches: the lines below.
    """

    name: str
    note: str = ""
    branches: list[Branch] = field(default_factory=list)


_STYLES: dict[str, str] = {
    "fine": "green",
    "unsure": "yellow",
    "changed": "bold red",
    "broken": "bold red",
    "missing": "bold yellow",
    "gone": "bold yellow",
    "newer": "yellow",
    "moved": "yellow",
    "not stated": "yellow",
    "unknown": "dim",
    State.ARRIVED.label: "green",
    State.UNCHANGED.label: "dim",
    State.HERE.label: "dim",
    State.FAILED.label: "bold yellow",
    State.REFUSED.label: "bold red",
}


def show_table(
    columns: Sequence[str], rows: Sequence[Sequence[str]], numeric: Sequence[str] = ()
) -> None:
    """Print a table: fitted to the terminal, or in full without one.

    Args:
        columns: their headings; `state` is coloured by its value.
        rows: a cell for each column.
        numeric: the columns that are set flush right.
    """
    columns, numeric = [*map(printable, columns)], [*map(printable, numeric)]
    rows = [[printable(cell) for cell in row] for row in rows]
    if sys.stdout.isatty() and len(rows) <= MAX_DRAWN_ROWS:
        _draw(columns, rows, numeric)
    else:
        _write(columns, rows, numeric)
    print()


def show_tables(
    tables: Iterable[tuple[Sequence[str], Sequence[Sequence[str]]]], numeric: Sequence[str] = ()
) -> None:
    """Print several short tables, side by side if the terminal is wide enough.

    Args:
        tables: each its headings and its rows.
        numeric: the columns that are set flush right.
    """
    if not sys.stdout.isatty():
        for columns, rows in tables:
            show_table(columns, rows, numeric)
        return
    from rich.columns import Columns
    from rich.console import Console
    from rich.measure import Measurement
    from rich.padding import Padding

    console = Console(highlight=False)
    row: list[Padding] = []
    room = console.width
    for columns, cells in tables:
        printed = [[*map(printable, each)] for each in cells]
        table = Padding(_table([*map(printable, columns)], printed, numeric), (0, 4, 1, 0))
        width = Measurement.get(console, console.options, table).maximum
        if row and width > room:
            console.print(Columns(row, padding=0))
            row, room = [], console.width
        row.append(table)
        room -= width
    console.print(Columns(row, padding=0))


def show_line(line: str, *, dim: bool = False) -> None:
    """Print a line, wrapped at words on a terminal."""
    line = wrapped(printable(line), sys.stdout)
    print(f"\x1b[2m{line}\x1b[0m" if dim and processes.has_styles(sys.stdout) else line)


def show_text(text: str, *, end: str = "\n") -> None:
    """Print lines in full."""
    print(printable_lines(text), end=end)


class Shown:
    """Standard output as a file whose lines are printable."""

    def write(self, text: str) -> int:
        """Print a part of the text."""
        show_text(text, end="")
        return len(text)


def show_csv(rows: Iterable[Iterable[object]]) -> None:
    """Print rows as CSV (RFC 4180), with cells that no spreadsheet runs."""
    writer = csv.writer(Shown())
    for row in rows:
        writer.writerow(["" if cell is None else cover(str(cell)) for cell in row])


def show_tree(roots: Iterable[Branch]) -> None:
    """Draw trees with one line per branch; nothing is cut."""
    from rich.console import Console
    from rich.text import Text
    from rich.tree import Tree

    console = Console(highlight=False, soft_wrap=True)

    def label(branch: Branch) -> Text:
        line = Text(printable(branch.name), "bold" if branch.branches else "")
        return line.append(f"  {printable(branch.note)}", "dim not bold") if branch.note else line

    for root in roots:
        top = Tree(label(root), guide_style="dim")
        growing = [(root, top)]
        while growing:
            branch, drawn = growing.pop()
            growing += [(each, drawn.add(label(each))) for each in branch.branches]
        console.print(top)
    print()


def _draw(columns: Sequence[str], rows: Sequence[Sequence[str]], numeric: Sequence[str]) -> None:
    from rich.console import Console

    Console(highlight=False).print(_table(columns, rows, numeric))


def _table(columns: Sequence[str], rows: Sequence[Sequence[str]], numeric: Sequence[str]) -> Table:
    from rich import box
    from rich.table import Table
    from rich.text import Text

    table = Table(box=box.SIMPLE_HEAD, show_edge=False, pad_edge=False, header_style="bold")
    for column in columns:
        right = column in numeric
        table.add_column(
            column, justify="right" if right else "left", no_wrap=right, overflow="fold"
        )
    for row in rows:
        table.add_row(
            *(
                Text(cell, _STYLES.get(cell, "") if column == "state" else "")
                for column, cell in zip(columns, row, strict=True)
            )
        )
    return table


def _write(columns: Sequence[str], rows: Sequence[Sequence[str]], numeric: Sequence[str]) -> None:
    """Print aligned text in full, for pipes."""
    show_text("\n".join(aligned(columns, rows, numeric)))


def aligned(
    columns: Sequence[str], rows: Sequence[Sequence[str]], numeric: Sequence[str]
) -> list[str]:
    """Return a table as lines of text, the headings first; see `show_table`."""
    widths = [max(map(len, cells)) for cells in zip(columns, *rows, strict=True)]
    sides = [">" if column in numeric else "<" for column in columns]
    line = "   ".join(f"{{:{side}{width}}}" for side, width in zip(sides, widths, strict=True))
    return [line.format(*row).rstrip() for row in (columns, *rows)]


def tell(line: object) -> None:
    """Print one line on standard error, prefixed with the program's name."""
    # It may have been closed; work continues.
    with suppress(OSError):
        print(wrapped(f"willow-cart: {printable(str(line))}", sys.stderr), file=sys.stderr)


def pass_on(text: str) -> None:
    """Print lines of a log on standard error as they are."""
    with suppress(OSError):
        sys.stderr.write(printable_lines(text))


def tell_each(lines: Iterable[object]) -> None:
    """Print lines on standard error."""
    for line in lines:
        tell(line)
