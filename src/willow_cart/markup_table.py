"""Format tables as HTML for notebooks."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape
from itertools import islice

# Data frames have all rows.
_MAX_ROWS = 10

_NUMERIC = ("number", "size")


def html_table(
    brief: str, columns: Sequence[str], rows: Iterable[Sequence[object]], total: int
) -> str:
    """Return the first rows of a table below a summary line.

    Args:
        brief: that line.
        columns: the headings.
        rows: a cell for each column.
        total: how many rows there are.
    """
    # Notebooks set everything flush right, which is for numbers alone.
    sides = ["" if name in _NUMERIC else ' style="text-align: left"' for name in columns]
    head = "".join(
        f"<th{side}>{escape(name)}</th>" for side, name in zip(sides, columns, strict=True)
    )
    lines = [
        "<tr>"
        + "".join(
            f"<td{side}>{escape(str(cell))}</td>" for side, cell in zip(sides, row, strict=True)
        )
        + "</tr>"
        for row in islice(rows, _MAX_ROWS)
    ]
    more = total - len(lines)
    tail = f"<p>... and {more:,} more</p>" if more else ""
    return f"<p>{escape(brief)}</p><table><tr>{head}</tr>{''.join(lines)}</table>{tail}"
