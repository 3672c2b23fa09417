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

from willow_cart.errors import BadOption, CannotStore, NoTable, plainly
from willow_cart.replacing import replacing, require_output
from willow_cart.tables.combined import Type
from willow_cart.tables.database import SqliteOutput
from willow_cart.tables.duckdb_file import DuckdbOutput
from willow_cart.tables.output import SOURCE, Output, joined, require_source, rows_of
from willow_cart.tables.parquet_file import ParquetOutput

if TYPE_CHECKING:
    import pyarrow as pa


class CsvOutput(Output):
    """A text table (RFC 4180) in UTF-8."""

    keeps_text = True

    def before(self) -> dict[str, Type]:
        """Return the columns of the file; their types are unknown."""
        if self.start_over or not self.path.exists():
            return {}
        with ExitStack() as stack:
            header, _ = self._read_earlier(stack)
        return dict.fromkeys(header, Type.EMPTY)

    def _read_earlier(self, stack: ExitStack) -> tuple[list[str], Iterator[list[str]]]:
        """Return the header of the existing file, and its rows.

        It may have been opened and saved: empty lines are passed over, a row that is longer or
        shorter than the header is refused.

        Raises:
            NoTable: it was not written by this program, or a row of it cannot be read.
        """
        lines = _open_earlier(self.path, stack)
        if lines is None:
            return [], iter(())
        csv.field_size_limit(_MAX_CELL_CHARACTERS)
        reader = csv.reader(lines, strict=True)
        try:
            header = next((row for row in reader if row), [])
        except csv.Error:
            header = []
        require_source(self.path, header)

        def rows() -> Iterator[list[str]]:
            try:
                for row in reader:
                    if not any(row):
                        continue
                    if len(row) != len(header):
                        why = f"line {reader.line_num:,} has {len(row)} cells, the header"
                        raise NoTable(str(self.path), f"{why} {len(header)}", _HOW_TO_MEND)
                    yield row
            except csv.Error as error:
                why = f"line {reader.line_num:,}: {error}"
                raise NoTable(str(self.path), why, _HOW_TO_MEND) from None

        return header, rows()

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Prepare for the rows of some files; see `Output.begin`."""
        # It is closed before it is replaced: an open file cannot be, on Windows.
        with ExitStack() as reading:
            header, earlier = ([], iter(())) if self.start_over else self._read_earlier(reading)
            whole = joined(dict.fromkeys(header, Type.EMPTY), columns)
            text = self._stack.enter_context(replacing(self.path, overwrite=self.overwrite))
            self._writer = csv.writer(text, lineterminator="\r\n")
            self._writer.writerow(whole)
            missing = [""] * (len(whole) - len(header))
            place = header.index(SOURCE) if header else 0
            for row in earlier:
                source = row[place]
                if source not in files:
                    self._writer.writerow(row + missing)
                    self.kept += 1
                    self.kept_of[source] += 1
        return whole

    def write(self, rows: pa.RecordBatch) -> None:
        """Write rows."""
        self._writer.writerows(rows_of(rows))


# The longest cell of an existing file: outlines of lakes are longer than the usual limit.
_MAX_CELL_CHARACTERS = 256 << 20

_HOW_TO_MEND = "correct it, or start over with --start-over"


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

    def before(self) -> dict[str, Type]:
        """Return the columns of the file; their types are unknown."""
        if self.start_over:
            return {}
        columns: dict[str, Type] = {}
        with ExitStack() as stack:
            for _, row in self._read_earlier(stack):
                columns.update(dict.fromkeys(row, Type.EMPTY))
        return columns

    def _read_earlier(self, stack: ExitStack) -> Iterator[tuple[str, dict[str, object]]]:
        """Yield the lines of the existing file, and what they hold; empty ones are passed over.

        Raises:
            NoTable: it was not written by this program, or a line of it cannot be read.
        """
        for number, line in enumerate(_open_earlier(self.path, stack) or (), 1):
            if not line.strip():
                continue
            try:
                row = json.loads(line)
            except (ValueError, RecursionError):
                row = None
            if not isinstance(row, dict) or not isinstance(row.get(SOURCE), str):
                if number == 1:
                    require_source(self.path, [])
                why = f"line {number:,} is not an object with {SOURCE}"
                raise NoTable(str(self.path), why, _HOW_TO_MEND)
            yield line.rstrip("\r\n"), row

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Prepare for the rows of some files; see `Output.begin`."""
        whole = joined(self.before(), columns)
        with ExitStack() as reading:
            earlier = iter(()) if self.start_over else self._read_earlier(reading)
            self._text = self._stack.enter_context(replacing(self.path, overwrite=self.overwrite))
            self._names = list(whole)
            for line, row in earlier:
                source = str(row[SOURCE])
                if source not in files:
                    self._text.write(f"{line}\n")
                    self.kept += 1
                    self.kept_of[source] += 1
        return whole

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
        BadOption: it says nothing, or a table is named for a form without tables.
    """
    ending = path.suffix.lower()
    if ending not in FORMATS:
        raise BadOption(f"--to {path}", "unknown file type", f"use {endings_told()}")
    if table and not FORMATS[ending].has_tables:
        raise BadOption("--table", "is for databases", "leave it out, or name a .sqlite file")


def output_for(
    path: Path, table: str = "", *, start_over: bool = False, overwrite: bool = False
) -> Output:
    """Return the output for a file name.

    Args:
        table: of a database; empty for the file's own name.
        start_over: whether to start over.
        overwrite: whether to replace what was not put together here.

    Raises:
        BadOption: the name says nothing, or a table is named for a form without tables.
        NoTable: it is not a database, or its table was not written by combine.
    """
    require_form(path, table)
    require_output(path, lambda _: True, overwrite=overwrite)
    form = FORMATS[path.suffix.lower()]
    start_over = start_over or overwrite
    if start_over and not (overwrite or form.has_tables):
        form(path).require_own()
    return form(path, table=table, start_over=start_over, overwrite=overwrite)


def _open_earlier(path: Path, stack: ExitStack) -> Iterable[str] | None:
    """Return the lines of an existing file, or None."""
    try:
        text = path.open(encoding="utf-8-sig", newline="")
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
