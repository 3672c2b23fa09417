"""The words for what is in a file."""

from __future__ import annotations

from collections.abc import Sequence

from willow_cart.peeking.content import REAL_NUMBERS, WHOLE_NUMBERS, Content, PeekedColumn
from willow_cart.peeking.peek import Peeked
from willow_cart.redaction import without_secrets
from willow_cart.units import format_size

# A table with more columns is shown with a line for each of them.
_MAX_COLUMNS = 8

_MAX_CELL_CHARACTERS = 60


def headline(peeked: Peeked) -> str:
    """Return what a file is, with its size and date."""
    parts = [peeked.content.form]
    if peeked.size is not None:
        parts.append(format_size(peeked.size))
    if peeked.modified is not None:
        parts.append(f"modified {peeked.modified:%Y-%m-%d}")
    return f"{without_secrets(peeked.address)}: {', '.join(parts)}"


def facts_line(content: Content) -> str:
    """Return the facts about a content in one line; empty if there are none."""
    told = (
        f"{name}: {value:,}" if isinstance(value, int) else f"{name}: {value}"
        for name, value in content.facts.items()
    )
    return "; ".join(told)


def fetched_line(peeked: Peeked) -> str:
    """Return how much of a file was fetched."""
    whole = f" of {format_size(peeked.size)}" if peeked.size is not None else ""
    return f"{format_size(peeked.fetched)}{whole} fetched"


def shown_table(
    content: Content,
) -> tuple[Sequence[str], Sequence[Sequence[str]], Sequence[str]]:
    """Return the headings and cells of the first rows, and the headings of numbers.

    A table of many columns is turned, so that each of them has a line.
    """
    columns = content.columns
    cells = [[_cut(cell) for cell in row] for row in content.rows]
    if len(columns) <= _MAX_COLUMNS:
        numbers = [
            _heading(each) for each in columns if each.type.startswith(WHOLE_NUMBERS + REAL_NUMBERS)
        ]
        return [_heading(each) for each in columns], cells, numbers
    counted = [f"{content.row_kind.partition(' ')[0]} {n}" for n in range(1, len(cells) + 1)]
    turned = zip(*cells, strict=True) if cells else [()] * len(columns)
    return (
        ["column", "type", *counted],
        [[each.name, each.type, *values] for each, values in zip(columns, turned, strict=True)],
        (),
    )


def _heading(column: PeekedColumn) -> str:
    return f"{column.name} ({column.type})" if column.type else column.name


def _cut(cell: str) -> str:
    cell = " ".join(cell.split())
    return cell if len(cell) <= _MAX_CELL_CHARACTERS else f"{cell[: _MAX_CELL_CHARACTERS - 3]}..."
