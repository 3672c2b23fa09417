"""Data files with a schema: Parquet, workbooks, HDF5 and NetCDF."""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from contextlib import closing
from itertools import islice
from typing import Any, BinaryIO
from zipfile import ZipFile

from willow_cart.archives.reader import Damaged, LimitedReader, reading
from willow_cart.outside_values import MAX_PAGE_BYTES
from willow_cart.peeking.content import Content, Fact, PeekedColumn, Sample, Unreadable
from willow_cart.protocols.remote_file import TooMuchRead
from willow_cart.tables.table_files import unique_names
from willow_cart.units import format_size
from willow_cart.workbooks import UnreadableWorkbook, open_workbook, rows_of, text_of

# A workbook of a million rows unpacks to less.
_MAX_WORKBOOK_BYTES = 256 << 20

# Rows of larger groups are not read, whatever the file says of them.
_MAX_ROW_GROUP_BYTES = 1 << 30

# What is read of a column at a time.
_BUFFER_BYTES = 32 << 10


def look_at_parquet(sample: Sample, rows: int) -> Content:
    """Return the schema of a Parquet file, from its footer, and the first rows.

    Raises:
        Unreadable: it cannot be read.
    """
    import pyarrow as pa
    from pyarrow import parquet

    source = sample.file()
    try:
        with closing(
            parquet.ParquetFile(source, buffer_size=_BUFFER_BYTES, pre_buffer=False)
        ) as file:
            about = file.metadata
            columns = [PeekedColumn(each.name, str(each.type)) for each in file.schema_arrow]
            facts: dict[str, Fact] = {
                "columns": len(columns),
                "rows": about.num_rows,
                "row groups": about.num_row_groups,
                "written by": about.created_by or "unknown",
            }
            listed, notes = _first_rows(file, source, rows) if about.num_rows else ([], [])
    except pa.ArrowException as error:
        raise Unreadable(f"it is not a readable Parquet file: {error}".splitlines()[0]) from None
    return Content("Parquet table", facts, columns, listed, "row", notes)


def _first_rows(file: Any, source: BinaryIO, rows: int) -> tuple[list[list[str]], list[str]]:
    """Return the first rows of a Parquet file, or a note why they were not read."""
    if not rows:
        return [], []
    group = file.metadata.row_group(0)
    if group.total_byte_size > _MAX_ROW_GROUP_BYTES:
        return [], ["its first rows are in a group that is too large; haul it to see them"]
    try:
        if max(_page_sizes(group, source)) > MAX_PAGE_BYTES:
            return [], ["its first rows are in a page that is too large; haul it to see them"]
        first = next(file.iter_batches(batch_size=rows))
    except TooMuchRead:
        return [], ["its first rows need more bytes than are fetched here; haul it to see them"]
    cells = (column.to_pylist() for column in first.columns)
    return [[*map(text_of, row)] for row in zip(*cells, strict=True)], []


# A page begins with its type and its size, each a number of variable length after a byte that
# names its field (Parquet, PageHeader; Thrift, compact protocol).
_PAGE_HEADER = re.compile(rb"\x15([\x80-\xff]{0,4}[\0-\x7f])\x15([\x80-\xff]{0,4}[\0-\x7f])")


def _page_sizes(group: Any, source: BinaryIO) -> Iterator[int]:
    """Yield the sizes of the first pages of each column, in bytes once they are unpacked.

    Raises:
        Unreadable: an offset leads to something other than a page.
    """
    for number in range(group.num_columns):
        column = group.column(number)
        for offset in {column.dictionary_page_offset, column.data_page_offset} - {None}:
            source.seek(offset)
            header = _PAGE_HEADER.match(source.read(16))
            if header is None:
                raise Unreadable("it is not a readable Parquet file: a page has no header")
            size = sum((byte & 0x7F) << 7 * at for at, byte in enumerate(header[2]))
            yield size >> 1  # signs are in the last bit


def look_at_workbook(sample: Sample, rows: int) -> Content:
    """List the sheets of a workbook, and read the first rows of the first one that has any.

    Raises:
        Unreadable: it cannot be read.
    """
    _require_small(sample)
    try:
        with closing(open_workbook(sample.file())) as book:
            facts: dict[str, Fact] = {"sheets": ", ".join(book.sheetnames)}
            for sheet in book.worksheets:
                said = (cells for _, cells in rows_of(sheet) if any(cells))
                header = next(said, None)
                if header is None:
                    continue
                names = unique_names(header)
                listed = [(cells + [""] * len(names))[: len(names)] for cells in islice(said, rows)]
                if sheet.rows_said is not None:
                    facts[f"rows of {sheet.title}"] = sheet.rows_said - 1
                columns = [PeekedColumn(name) for name in names]
                return Content("workbook", facts, columns, listed, f"row of {sheet.title}")
    except (UnreadableWorkbook, ValueError) as error:
        raise Unreadable(f"it is not a readable workbook: {error}") from None
    return Content("empty workbook", facts)


