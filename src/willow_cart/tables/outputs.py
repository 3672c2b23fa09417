"""The output formats: SQLite, Parquet, CSV and JSON Lines.

All of them are replaced or changed in one step at the end, or not at all, and keep the rows of
files that are not among those of this time. A format is a class, and its endings in `FORMATS`.
"""

from __future__ import annotations

import csv
import json
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from itertools import islice
from pathlib import Path
from typing import Any

from willow_cart.errors import BadOption, CannotStore, NoTable, plainly
from willow_cart.replacing import replacing, replacing_bytes, require_output
from willow_cart.tables.database import SqliteOutput
from willow_cart.tables.output import SOURCE, Output, require_source
from willow_cart.tables.types import Type, Value

# Rows in a row group of a Parquet file: smaller groups are slow to read, larger ones need memory.
_ROWS_PER_GROUP = 100_000


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
        earlier = None if self.anew else _open_earlier(self.path, self._stack)
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

    def write(self, columns: Sequence[Sequence[Value]]) -> None:
        """Write rows."""
        self._writer.writerows(zip(*columns, strict=True))


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
        earlier = None if self.anew else _open_earlier(self.path, self._stack)
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

    def write(self, columns: Sequence[Sequence[Value]]) -> None:
        """Write rows."""
        for row in zip(*columns, strict=True):
            said = {
                name: value
                for name, value in zip(self._names, row, strict=True)
                if value is not None
            }
            self._text.write(f"{json.dumps(said, ensure_ascii=False)}\n")


class ParquetOutput(Output):
    """A Parquet file with Zstandard compression."""

    def before(self) -> dict[str, Type]:
        """Return the columns of the file."""
        import pyarrow as pa  # slow to import
        import pyarrow.parquet as pq

        if self.anew or not self.path.exists():
            return {}
        try:
            schema = pq.read_schema(self.path)
        except (OSError, pa.ArrowException) as error:
            reason = f"not a Parquet file: {str(error).rstrip('.').lower()}"
            raise NoTable(str(self.path), reason, "move it, or name another") from None
        require_source(self.path, schema.names)
        types = {kind: type_ for type_, kind in _kinds().items()}
        return {each.name: types.get(each.type, Type.TEXT) for each in schema}

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Prepare for the rows of some files; see `Output.begin`."""
        import pyarrow as pa  # slow to import
        import pyarrow.parquet as pq

        known = self.before()
        whole = dict(columns)
        for name, type_ in known.items():
            whole[name] = type_.together(whole.get(name, Type.EMPTY))
        earlier = self._stack.enter_context(pq.ParquetFile(self.path)) if known else None
        kinds = _kinds()
        self._schema = pa.schema([(name, kinds.get(type_, pa.string()))
                                  for name, type_ in whole.items()])  # fmt: skip
        file = self._stack.enter_context(replacing_bytes(self.path, overwrite=self.overwrite))
        self._writer = self._stack.enter_context(
            pq.ParquetWriter(file, self._schema, compression="zstd")
        )
        self._pending: list[list[Value]] = [[] for _ in self._schema]
        self._stack.push(self._flush)
        for batch in earlier.iter_batches(_ROWS_PER_GROUP) if earlier is not None else ():
            self._keep(batch, files)
        return whole

    def _flush(self, kind: Any, _error: Any, _trace: Any) -> bool:
        if kind is None and self._pending[0]:
            self._write_group()
        return False

    def _keep(self, batch: Any, files: Collection[str]) -> None:
        import pyarrow as pa

        mask = [name not in files for name in batch.column(SOURCE).to_pylist()]
        kept = batch.filter(pa.array(mask))
        columns = [
            kept.column(each.name).cast(each.type)
            if each.name in kept.schema.names
            else pa.nulls(kept.num_rows, each.type)
            for each in self._schema
        ]
        self._writer.write_batch(pa.record_batch(columns, schema=self._schema))
        self.kept += kept.num_rows

    def write(self, columns: Sequence[Sequence[Value]]) -> None:
        """Write rows; small tables are collected, because small row groups are slow to read."""
        for pending, cells in zip(self._pending, columns, strict=True):
            pending.extend(cells)
        if len(self._pending[0]) >= _ROWS_PER_GROUP:
            self._write_group()

    def _write_group(self) -> None:
        import pyarrow as pa

        columns = []
        for cells, each in zip(self._pending, self._schema, strict=True):
            if pa.types.is_timestamp(each.type):
                columns.append(pa.array([_moment(cell) for cell in cells], each.type))
            else:
                columns.append(pa.array(cells, each.type))
        self._writer.write_batch(pa.record_batch(columns, schema=self._schema))
        self._pending = [[] for _ in self._schema]


def _kinds() -> dict[Type, Any]:
    """Return the Parquet types; everything else is text."""
    import pyarrow as pa

    return {
        Type.INTEGER: pa.int64(), Type.REAL: pa.float64(), Type.TIME: pa.timestamp("us"),
        Type.ZONED: pa.timestamp("us", "UTC"),
    }  # fmt: skip


FORMATS: Mapping[str, type[Output]] = {
    ".sqlite": SqliteOutput,
    ".sqlite3": SqliteOutput,
    ".db": SqliteOutput,
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


def _moment(cell: Value) -> Any:
    from datetime import UTC, datetime

    if cell is None:
        return None
    moment = datetime.fromisoformat(str(cell))
    return moment.astimezone(UTC) if moment.tzinfo else moment
