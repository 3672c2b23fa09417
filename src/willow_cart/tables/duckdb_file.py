"""Combined tables in a DuckDB database; its library is an optional dependency."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any, ClassVar

from willow_cart.errors import BadOption, CannotStore, NoTable
from willow_cart.tables.combined import Type
from willow_cart.tables.database import DatabaseOutput, begins, no_database, quoted
from willow_cart.tables.output import SOURCE
from willow_cart.tables.parquet_file import ParquetRows

if TYPE_CHECKING:
    import pyarrow as pa

# Nothing is fetched from elsewhere by opening a file, and other rows find room in memory as well.
_SETTINGS = {
    "autoinstall_known_extensions": "false",
    "autoload_known_extensions": "false",
    "memory_limit": "64MB",
}


class DuckdbOutput(DatabaseOutput):
    """A table in a DuckDB database.

    Raises:
        BadOption: the library is not installed.
    """

    begin_statement = "BEGIN TRANSACTION"
    type_names: ClassVar[Mapping[Type, str]] = {
        Type.LONG: "BIGINT",
        Type.INTEGER: "BIGINT",
        Type.REAL: "DOUBLE",
        Type.TIME: "TIMESTAMP",
        Type.ZONED: "TIMESTAMP WITH TIME ZONE",
        Type.EMPTY: "VARCHAR",
        Type.TEXT: "VARCHAR",
    }

    def __init__(
        self, path: Path, *, table: str = "", start_over: bool = False, overwrite: bool = False
    ) -> None:
        try:
            import duckdb
        except ImportError:
            raise BadOption(
                f"--to {path}",
                "requires the package duckdb, which is not installed",
                "install it with pip install 'willow-cart[duckdb]', or name a .sqlite file",
            ) from None
        self._library: Any = duckdb
        self.errors = duckdb.Error
        self._spool: ParquetRows | None = None
        super().__init__(path, table=table, start_over=start_over, overwrite=overwrite)

    def connect(self) -> Any:
        """Open the database.

        Raises:
            NoTable: it is another file.
        """
        if self.path.exists() and not self.is_database(self.path):
            raise no_database(self.path, "file is not a database")
        folder = self._stack.enter_context(TemporaryDirectory(prefix="willow-cart-"))
        self._file = Path(folder) / "rows.parquet"
        return self._library.connect(str(self.path), config=_SETTINGS)

    @staticmethod
    def is_database(path: Path) -> bool:
        """Whether a regular file starts like a database (DuckDB, "Storage")."""
        return begins(path, 8, b"DUCK")

    def columns_of(self, table: str) -> list[str]:
        """Return the names of the columns of a table; empty if there is none."""
        found = self.execute(
            "SELECT column_name FROM duckdb_columns() WHERE table_name = ?"
            " AND schema_name = 'main' AND NOT internal ORDER BY column_index", (table,)
        )  # fmt: skip
        return [str(name) for (name,) in found]

    def before(self) -> dict[str, Type]:
        """Return the columns of the table; those of text that are empty may hold anything."""
        columns = self.execute(
            "SELECT column_name, data_type FROM duckdb_columns()"
            " WHERE table_name = ? AND schema_name = 'main' AND NOT internal ORDER BY column_index",
            (self.table,),
        )
        found = {name: self.type_named(declared) for name, declared in columns}
        texts = [name for name, type_ in found.items() if type_ is Type.TEXT]
        if texts:
            counts = ", ".join(f"count({quoted(name)})" for name in texts)
            (filled,) = self.execute(f"SELECT {counts} FROM {quoted(self.table)}")
            for name, count in zip(texts, filled, strict=True):
                found[name] = Type.TEXT if count else Type.EMPTY
        return found

    def widen(self, known: dict[str, Type], whole: dict[str, Type]) -> None:
        """Change the types of columns that hold more than they did."""
        for name, type_ in known.items():
            if self.declared(type_) != (declared := self.declared(whole[name])):
                table = f"ALTER TABLE {quoted(self.table)}"
                self.execute(f"{table} ALTER COLUMN {quoted(name)} TYPE {declared}")

    def delete_rows(self, table: str, condition: str, files: Collection[str]) -> None:
        """Delete the rows of a table that are from some files."""
        listed = f"{condition}{SOURCE} IN (SELECT unnest(?::VARCHAR[]))"
        self.execute(f"DELETE FROM {quoted(table)} WHERE {listed}", ([*files],))

    def insert(self, rows: pa.RecordBatch) -> None:
        """Keep rows in a file until the end: the library holds all rows of many small inserts."""
        if self._spool is None:
            self._spool = ParquetRows(self._file, self._whole)
        self._spool.write(rows)

    def finish(self) -> None:
        """Insert all rows."""
        if self._spool is not None:
            self._spool.close()
            names = ", ".join(map(quoted, self._whole))
            self.execute(
                f"INSERT INTO {quoted(self.table)} ({names}) SELECT {names} FROM read_parquet(?)",
                (str(self._file),),
            )

    def explained(self, error: Exception) -> NoTable | CannotStore:
        """Return our error for one of the library's."""
        said = str(error)
        if "lock" in said:
            return CannotStore(str(self.path), "is in use by another program", "close it there")
        if "No space left" in said:
            return CannotStore(str(self.path), "the disk is full", "free some space")
        if "Cannot open file" in said:
            return CannotStore(str(self.path), "cannot be written", "check its folder")
        return no_database(self.path, said.splitlines()[0])