def _require_small(sample: Sample) -> None:
    """Refuse a workbook that unpacks to very much: its library holds its texts in memory.

    Raises:
        Unreadable: it is not an archive, or it does.
    """
    try:
        with reading(), ZipFile(LimitedReader(sample.file())) as archive:
            unpacked = sum(info.file_size for info in archive.infolist())
    except Damaged as error:
        raise Unreadable(str(error)) from None
    if unpacked > _MAX_WORKBOOK_BYTES:
        raise Unreadable(f"it unpacks to {format_size(unpacked)}; haul it")


def look_at_hdf5(sample: Sample, rows: int) -> Content:
    """List the variables of an HDF5 file, as also NetCDF-4 files are, with their dimensions.

    Raises:
        Unreadable: it cannot be read.
    """
    try:
        import h5py  # an extra: it is large
    except ImportError:
        note = "pip install 'willow-cart[hdf5]' shows its variables"
        return Content("HDF5 or NetCDF-4 file", notes=[note])
    found: list[list[str]] = []

    def list_variable(name: str, item: Any) -> None:
        if isinstance(item, h5py.Dataset):
            dimensions = " x ".join(map(str, item.shape or ())) or "one value"
            unit = item.attrs.get("units", b"")
            unit = unit.decode("utf-8", "replace") if isinstance(unit, bytes) else str(unit)
            found.append([name, str(item.dtype), dimensions, unit])

    try:
        with h5py.File(sample.file(), "r") as file:
            file.visititems(list_variable)
            title = file.attrs.get("title", "")
    except (OSError, RuntimeError, KeyError, ValueError) as error:
        raise Unreadable(f"it is not a readable HDF5 file: {error}") from None
    facts: dict[str, Fact] = {"variables": len(found)}
    if title:
        facts["title"] = title if isinstance(title, str) else str(title)
    return Content("HDF5 or NetCDF-4 file", facts, _VARIABLES, found[:rows], "variable")


_VARIABLES = (
    PeekedColumn("variable"),
    PeekedColumn("type"),
    PeekedColumn("dimensions"),
    PeekedColumn("unit"),
)


def look_at_netcdf(sample: Sample, rows: int) -> Content:
    """List the variables of a classic NetCDF file, from its header.

    The format is in the NetCDF User's Guide, "File Format Specifications" (CDF-1, CDF-2, CDF-5).

    Raises:
        Unreadable: the header cannot be read.
    """
    try:
        header = _NetcdfHeader(sample.beginning)
        facts: dict[str, Fact] = {"dimensions": len(header.dimensions)}
        facts |= {name: length or header.records for name, length in header.dimensions}
        facts |= {key: header.attributes[key] for key in ("title",) if key in header.attributes}
        listed = header.variables
    except (struct.error, IndexError, KeyError, OverflowError):
        raise Unreadable("its header is damaged, or longer than what was fetched") from None
    facts["variables"] = len(listed)
    return Content("NetCDF file", facts, _VARIABLES, listed[:rows], "variable")


class _NetcdfHeader:
    """The header of a classic NetCDF file.

    Attributes:
        records: the length of the dimension that can grow.
        dimensions: names and lengths; 0 for the one that can grow.
        attributes: texts of the whole file, by their names.
        variables: each with its name, type, dimensions and unit.
    """

    _TYPES = (
        "", "byte", "char", "short", "int", "float", "double", "ubyte", "ushort", "uint", "int64",
        "uint64",
    )  # fmt: skip
    _SIZES = (0, 1, 1, 2, 4, 4, 8, 1, 2, 4, 8, 8)

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._at = 4
        version = data[3]
        self._count = ">q" if version == 5 else ">i"
        self._offset_bytes = 4 if version == 1 else 8
        self.records = max(0, self._number(self._count))
        self.dimensions = [(self._text(), self._number(self._count)) for _ in self._list()]
        self.attributes = self._attributes()
        self.variables = [self._variable() for _ in self._list()]

    def _number(self, format_: str) -> int:
        (number,) = struct.unpack_from(format_, self._data, self._at)
        self._at += struct.calcsize(format_)
        return int(number)

    def _list(self) -> Iterator[int]:
        self._number(">i")  # what kind of list it is, or 0 for an empty one
        yield from range(self._number(self._count))

    def _text(self) -> str:
        return self._bytes(self._number(self._count)).decode("utf-8", "replace")

    def _bytes(self, count: int) -> bytes:
        if not 0 <= count <= len(self._data) - self._at:
            raise IndexError(count)
        taken = self._data[self._at : self._at + count]
        self._at += count + -count % 4  # padded to words
        return taken

    def _attributes(self) -> dict[str, str]:
        found: dict[str, str] = {}
        for _ in self._list():
            name = self._text()
            kind = self._number(">i")
            value = self._bytes(self._number(self._count) * self._SIZES[kind])
            if self._TYPES[kind] == "char":
                found[name] = value.decode("utf-8", "replace")
        return found

    def _variable(self) -> list[str]:
        name = self._text()
        count = self._number(self._count)
        if not 0 <= count <= len(self._data):
            raise IndexError(count)
        used = [self.dimensions[self._number(self._count)] for _ in range(count)]
        attributes = self._attributes()
        kind = self._TYPES[self._number(">i")]
        self._number(self._count)  # the size of its data
        self._at += self._offset_bytes
        dimensions = " x ".join(f"{length or self.records}" for _, length in used)
        return [name, kind, dimensions or "one value", attributes.get("units", "")]
