"""A table as HTML, as notebooks show the values of their cells."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape
from itertools import islice

# So many rows are shown; whoever wants them all has data frames.
_MOST_SHOWN = 10


def html_table(
    brief: str, columns: Sequence[str], rows: Iterable[Sequence[str]], total: int
) -> str:
    """The first rows of a table under a line that sums it up.

    Args:
        brief: that line.
        columns: the headings.
        rows: a cell for each column.
        total: how many rows there are.
    """
    head = "".join(f"<th>{escape(name)}</th>" for name in columns)
    lines = [
        "<tr>" + "".join(f"<td>{escape(cell)}</td>" for cell in row) + "</tr>"
        for row in islice(rows, _MOST_SHOWN)
    ]
    more = total - len(lines)
    tail = f"<p>... and {more:,} more</p>" if more else ""
    return f"<p>{escape(brief)}</p><table><tr>{head}</tr>{''.join(lines)}</table>{tail}"
