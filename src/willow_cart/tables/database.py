"""Combined tables in a SQLite database."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import Any

from willow_cart.errors import CannotStore, NoTable
from willow_cart.tables.output import SOURCE, Output, require_source
from willow_cart.tables.table_files import TableFile
from willow_cart.tables.types import Type, Value

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
    """A table in a database that may contain others (SQLite 3)."""

    has_tables = True
    _NOTES = "combined_files"

    def __init__(
        self, path: Path, *, table: str = "", anew: bool = False, overwrite: bool = False
    ) -> None:
        super().__init__(path, table=table, anew=anew)
        table = self.table
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
        """Whether the rows of a file exist as they would be written now."""
        statement = f"SELECT 1 FROM {self._NOTES} WHERE (table_name, source_file, sha256, how)"
        values = (self.table, file.name, file.sha256, how)
        return self._base.execute(f"{statement} = (?, ?, ?, ?)", values).fetchone() is not None

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
        spelled = {name.casefold(): name for name in known}
        whole = dict(known)
        for name, type_ in columns.items():
            known_as = spelled.get(name.casefold(), name)
            whole[known_as] = whole.get(known_as, Type.EMPTY).together(type_)
        if not known:
            self._create(self.table, whole)
        elif any(_declared(whole[name]) != _declared(type_) for name, type_ in known.items()):
            # A column holds more than it did. What is there is written once more, so that numbers
            # among words are not turned back into numbers.
            self._create("combined_anew", whole)
            names = ", ".join(map(_quoted, known))
            table = _quoted(self.table)
            self._base.execute(f"INSERT INTO combined_anew ({names}) SELECT {names} FROM {table}")
            self._base.execute(f"DROP TABLE {table}")
            self._base.execute(f"ALTER TABLE combined_anew RENAME TO {table}")
        else:
            for name, type_ in whole.items():
                if name not in known:
                    self._base.execute(
                        f"ALTER TABLE {_quoted(self.table)} ADD COLUMN {_quoted(name)}"
                        f" {_declared(type_)}"
                    )
        self._base.execute(
            f"CREATE INDEX IF NOT EXISTS {_quoted(f'{self.table}_by_{SOURCE}')}"
            f" ON {_quoted(self.table)} ({SOURCE})"
        )
        for statement in (
            f"DELETE FROM {_quoted(self.table)} WHERE {SOURCE} = ?",
            f"DELETE FROM {self._NOTES} WHERE table_name = {_text(self.table)} AND {SOURCE} = ?",
        ):
            self._base.executemany(statement, ((name,) for name in files))
        (self.kept,) = self._base.execute(f"SELECT count(*) FROM {_quoted(self.table)}").fetchone()
        self._insert = (
            f"INSERT INTO {_quoted(self.table)} ({', '.join(map(_quoted, whole))})"
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
        """Record that the rows of a file were written."""
        self._base.execute(
            f"INSERT OR REPLACE INTO {self._NOTES} VALUES (?, ?, ?, ?, ?)",
            (self.table, file.name, file.sha256, how, rows),
        )

    def _create(self, table: str, columns: dict[str, Type]) -> None:
        declared = ", ".join(
            f"{_quoted(name)} {_declared(type_)}" for name, type_ in columns.items()
        )
        self._base.execute(f"CREATE TABLE {_quoted(table)} ({declared})")

    def before(self) -> dict[str, Type]:
        """Return the columns of the table."""
        types = {declared: type_ for type_, declared in _DECLARED.items()}
        rows = self._base.execute(f"PRAGMA table_info({_quoted(self.table)})")
        return {row[1]: types.get(row[2], Type.TEXT) for row in rows}


def _is_database(path: Path) -> bool:
    """Whether a regular file starts like a database (SQLite, "Database File Format")."""
    if path.is_symlink() or not path.is_file():
        return False
    with path.open("rb") as file:
        return file.read(16) == b"SQLite format 3\0"


def _declared(type_: Type) -> str:
    """Return the SQLite name of a type (SQLite, "Datatypes", 3)."""
    return _DECLARED.get(type_, "TEXT")


def all_rows_of(table: str) -> str:
    """Return the statement that reads all rows of a table."""
    return f"SELECT * FROM {_quoted(table)}"


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
        return CannotStore(str(path), "cannot be written", "check its folder")
    return NoTable(str(path), f"cannot be written as a database: {error}", "name another")
