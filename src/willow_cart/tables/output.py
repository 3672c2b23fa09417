"""The interface of the outputs of combined tables."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Self

from willow_cart.errors import NoTable
from willow_cart.tables.combined import CellValue, Type
from willow_cart.tables.table_files import TableFile

if TYPE_CHECKING:
    import pyarrow as pa

SOURCE = "source_file"
"""The column with the file of each row."""


class Output(ABC):
    """A destination of rows; after an error it is left unchanged.

    Args:
        table: of a database; empty for the file's own name.
        start_over: whether to start over.
        overwrite: whether a link there is replaced, and not what it leads to.

    Attributes:
        has_tables: whether a file holds several tables by their names.
        keeps_text: whether cells are written as they were read, whatever the type of their column.
        kept: how many rows are of files that are not among those of this time.
        kept_of: how many of them are of each, where the output has no other record of its files.
    """

    has_tables: ClassVar[bool] = False
    keeps_text: ClassVar[bool] = False

    def __init__(
        self, path: Path, *, table: str = "", start_over: bool = False, overwrite: bool = False
    ) -> None:
        self.path = path
        self.table = table or path.stem
        self.start_over = start_over
        self.overwrite = overwrite
        self.kept = 0
        self.kept_of: Counter[str] = Counter()
        self._stack = ExitStack()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *what: Any) -> bool | None:
        return self._stack.__exit__(*what)

    def knows(self, file: TableFile, how: str) -> bool:  # noqa: ARG002  # for those that do
        """Whether the rows of a file exist as they would be written now."""
        return False

    def claim_moved(self, files: Sequence[TableFile]) -> None:  # noqa: B027  # as above
        """Give the rows of files that were moved in their folder their new names."""

    def before(self) -> dict[str, Type]:
        """Return the existing columns; empty if there are none, or they are unknown."""
        return {}

    def holds_long(self, name: str) -> bool:  # noqa: ARG002  # for those that have types
        """Whether an existing column of whole numbers has one that REAL does not hold."""
        return False

    @abstractmethod
    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:
        """Prepare for the rows of some files, which replace their earlier rows.

        Args:
            columns: what they have.
            files: their names.

        Returns:
            The columns of the whole, earlier ones included.

        Raises:
            NoTable: the existing file was not written by combine.
        """

    @abstractmethod
    def write(self, rows: pa.RecordBatch) -> None:
        """Write rows with the columns of the whole; times are strings."""

    def require_own(self) -> None:
        """Refuse to replace what was not written by this program.

        Raises:
            NoTable: it was not.
        """
        self.before()

    def note(self, file: TableFile, how: str, rows: int) -> None:  # noqa: B027  # as above
        """Record that the rows of a file were written."""


class NoOutput(Output):
    """An output that discards rows, for previews."""

    def begin(self, columns: dict[str, Type], files: Collection[str]) -> dict[str, Type]:  # noqa: ARG002
        """Do nothing."""
        return columns

    def write(self, rows: pa.RecordBatch) -> None:
        """Do nothing."""


def joined(known: Mapping[str, Type], columns: Mapping[str, Type]) -> dict[str, Type]:
    """Return the columns of a table with those of further rows.

    Names that differ only in case are one, spelled as before.
    """
    spelled = {name.casefold(): name for name in reversed([*known])}
    whole = dict(known)
    for name, type_ in columns.items():
        known_as = spelled.setdefault(name.casefold(), name)
        whole[known_as] = whole.get(known_as, Type.EMPTY).together(type_)
    return whole


def rows_of(batch: pa.RecordBatch) -> Iterator[tuple[CellValue, ...]]:
    """Yield the rows of a batch; None for empty cells."""
    return zip(*(column.to_pylist() for column in batch), strict=True)


def require_source(path: Path, columns: Sequence[str]) -> None:
    """Refuse a table without the column of source files: it was not written by this program.

    Raises:
        NoTable: it was not.
    """
    if SOURCE not in columns:
        raise NoTable(
            str(path),
            f"already exists and has no column {SOURCE}, so it was not written by combine",
            "name another file, or use --overwrite",
        )
