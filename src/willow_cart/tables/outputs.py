"""What tables are put together in: SQLite, Parquet, CSV or JSON Lines.

All of them are replaced or changed in one step at the end, or not at all, and keep the rows of
files that are not among those of this time.
"""

from __future__ import annotations

import csv
import json
import sqlite3
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from itertools import islice
from pathlib import Path
from typing import Any, Self

from willow_cart.errors import BadOption, CannotStore, NoTable, plainly
from willow_cart.replacing import replacing, replacing_bytes, require_output
from willow_cart.tables.reading import TableFile
from willow_cart.tables.types import Type, Value

SOURCE = "source_file"
"""The column that says what file a row is from."""

# So many rows make a group of a Parquet file; so many of an earlier one are read at a time.
_GROUP = 100_000


class Output(ABC):
    """Where rows go; what was there before stays if it is left by an error.

    Args:
        path: of the file.
        anew: whether to begin with nothing.
        overwrite: whether a link there is replaced, and not what it leads to.

    Attributes:
        kept: how many rows are of files that are not among those of this time.
    """

    def __init__(self, path: Path, *, anew: bool = False, overwrite: bool = False) -> None:
        self.path = path
        self.anew = anew
        self.overwrite = overwrite
        self.kept = 0
        self._stack = ExitStack()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *what: Any) -> bool | None:
        return self._stack.__exit__(*what)

    def knows(self, file: TableFile, how: str) -> bool:  # noqa: ARG002  # for those that do
        """Whether the rows of a file are there as they would be written now."""
        return False

    def before(self) -> dict[str, Type]:
        """The columns that are there already; none where nothing is, or nobody can tell."""
        return {}

    @abstractmethod
    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Make ready for the rows of some files, in place of what they had brought before.

        Args:
            columns: what they have.
            files: their names.

        Returns:
            The columns of the whole, earlier ones included.

        Raises:
            NoTable: what is there was not put together here.
        """

    @abstractmethod
    def write(self, columns: Sequence[Sequence[Value]]) -> None:
        """Write rows, given by the values of each column of the whole."""

    def require_own(self) -> None:
        """Refuse what was not put together here, before it is replaced.

        Raises:
            NoTable: it was not.
        """
        self.before()

    def note(self, file: TableFile, how: str, rows: int) -> None:  # noqa: B027  # as above
        """Remember that the rows of a file are there."""


# What holds nothing so far may hold anything later; times are text, in an order that sorts, and
# any name with TEXT in it makes a column one of text (SQLite, "Datatypes", 3.1).
_DECLARED = {
    Type.INTEGER: "INTEGER",
    Type.REAL: "REAL",
    Type.TIME: "TIME TEXT",
    Type.ZONED: "ZONED TIME TEXT",
    Type.EMPTY: "",
}


class SqliteOutput(Output):
    """A table of a database, beside whatever else is in that (SQLite 3)."""

    _NOTES = "combined_files"

    def __init__(self, path: Path, *, anew: bool, table: str, overwrite: bool = False) -> None:
        super().__init__(path, anew=anew)
        self._table = table
        if overwrite and not _is_database(path):
            path.unlink(missing_ok=True)
        self._is_new = not path.exists()
        self._begun = False
        try:
            self._base = sqlite3.connect(path, isolation_level=None)
            self._stack.callback(self._base.close)
            self._base.execute("BEGIN IMMEDIATE")
            self._stack.push(self._end)
            self._base.execute(
                f"CREATE TABLE IF NOT EXISTS {self._NOTES} (table_name TEXT, source_file TEXT,"
                " sha256 TEXT, how TEXT, rows INTEGER, PRIMARY KEY (table_name, source_file))"
            )
            if anew and not overwrite:
                self.require_own()
            if anew:
                self._base.execute(f"DROP TABLE IF EXISTS {_quoted(table)}")
                self._base.execute(f"DELETE FROM {self._NOTES} WHERE table_name = ?", (table,))
        except sqlite3.Error as error:
            self._stack.close()
            raise _no_database(path, error) from None

    def _end(self, kind: Any, _error: Any, _trace: Any) -> bool:
        changed = kind is None and self._begun
        self._base.execute("COMMIT" if changed else "ROLLBACK")
        if self._is_new and not changed:
            self.path.unlink(missing_ok=True)
        return False

    def knows(self, file: TableFile, how: str) -> bool:
        """Whether the rows of a file are there as they would be written now."""
        statement = f"SELECT 1 FROM {self._NOTES} WHERE (table_name, source_file, sha256, how)"
        values = (self._table, file.name, file.sha256, how)
        return self._base.execute(f"{statement} = (?, ?, ?, ?)", values).fetchone() is not None

    def require_own(self) -> None:
        """Refuse a table that was not put together here (see `Output.require_own`)."""
        if columns := self.before():
            _require_source(self.path, list(columns))

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Make ready for the rows of some files (see `Output.begin`)."""
        self._begun = True
        known = self.before()
        if known and SOURCE not in known:
            raise NoTable(
                f"{self.path}, {self._table}",
                f"has no column {SOURCE}, so it was not put together here",
                "name another table with --table",
            )
        spelled = {name.casefold(): name for name in known}
        whole = dict(known)
        for name, type_ in columns.items():
            known_as = spelled.get(name.casefold(), name)
            whole[known_as] = whole.get(known_as, Type.EMPTY).together(type_)
        if not known:
            self._create(self._table, whole)
        elif any(_declared(whole[name]) != _declared(type_) for name, type_ in known.items()):
            # A column holds more than it did. What is there is written once more, so that numbers
            # among words are not turned back into numbers.
            self._create("combined_anew", whole)
            names = ", ".join(map(_quoted, known))
            table = _quoted(self._table)
            self._base.execute(f"INSERT INTO combined_anew ({names}) SELECT {names} FROM {table}")
            self._base.execute(f"DROP TABLE {table}")
            self._base.execute(f"ALTER TABLE combined_anew RENAME TO {table}")
        else:
            for name, type_ in whole.items():
                if name not in known:
                    self._base.execute(
                        f"ALTER TABLE {_quoted(self._table)} ADD COLUMN {_quoted(name)}"
                        f" {_declared(type_)}"
                    )
        self._base.execute(
            f"CREATE INDEX IF NOT EXISTS {_quoted(f'{self._table}_by_{SOURCE}')}"
            f" ON {_quoted(self._table)} ({SOURCE})"
        )
        for statement in (
            f"DELETE FROM {_quoted(self._table)} WHERE {SOURCE} = ?",
            f"DELETE FROM {self._NOTES} WHERE table_name = {_text(self._table)} AND {SOURCE} = ?",
        ):
            self._base.executemany(statement, ((name,) for name in files))
        (self.kept,) = self._base.execute(f"SELECT count(*) FROM {_quoted(self._table)}").fetchone()
        self._insert = (
            f"INSERT INTO {_quoted(self._table)} ({', '.join(map(_quoted, whole))})"
            f" VALUES ({', '.join('?' for _ in whole)})"
        )
        return whole

    def write(self, columns: Sequence[Sequence[Value]]) -> None:
        """Write rows."""
        try:
            self._base.executemany(self._insert, zip(*columns, strict=True))
        except sqlite3.Error as error:
            raise _no_database(self.path, error) from None

    def note(self, file: TableFile, how: str, rows: int) -> None:
        """Remember that the rows of a file are there."""
        self._base.execute(
            f"INSERT OR REPLACE INTO {self._NOTES} VALUES (?, ?, ?, ?, ?)",
            (self._table, file.name, file.sha256, how, rows),
        )

    def _create(self, table: str, columns: dict[str, Type]) -> None:
        declared = ", ".join(
            f"{_quoted(name)} {_declared(type_)}" for name, type_ in columns.items()
        )
        self._base.execute(f"CREATE TABLE {_quoted(table)} ({declared})")

    def before(self) -> dict[str, Type]:
        """The columns of the table."""
        types = {declared: type_ for type_, declared in _DECLARED.items()}
        rows = self._base.execute(f"PRAGMA table_info({_quoted(self._table)})")
        return {row[1]: types.get(row[2], Type.TEXT) for row in rows}


