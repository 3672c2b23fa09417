"""Data frames for results."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import fields
from typing import TYPE_CHECKING

from willow_cart.ledger.receipt import ReceiptRow

if TYPE_CHECKING:
    import pandas as pd


def frame(
    columns: Sequence[str],
    rows: Iterable[Sequence[object]],
    kinds: Mapping[str, str] | None = None,
) -> pd.DataFrame:
    """Return a data frame.

    Args:
        columns: their names.
        rows: a cell for each column.
        kinds: the types of columns of which pandas would make something else.
    """
    import pandas as pd  # only who uses it waits for it

    made = pd.DataFrame.from_records([tuple(row) for row in rows], columns=list(columns))
    return made.astype(dict(kinds or {}))


def frame_of_receipt(rows: Iterable[ReceiptRow]) -> pd.DataFrame:
    """Return a row per file, with the columns of `receipt --csv`; sizes are in bytes."""
    names = [each.name for each in fields(ReceiptRow)]
    cells = ([getattr(row, name) for name in names] for row in rows)
    return frame(names, cells, {"size": "Int64"})
