"""`combine`: combine tables."""

from __future__ import annotations

from collections.abc import Sequence

from willow_cart.cli.console import Console
from willow_cart.cli.screen import show_line, show_table, tell_each
from willow_cart.commands.combine import CombineRequest, CombineResult, combine
from willow_cart.tables import Combined
from willow_cart.units import count_of

# So much of a cell is shown.
_MAX_CELL_CHARACTERS = 28


def run(request: CombineRequest) -> int:
    """Combine tables and print the result."""
    done = combine(request, Console())
    show(done)
    return done.exit_code


def show(done: CombineResult, *, brief: bool = False) -> None:
    """Print the result: the first rows and the columns, unless brief, and the counts."""
    combined = done.combined
    tell_each([*combined.troubles, *combined.notes])
    if brief:
        show_line(done.summary)
        return
    if combined.first:
        rows = [[_shown(cell) for cell in row] for row in combined.first]
        show_table(list(combined.columns), rows, numeric=_numeric(combined))
    cells = [
        [
            name,
            str(told.type),
            f"{told.filled:,}",
            f"{told.empty:,}" if told.empty else "",
            _shown(told.least),
            _shown(told.greatest),
        ]
        for name, told in combined.columns.items()
    ]
    if combined.rows:
        columns = ["column", "type", "cells", "empty", "minimum", "maximum"]
        if not any(row[3] for row in cells):
            del columns[3]
            cells = [[*row[:3], *row[4:]] for row in cells]
        show_table(columns, cells, numeric=("cells", "empty", "minimum", "maximum"))
    for dialect, files in combined.dialects.most_common():
        show_line(f"{count_of(files, 'table')}: {dialect}", dim=True)
    show_line(done.summary)


def _numeric(combined: Combined) -> Sequence[str]:
    return [name for name, told in combined.columns.items() if str(told.type) in _NUMBERS]


_NUMBERS = ("integer", "number")


def _shown(cell: object) -> str:
    text = "" if cell is None else str(cell)
    return text if len(text) <= _MAX_CELL_CHARACTERS else f"{text[: _MAX_CELL_CHARACTERS - 1]}…"
