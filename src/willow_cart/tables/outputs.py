"""The output formats: SQLite, DuckDB, Parquet, CSV and JSON Lines.

All of them are replaced or changed in one step at the end, or not at all, and keep the rows of
files that are not among those of this time. A format is a class, and its endings in `FORMATS`.
"""

from __future__ import annotations

import csv
import json
from collections.abc import Collection, Iterable, Iterator, Mapping
from contextlib import ExitStack
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.errors import BadOption, CannotStore, plainly
from willow_cart.replacing import replacing, require_output
from willow_cart.tables.database import SqliteOutput
from willow_cart.tables.duckdb_file import DuckdbOutput
from willow_cart.tables.output import SOURCE, Output, require_source, rows_of
from willow_cart.tables.parquet_file import ParquetOutput
from willow_cart.tables.types import Type

if TYPE_CHECKING:
    import pyarrow as pa


class CsvOutput(Output):
    """A text table (RFC 4180) in UTF-8."""

    def before(self) -> dict[str, Type]:
        """Return the columns of the file; their types are unknown."""
        if self.anew or not self.path.exists():
            return {}
        with ExitStack() as stack:
            header = next(csv.reader(_open_earlier(self.path, stack) or ()), [])
        require_source(self.path, header)
        return dict.fromkeys(header, Type.EMPTY)

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Prepare for the rows of some files; see `Output.begin`."""
        # It is closed before it is replaced: an open file cannot be, on Windows.
        with ExitStack() as reading:
            earlier = None if self.anew else _open_earlier(self.path, reading)
            header: list[str] = []
            if earlier is not None:
                reader = csv.reader(earlier)
                header = next(reader, [])
                require_source(self.path, header)
            whole = dict.fromkeys(header, Type.TEXT) | columns
            text = self._stack.enter_context(replacing(self.path, overwrite=self.overwrite))
            self._writer = csv.writer(text, lineterminator="\r\n")
            self._writer.writerow(whole)
            if earlier is not None:
                place = header.index(SOURCE)
                missing = [""] * (len(whole) - len(header))
                for row in reader:
                    if row[place] not in files:
                        self._writer.writerow(row + missing)
                        self.kept += 1
        return whole

    def write(self, rows: pa.RecordBatch) -> None:
        """Write rows."""
        self._writer.writerows(rows_of(rows))


class JsonLinesOutput(Output):
    """JSON objects, one per line (RFC 8259), in UTF-8; empty cells are left out."""

    def require_own(self) -> None:
        """Refuse a file that was not written by this program; see `Output.require_own`."""
        with ExitStack() as stack:
            for line in islice(_open_earlier(self.path, stack) or (), 1):
                try:
                    require_source(self.path, json.loads(line))
                except (ValueError, TypeError):
                    require_source(self.path, [])

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Prepare for the rows of some files; see `Output.begin`."""
        with ExitStack() as reading:
            earlier = None if self.anew else _open_earlier(self.path, reading)
            self._text = self._stack.enter_context(replacing(self.path, overwrite=self.overwrite))
            self._names = list(columns)
            for line in earlier or ():
                try:
                    source = json.loads(line)[SOURCE]
                except (ValueError, KeyError, TypeError):
                    require_source(self.path, [])
                if source not in files:
                    self._text.write(line)
                    self.kept += 1
        return columns

    def write(self, rows: pa.RecordBatch) -> None:
        """Write rows."""
        encode = json.JSONEncoder(ensure_ascii=False).encode
        names = self._names
        for row in rows_of(rows):
            cells = zip(names, row, strict=True)
            said = {name: value for name, value in cells if value is not None}
            self._text.write(f"{encode(said)}\n")


FORMATS: Mapping[str, type[Output]] = {
    ".sqlite": SqliteOutput,
    ".sqlite3": SqliteOutput,
    ".db": SqliteOutput,
    ".duckdb": DuckdbOutput,
    ".parquet": ParquetOutput,
    ".csv": CsvOutput,
    ".jsonl": JsonLinesOutput,
}
"""The formats by the endings of their files; the first ending of each is reported."""


def endings_told() -> str:
    """Return the supported extensions as a text."""
    first = {form: ending for ending, form in reversed(list(FORMATS.items()))}
    *others, last = reversed(list(first.values()))
    return f"{', '.join(others)} or {last}"


def require_form(path: Path, table: str = "") -> None:
    """Refuse a name with an unknown extension before any work is done.

    Raises:
        BadOption: it says nothing, or a table is named where there are none.
    """
    ending = path.suffix.lower()
    if ending not in FORMATS:
        raise BadOption(f"--to {path}", "unknown file type", f"use {endings_told()}")
    if table and not FORMATS[ending].has_tables:
        raise BadOption("--table", "is for databases", "leave it out, or name a .sqlite file")


def output_for(
    path: Path, table: str = "", *, anew: bool = False, overwrite: bool = False
) -> Output:
    """Return the output for a file name.

    Args:
        path: of the file.
        table: of a database; empty for the file's own name.
        anew: whether to start over.
        overwrite: whether to replace what was not put together here.

    Raises:
        BadOption: the name says nothing, or a table is named where there are none.
        NoTable: it is not a database, or its table was not written by combine.
    """
    require_form(path, table)
    require_output(path, lambda _: True, overwrite=overwrite)
    form = FORMATS[path.suffix.lower()]
    anew = anew or overwrite
    if anew and not (overwrite or form.has_tables):
        form(path).require_own()
    return form(path, table=table, anew=anew, overwrite=overwrite)


def _open_earlier(path: Path, stack: ExitStack) -> Iterable[str] | None:
    """Return the lines of an existing file, or None."""
    try:
        text = path.open(encoding="utf-8", newline="")
    except FileNotFoundError:
        return None
    except OSError as error:
        raise CannotStore(str(path), f"cannot be read: {plainly(error)}", "name another") from None
    return _checked(stack.enter_context(text), path)


def _checked(lines: Iterable[str], path: Path) -> Iterator[str]:
    try:
        yield from lines
    except UnicodeDecodeError:
        require_source(path, [])
