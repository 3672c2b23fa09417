"""Combined tables in a Parquet file."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING, Any, BinaryIO

from willow_cart.errors import NoTable
from willow_cart.replacing import replacing_bytes
from willow_cart.tables.combined import Type
from willow_cart.tables.output import SOURCE, Output, joined, require_source

if TYPE_CHECKING:
    import pyarrow as pa

# Rows in a row group: smaller groups are slow to read, larger ones need memory.
_ROWS_PER_GROUP = 100_000


def _columns() -> ModuleType:
    """Return what knows the library's types; it is slow to import."""
    from willow_cart.tables import column_types

    return column_types


class ParquetRows:
    """Writes rows in groups; small tables are collected, for small groups are slow to read.

    Args:
        file: where to.
        types: of the columns.
    """

    def __init__(self, file: BinaryIO | Path, types: Mapping[str, Type]) -> None:
        import pyarrow as pa  # slow to import
        import pyarrow.parquet as pq

        self._types = types
        self.schema = pa.schema(
            [(name, _columns().arrow_type(type_)) for name, type_ in types.items()]
        )
        self._writer = pq.ParquetWriter(file, self.schema, compression="zstd")
        self._pending: list[pa.RecordBatch] = []
        self._count = 0

    def write(self, rows: pa.RecordBatch) -> None:
        """Write rows; times may be strings."""
        self._pending.append(_columns().with_moments(rows, self._types))
        self._count += rows.num_rows
        if self._count >= _ROWS_PER_GROUP:
            self._write_group()

    def close(self) -> None:
        """Write what is collected, and end the file."""
        if self._pending:
            self._write_group()
        self._writer.close()

    def abandon(self) -> None:
        """End without writing what is collected."""
        self._writer.close()

    def _write_group(self) -> None:
        import pyarrow as pa

        self._writer.write_table(pa.Table.from_batches(self._pending))
        self._pending.clear()
        self._count = 0


class ParquetOutput(Output):
    """A Parquet file with Zstandard compression."""

    def before(self) -> dict[str, Type]:
        """Return the columns of the file."""
        import pyarrow as pa  # slow to import
        import pyarrow.parquet as pq

        if self.start_over or not self.path.exists():
            return {}
        try:
            schema = pq.read_schema(self.path)
        except (OSError, pa.ArrowException) as error:
            reason = f"not a Parquet file: {str(error).rstrip('.').lower()}"
            raise NoTable(str(self.path), reason, "move it, or name another") from None
        require_source(self.path, schema.names)
        types = {_columns().arrow_type(type_): type_ for type_ in Type if type_ is not Type.EMPTY}
        return {each.name: types.get(each.type, Type.TEXT) for each in schema}

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Prepare for the rows of some files; see `Output.begin`."""
        import pyarrow.parquet as pq  # slow to import

        known = self.before()
        whole = joined(known, columns)
        file = self._stack.enter_context(replacing_bytes(self.path, overwrite=self.overwrite))
        self._rows = ParquetRows(file, whole)
        self._stack.push(self._finish)
        if known:
            # It is closed before it is replaced: an open file cannot be, on Windows.
            with pq.ParquetFile(self.path) as earlier:
                for batch in earlier.iter_batches(_ROWS_PER_GROUP):
                    self._keep(batch, files)
        return whole

    def holds_long(self, name: str) -> bool:
        """Whether an existing column of whole numbers has one that REAL does not hold."""
        import pyarrow.compute as pc  # slow to import
        import pyarrow.parquet as pq

        with pq.ParquetFile(self.path) as earlier:
            for batch in earlier.iter_batches(_ROWS_PER_GROUP, columns=[name]):
                found = pc.min_max(batch.column(name)).as_py()
                if found["min"] is not None and max(-found["min"], found["max"]) > 1 << 53:
                    return True
        return False

    def _finish(self, kind: Any, _error: Any, _trace: Any) -> bool:
        if kind is None:
            self._rows.close()
        else:
            self._rows.abandon()
        return False

    def _keep(self, batch: pa.RecordBatch, files: Collection[str]) -> None:
        import pyarrow as pa
        import pyarrow.compute as pc

        schema = self._rows.schema
        kept = batch.filter(pc.invert(pc.is_in(batch.column(SOURCE), _columns().strings([*files]))))
        columns = [
            _columns().cast_kept(kept.column(each.name), each.type)
            if each.name in kept.schema.names
            else pa.nulls(kept.num_rows, each.type)
            for each in schema
        ]
        self._rows.write(pa.record_batch(columns, schema=schema))
        self.kept += kept.num_rows
        self.kept_of.update(kept.column(SOURCE).to_pylist())

    def write(self, rows: pa.RecordBatch) -> None:
        """Write rows."""
        self._rows.write(rows)
