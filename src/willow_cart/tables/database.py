"""Combined tables in databases: SQLite here, DuckDB in `duckdb_file`.

A database may hold other tables. All that is done to it is one transaction.
"""

from __future__ import annotations

import json
import os
import sqlite3
from abc import abstractmethod
from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from willow_cart.errors import BadOption, CannotStore, NoTable, plainly
from willow_cart.replacing import make_folder_of
from willow_cart.tables.combined import Type
from willow_cart.tables.output import SOURCE, Output, joined, require_source, rows_of
from willow_cart.tables.table_files import TableFile

if TYPE_CHECKING:
    import pyarrow as pa


class DatabaseOutput(Output):
    """A table in a database, with notes on the files that its rows are from.

    Attributes:
        begin_statement: begins the transaction.
        type_names: what the database calls types; of two that it calls alike the last counts.
        earlier_names: the names of types in earlier versions of this program.
        errors: what the database's library raises.
    """

    has_tables = True
    begin_statement: ClassVar[str]
    type_names: ClassVar[Mapping[Type, str]]
    earlier_names: ClassVar[Mapping[str, Type]] = {}
    errors: type[Exception]
    _NOTES = "_willow_combined"
    _EARLIER_NOTES = "combined_files"

    def __init__(
        self, path: Path, *, table: str = "", start_over: bool = False, overwrite: bool = False
    ) -> None:
        super().__init__(path, table=table, start_over=start_over)
        if overwrite and not self.is_database(path):
            path.unlink(missing_ok=True)
        self._is_new = not path.exists()
        self._begun = False
        try:
            make_folder_of(path)
        except OSError as error:
            why = f"its folder cannot be made: {plainly(error)}"
            raise BadOption(f"--to {path}", why, "name another") from None
        try:
            self._base = self.connect()
            self._stack.callback(self._close)
            self.execute(self.begin_statement)
            self._stack.push(self._end)
            if self.table.casefold() == self._NOTES:
                why = "holds the notes of combine"
                raise NoTable(f"{path}, {self.table}", why, "name another with --table")
            self._prepare_notes()
            if start_over and not overwrite:
                self.require_own()
            if start_over:
                self.execute(f"DROP TABLE IF EXISTS {quoted(self.table)}")
                self.execute(f"DELETE FROM {self._NOTES} WHERE table_name = ?", (self.table,))
        except self.errors as error:
            self._stack.close()
            raise self.explained(error) from None
        except NoTable:
            self._stack.close()
            raise

    def _prepare_notes(self) -> None:
        """Create the table of notes, or bring that of an earlier version up to date."""
        columns = ["table_name", "source_file", "sha256", "how", "rows"]
        if self.columns_of(self._EARLIER_NOTES) == columns:
            self.execute(f"ALTER TABLE {self._EARLIER_NOTES} RENAME TO {self._NOTES}")
        self.execute(
            f"CREATE TABLE IF NOT EXISTS {self._NOTES} (table_name TEXT, source_file TEXT,"
            " sha256 TEXT, how TEXT, rows INTEGER, place TEXT,"
            " PRIMARY KEY (table_name, source_file))"
        )
        if self.columns_of(self._NOTES) == columns:
            self.execute(f"ALTER TABLE {self._NOTES} ADD COLUMN place TEXT")

    @abstractmethod
    def columns_of(self, table: str) -> list[str]:
        """Return the names of the columns of a table; empty if there is none."""

    @abstractmethod
    def connect(self) -> Any:
        """Open the database."""

    @staticmethod
    @abstractmethod
    def is_database(path: Path) -> bool:
        """Whether a regular file is a database of this kind."""

    def declared(self, type_: Type) -> str:
        """Return the database's name of a type."""
        return self.type_names[type_]

    def type_named(self, name: str) -> Type:
        """Return the type by the database's name; what is not ours is text."""
        types = {known: type_ for type_, known in self.type_names.items()}
        return types.get(name) or self.earlier_names.get(name, Type.TEXT)

    @abstractmethod
    def insert(self, rows: pa.RecordBatch) -> None:
        """Insert rows with the columns of the table."""

    @abstractmethod
    def explained(self, error: Exception) -> NoTable | CannotStore:
        """Return our error for one of the library's."""

    @abstractmethod
    def widen(self, known: dict[str, Type], whole: dict[str, Type]) -> None:
        """Change the types of columns that hold more than they did."""

    @abstractmethod
    def delete_rows(self, table: str, condition: str, files: Collection[str]) -> None:
        """Delete the rows of a table that are from some files.

        Args:
            table: its name.
            condition: a further condition, with AND after it, or nothing.
            files: the names of the files.
        """

    def prepare_deleting(self) -> None:  # only where looking through rows is slow
        """Make the rows of a file quick to find."""

    def finish(self) -> None:  # only where there is something left
        """Complete the work before the end of the transaction."""

    def execute(self, statement: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a statement, and return its rows."""
        rows: list[tuple[Any, ...]] = self._base.execute(statement, values).fetchall()
        return rows

    def _end(self, kind: Any, _error: Any, _trace: Any) -> bool:
        changed = kind is None and self._begun
        if not changed:
            self.execute("ROLLBACK")
            return False
        try:
            self.finish()
            self.execute("COMMIT")
        except self.errors as error:
            with suppress(self.errors):  # the library may have done it already
                self.execute("ROLLBACK")
            raise self.explained(error) from None
        self._is_new = False
        return False

    def _close(self) -> None:
        self._base.close()
        if self._is_new:
            self.path.unlink(missing_ok=True)  # there is nothing in it

    def knows(self, file: TableFile, how: str) -> bool:
        """Whether the rows of a file exist as they would be written now."""
        statement = f"SELECT 1 FROM {self._NOTES} WHERE (table_name, source_file, sha256, how)"
        values = (self.table, file.name, file.sha256, how)
        return bool(self.execute(f"{statement} = (?, ?, ?, ?)", values))

    def claim_moved(self, files: Sequence[TableFile]) -> None:
        """Give the rows of files that were moved in their folder their new names.

        A moved file has the same bytes as a known file whose path no longer exists.
        """
        statement = f"SELECT source_file, sha256, place FROM {self._NOTES} WHERE table_name = ?"
        noted: defaultdict[tuple[str, str], list[str]] = defaultdict(list)
        names = set()
        for name, sha256, place in self.execute(statement, (self.table,)):
            names.add(name)
            if place and not os.path.lexists(os.path.join(place, _path_in(name))):
                noted[sha256, place].append(name)
        for file in files:
            # A sheet of a workbook goes where the same sheet was.
            sheet = file.name.partition("#")[2]
            gone = noted.get((file.sha256, file.place), [])
            same = [each for each in gone if each.partition("#")[2] == sheet]
            if file.name in names or not same:
                continue
            gone.remove(same[0])
            self._begun = True
            for table, condition, values in (
                (self.table, "", ()),
                (self._NOTES, " AND table_name = ?", (self.table,)),
            ):
                self.execute(
                    f"UPDATE {quoted(table)} SET {SOURCE} = ? WHERE {SOURCE} = ?{condition}",
                    (file.name, same[0], *values),
                )

    def holds_long(self, name: str) -> bool:
        """Whether an existing column of whole numbers has one that REAL does not hold."""
        found = self.execute(
            f"SELECT 1 FROM {quoted(self.table)} WHERE abs({quoted(name)}) > {1 << 53} LIMIT 1"
        )
        return bool(found)

    def require_own(self) -> None:
        """Refuse a table that was not written by this program; see `Output.require_own`."""
        if columns := self.before():
            require_source(self.path, list(columns))

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Prepare for the rows of some files; see `Output.begin`."""
        self._begun = True
        known = self.before()
        if known and SOURCE not in known:
            raise NoTable(
                f"{self.path}, {self.table}",
                f"has no column {SOURCE}, so it was not written by combine",
                "name another table with --table",
            )
        self._whole = joined(known, columns)
        if known:
            self._change(known, self._whole)
        else:
            self.create(self.table, self._whole)
        if known:
            self.prepare_deleting()
            self.delete_rows(self.table, "", files)
        own = f"table_name = {_text(self.table)} AND "
        self.delete_rows(self._NOTES, own, files)
        ((self.kept,),) = self.execute(f"SELECT count(*) FROM {quoted(self.table)}")
        return self._whole

    def _change(self, known: dict[str, Type], whole: dict[str, Type]) -> None:
        """Change an existing table so that it can hold further rows."""
        if any(self.declared(whole[name]) != self.declared(known[name]) for name in known):
            self.widen(known, whole)
            known = self.before()
        for name, type_ in whole.items():
            if name not in known:
                column = f"{quoted(name)} {self.declared(type_)}"
                self.execute(f"ALTER TABLE {quoted(self.table)} ADD COLUMN {column}")

    def write(self, rows: pa.RecordBatch) -> None:
        """Write rows."""
        try:
            self.insert(rows)
        except self.errors as error:
            raise self.explained(error) from None

    def note(self, file: TableFile, how: str, rows: int) -> None:
        """Record that the rows of a file were written."""
        self.execute(
            f"INSERT OR REPLACE INTO {self._NOTES}"
            " (table_name, source_file, sha256, how, rows, place) VALUES (?, ?, ?, ?, ?, ?)",
            (self.table, file.name, file.sha256, how, rows, file.place),
        )

    def create(self, table: str, columns: dict[str, Type]) -> None:
        """Make a table with columns of these types."""
        told = [f"{quoted(name)} {self.declared(type_)}" for name, type_ in columns.items()]
        self.execute(f"CREATE TABLE {quoted(table)} ({', '.join(told)})")


class SqliteOutput(DatabaseOutput):
    """A table in a SQLite database."""

    begin_statement = "BEGIN IMMEDIATE"
    # What holds nothing so far may hold anything later; times are stored as text, in an order that
    # sorts: what does not look like a number stays one (SQLite, "Datatypes", 3 and 3.1).
    type_names: ClassVar[Mapping[Type, str]] = {
        Type.LONG: "INTEGER",
        Type.INTEGER: "INTEGER",
        Type.REAL: "REAL",
        Type.TIME: "DATETIME",
        Type.ZONED: "DATETIME WITH TIME ZONE",
        Type.EMPTY: "",
        Type.TEXT: "TEXT",
    }
    earlier_names: ClassVar[Mapping[str, Type]] = {
        "TIME TEXT": Type.TIME,
        "ZONED TIME TEXT": Type.ZONED,
    }
    errors = sqlite3.Error

    def connect(self) -> Any:
        """Open the database."""
        base = sqlite3.connect(self.path, isolation_level=None)
        # The library's own texts of numbers have 15 digits.
        base.create_function("exact_text", 1, repr, deterministic=True)
        return base

    def columns_of(self, table: str) -> list[str]:
        """Return the names of the columns of a table; empty if there is none."""
        return [row[1] for row in self.execute(f"PRAGMA table_info({quoted(table)})")]

    @staticmethod
    def is_database(path: Path) -> bool:
        """Whether a regular file starts like a database (SQLite, "Database File Format")."""
        return begins(path, 0, b"SQLite format 3\0")

    def before(self) -> dict[str, Type]:
        """Return the columns of the table."""
        rows = self.execute(f"PRAGMA table_info({quoted(self.table)})")
        return {row[1]: self.type_named(row[2]) for row in rows}

    def widen(self, known: dict[str, Type], whole: dict[str, Type]) -> None:
        """Write the table once more, so that numbers among words stay words."""
        self.create("combined_anew", whole)
        names, table = ", ".join(map(quoted, known)), quoted(self.table)
        values = ", ".join(
            f"CASE typeof({cell}) WHEN 'real' THEN exact_text({cell}) ELSE {cell} END"
            if whole[name] is Type.TEXT
            else cell
            for name, cell in ((name, quoted(name)) for name in known)
        )
        self.execute(f"INSERT INTO combined_anew ({names}) SELECT {values} FROM {table}")
        self.execute(f"DROP TABLE {table}")
        self.execute(f"ALTER TABLE combined_anew RENAME TO {table}")

    def delete_rows(self, table: str, condition: str, files: Collection[str]) -> None:
        """Delete the rows of a table that are from some files."""
        listed = f"{condition}{SOURCE} IN (SELECT value FROM json_each(?))"
        self.execute(f"DELETE FROM {quoted(table)} WHERE {listed}", (json.dumps([*files]),))

    def prepare_deleting(self) -> None:
        """Make the rows of a file quick to find."""
        self.finish()

    def finish(self) -> None:
        """Make an index, in one go, which costs less than row by row."""
        name = quoted(f"{self.table}_by_{SOURCE}")
        self.execute(f"CREATE INDEX IF NOT EXISTS {name} ON {quoted(self.table)} ({SOURCE})")

    def insert(self, rows: pa.RecordBatch) -> None:
        """Insert rows with the columns of the table."""
        names, places = ", ".join(map(quoted, self._whole)), ", ".join("?" for _ in self._whole)
        statement = f"INSERT INTO {quoted(self.table)} ({names}) VALUES ({places})"
        self._base.executemany(statement, rows_of(rows))

    def explained(self, error: Exception) -> NoTable | CannotStore:
        """Return our error for one of the library's."""
        match getattr(error, "sqlite_errorcode", 0) & 0xFF:
            case sqlite3.SQLITE_BUSY | sqlite3.SQLITE_LOCKED | sqlite3.SQLITE_PROTOCOL:
                return CannotStore(str(self.path), "is in use by another program", "close it there")
            case sqlite3.SQLITE_FULL:
                return CannotStore(str(self.path), "the disk is full", "free some space")
            case sqlite3.SQLITE_CANTOPEN | sqlite3.SQLITE_READONLY | sqlite3.SQLITE_IOERR:
                return CannotStore(
                    str(self.path), f"cannot be written: {error}", "check its folder and the disk"
                )
        return no_database(self.path, str(error))


def _path_in(source: str) -> str:
    """Return the path in the name of a source, which may end with that of a sheet."""
    return source.partition("#")[0]


def begins(path: Path, at: int, mark: bytes) -> bool:
    """Whether a regular file has some bytes at an offset."""
    if path.is_symlink() or not path.is_file():
        return False
    with path.open("rb") as file:
        return file.read(at + len(mark))[at:] == mark


def no_database(path: Path, reason: str) -> NoTable:
    """Return the error for a file that is not a database, or is damaged."""
    return NoTable(str(path), f"cannot be written as a database: {reason}", "name another")


def all_rows_of(table: str) -> str:
    """Return the statement that reads all rows of a table."""
    return f"SELECT * FROM {quoted(table)}"


def quoted(name: str) -> str:
    """Return a name as SQL has it."""
    doubled = name.replace('"', '""')
    return f'"{doubled}"'


def _text(value: str) -> str:
    doubled = value.replace("'", "''")
    return f"'{doubled}'"