def _is_database(path: Path) -> bool:
    """Return whether a regular file begins as a database does (SQLite, "Database File Format")."""
    if path.is_symlink() or not path.is_file():
        return False
    with path.open("rb") as file:
        return file.read(16) == b"SQLite format 3\0"


def _declared(type_: Type) -> str:
    """How SQLite calls what a column holds (SQLite, "Datatypes", 3)."""
    return _DECLARED.get(type_, "TEXT")


class CsvOutput(Output):
    """A table as text (RFC 4180), in UTF-8."""

    def before(self) -> dict[str, Type]:
        """The columns of the file; nothing in it says what they hold."""
        if self.anew or not self.path.exists():
            return {}
        with ExitStack() as stack:
            header = next(csv.reader(_open_earlier(self.path, stack) or ()), [])
        _require_source(self.path, header)
        return dict.fromkeys(header, Type.EMPTY)

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Make ready for the rows of some files (see `Output.begin`)."""
        earlier = None if self.anew else _open_earlier(self.path, self._stack)
        header: list[str] = []
        if earlier is not None:
            reader = csv.reader(earlier)
            header = next(reader, [])
            _require_source(self.path, header)
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
    """A JSON object a row, one in a line (RFC 8259), in UTF-8; empty cells are left out."""

    def require_own(self) -> None:
        """Refuse what was not put together here (see `Output.require_own`)."""
        with ExitStack() as stack:
            for line in islice(_open_earlier(self.path, stack) or (), 1):
                try:
                    _require_source(self.path, json.loads(line))
                except (ValueError, TypeError):
                    _require_source(self.path, [])

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Make ready for the rows of some files (see `Output.begin`)."""
        earlier = None if self.anew else _open_earlier(self.path, self._stack)
        self._text = self._stack.enter_context(replacing(self.path, overwrite=self.overwrite))
        self._names = list(columns)
        for line in earlier or ():
            try:
                source = json.loads(line)[SOURCE]
            except (ValueError, KeyError, TypeError):
                _require_source(self.path, [])
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
    """A Parquet file, compressed by Zstandard."""

    def before(self) -> dict[str, Type]:
        """The columns of the file."""
        import pyarrow as pa  # slow to import
        import pyarrow.parquet as pq

        if self.anew or not self.path.exists():
            return {}
        try:
            schema = pq.read_schema(self.path)
        except (OSError, pa.ArrowException) as error:
            reason = f"is no Parquet file: {str(error).rstrip('.').lower()}"
            raise NoTable(str(self.path), reason, "move it, or name another") from None
        _require_source(self.path, schema.names)
        types = {kind: type_ for type_, kind in _kinds().items()}
        return {each.name: types.get(each.type, Type.TEXT) for each in schema}

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Make ready for the rows of some files (see `Output.begin`)."""
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
        for batch in earlier.iter_batches(_GROUP) if earlier is not None else ():
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
        """Write rows; those of small tables together, since groups of few are read slowly."""
        for pending, cells in zip(self._pending, columns, strict=True):
            pending.extend(cells)
        if len(self._pending[0]) >= _GROUP:
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
    """How Parquet calls what columns hold; all else is text."""
    import pyarrow as pa

    return {
        Type.INTEGER: pa.int64(), Type.REAL: pa.float64(), Type.TIME: pa.timestamp("us"),
        Type.ZONED: pa.timestamp("us", "UTC"),
    }  # fmt: skip


class NoOutput(Output):
    """Nowhere, to see what there would be."""

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:  # noqa: ARG002
        """Nothing is made ready."""
        return columns

    def write(self, columns: Sequence[Sequence[Value]]) -> None:
        """Nothing is written."""


_FORMS: Mapping[str, Callable[..., Output]] = {
    ".csv": CsvOutput,
    ".jsonl": JsonLinesOutput,
    ".parquet": ParquetOutput,
}
_DATABASES = frozenset({".sqlite", ".sqlite3", ".db"})


def require_form(path: Path, table: str = "") -> None:
    """Refuse a name that says nothing, before any work is done.

    Raises:
        BadOption: it says nothing, or a table is named where there are none.
    """
    ending = path.suffix.lower()
    if ending not in _FORMS and ending not in _DATABASES:
        raise BadOption(
            f"--to {path}", "does not say what it is", "end it in .sqlite, .parquet, .csv or .jsonl"
        )
    if table and ending not in _DATABASES:
        raise BadOption("--table", "is for databases", "leave it out, or name a .sqlite file")


def output_for(
    path: Path, table: str = "", *, anew: bool = False, overwrite: bool = False
) -> Output:
    """What a table is put together in, by its name.

    Args:
        path: of the file.
        table: of a database; empty for the file's own name.
        anew: whether to begin with nothing.
        overwrite: whether to replace what was not put together here.

    Raises:
        BadOption: the name says nothing, or a table is named where there are none.
        NoTable: it is no database, or holds what was not put together here.
    """
    require_form(path, table)
    require_output(path, lambda _: True, overwrite=overwrite)
    ending = path.suffix.lower()
    anew = anew or overwrite
    if ending in _DATABASES:
        return SqliteOutput(path, anew=anew, table=table or path.stem, overwrite=overwrite)
    form = _FORMS[ending]
    if anew and not overwrite:
        form(path).require_own()
    return form(path, anew=anew, overwrite=overwrite)


def _open_earlier(path: Path, stack: ExitStack) -> Iterable[str] | None:
    """The lines of what is there already; None for nothing."""
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
        _require_source(path, [])


def _require_source(path: Path, columns: Sequence[str]) -> None:
    """Refuse what was not put together here: it would be lost.

    Raises:
        NoTable: it was not.
    """
    if SOURCE not in columns:
        raise NoTable(
            str(path),
            f"is there already and has no column {SOURCE}, so it was not put together here",
            "name another file, or give --overwrite",
        )


def _moment(cell: Value) -> Any:
    from datetime import UTC, datetime

    if cell is None:
        return None
    moment = datetime.fromisoformat(str(cell))
    return moment.astimezone(UTC) if moment.tzinfo else moment


def _quoted(name: str) -> str:
    doubled = name.replace('"', '""')
    return f'"{doubled}"'


def _text(value: str) -> str:
    doubled = value.replace("'", "''")
    return f"'{doubled}'"


def _no_database(path: Path, error: sqlite3.Error) -> NoTable | CannotStore:
    if "locked" in str(error):
        return CannotStore(str(path), "is in use by another program", "close it there")
    if isinstance(error, sqlite3.OperationalError) and "unable to open" in str(error):
        return CannotStore(str(path), "cannot be written", "see to its folder")
    return NoTable(str(path), f"cannot be written as a database: {error}", "name another")
