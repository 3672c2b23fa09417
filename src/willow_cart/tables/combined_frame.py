"""Read combined tables as data frames."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.tables.combined import Type
from willow_cart.tables.database import all_rows_of

if TYPE_CHECKING:
    import pandas as pd


def read_frame(path: Path, table: str, types: Mapping[str, Type]) -> pd.DataFrame:
    """Read a file that `combine` wrote.

    Args:
        path: its name says what it is.
        table: of a database; empty for the name of its file.
        types: what the columns hold, by their names; what is not among them is text.

    Returns:
        A frame in which texts stay texts (leading zeros, too), whole numbers are `Int64`, which
        can be missing, and times are timestamps, in UTC where their zone is known.
    """
    import pandas as pd  # only who uses it waits for it

    if path.suffix.lower() == ".parquet":
        return pd.read_parquet(path)
    if path.suffix.lower() == ".csv":
        read = pd.read_csv(path, dtype=str, keep_default_na=False, na_values=[""])
    elif path.suffix.lower() == ".jsonl":
        with path.open(encoding="utf-8") as lines:
            read = pd.DataFrame.from_records([*map(json.loads, lines)])
    elif path.suffix.lower() == ".duckdb":
        import duckdb

        with closing(duckdb.connect(str(path), read_only=True)) as database:
            read = database.sql(all_rows_of(table or path.stem)).df()
    else:
        with closing(sqlite3.connect(path)) as base:
            read = pd.read_sql_query(all_rows_of(table or path.stem), base)
    return typed(read, types)


def typed(frame: pd.DataFrame, types: Mapping[str, Type]) -> pd.DataFrame:
    """Return a frame with the given columns and their types.

    Args:
        frame: with texts, or values as they are stored.
        types: what the columns hold, by their names; what is not among them is text.
    """
    whole = frame.reindex(columns=list(dict.fromkeys([*types, *frame])))
    for column in [*whole]:
        whole[column] = _of_type(whole[column], types.get(column, Type.TEXT))
    return whole


def _of_type(column: pd.Series, type_: Type) -> pd.Series:
    import pandas as pd

    match type_:
        case Type.INTEGER | Type.LONG:
            return pd.to_numeric(column).astype("Int64")
        case Type.REAL:
            return pd.to_numeric(column).astype("float64")
        case Type.TIME | Type.ZONED:
            return pd.to_datetime(column, format="ISO8601", utc=type_ is Type.ZONED)
    return column
