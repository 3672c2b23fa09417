"""Data frames for results, and the paths in archives that were unpacked."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.ledger.receipt import ReceiptRow
from willow_cart.peeking.content import REAL_NUMBERS, WHOLE_NUMBERS

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


def typed_frame(columns: Sequence[tuple[str, str]], rows: Iterable[Sequence[str]]) -> pd.DataFrame:
    """Return a data frame of texts in which numbers and times have their types.

    Args:
        columns: their names and types, as `peek` tells them.
        rows: a text for each column.
    """
    import pandas as pd

    made = frame([name for name, _ in columns], rows)
    for place, (_, type_) in enumerate(columns):
        cells = made.iloc[:, place]
        if type_.startswith("time"):
            zoned = type_ == "time with zone"
            times = pd.to_datetime(cells, format="ISO8601", errors="coerce", utc=zoned)
            made.isetitem(place, times.array)
        elif type_.startswith(WHOLE_NUMBERS):
            made.isetitem(place, pd.to_numeric(cells, errors="coerce").astype("Int64").array)
        elif type_.startswith(REAL_NUMBERS):
            points = cells.str.replace(",", ".", regex=False)
            made.isetitem(place, pd.to_numeric(points, errors="coerce").astype("float64").array)
    return made


def frame_of_receipt(rows: Iterable[ReceiptRow]) -> pd.DataFrame:
    """Return a row per file, with the columns of `receipt --csv`; sizes are in bytes."""
    names = ReceiptRow.__struct_fields__
    cells = ([getattr(row, name) for name in names] for row in rows)
    return frame(names, cells, {"size": "Int64"})


def paths_of_members(archives: Iterable[tuple[Path, Arrival]]) -> tuple[Path, ...]:
    """Return the paths of the files from archives that exist, in order.

    Args:
        archives: each with its destination.

    Raises:
        UnreadableLedger: a ledger there cannot be read.
    """
    by_folder: defaultdict[Path, list[Arrival]] = defaultdict(list)
    for folder, archive in archives:
        by_folder[folder].append(archive)
    paths: list[Path] = []
    for folder, arrivals in by_folder.items():
        with Ledger(ledger_path(folder)) as ledger:
            for archive in arrivals:
                paths += (folder / each.lies_at for each in ledger.members_of(archive))
    return tuple(path for path in paths if path.is_file())
