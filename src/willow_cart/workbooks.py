"""Workbooks (Office Open XML, ECMA-376) as rows of text cells."""

from __future__ import annotations

import zipfile
import zlib
from collections.abc import Iterator
from datetime import date, datetime, time
from typing import IO, Any, BinaryIO
from xml.etree.ElementTree import ParseError

from willow_cart.outside_values import MAX_COLUMNS, MAX_ELEMENTS, MAX_SHEET_ROWS, MAX_TEXT_BYTES
from willow_cart.units import format_size

EXTENSIONS = frozenset({"xlsx", "xlsm"})

# Whatever is not a sheet or the table of texts is read into a tree of objects.
_MAX_SMALL_PART_BYTES, _MAX_SMALL_PART_ELEMENTS = 8 << 20, 300_000

# How much of a sheet is read before its first row, and between two.
_MAX_BETWEEN_ROWS = MAX_TEXT_BYTES, 8 * MAX_COLUMNS

# What the library raises where a part is not as it should be.
_BROKEN = (
    ArithmeticError, AttributeError, LookupError, NotImplementedError, ParseError, RuntimeError,
    TypeError, ValueError, zipfile.BadZipFile, zlib.error, EOFError,
)  # fmt: skip


class UnreadableWorkbook(Exception):
    """A file that is not a workbook, or is damaged; the text is the reason, as a clause."""


class _Part:
    """A part of a workbook, as far as it stays within bounds.

    Args:
        source: its bytes.
        most_bytes: what may be read between two calls of `count_anew`.
        most_elements: as above the tags among them.
    """

    def __init__(self, source: IO[bytes], most_bytes: int, most_elements: int) -> None:
        self._source = source
        self._most = (most_bytes, most_elements)
        self._bytes = self._elements = 0
        self._is_begun = False

    def read(self, size: int = -1) -> bytes:
        """Return the next bytes.

        Raises:
            UnreadableWorkbook: there are too many.
        """
        most_bytes, most_elements = self._most
        data = self._source.read(size if size >= 0 else most_bytes + 1)
        if not self._is_begun and (b"<!DOCTYPE" in data or _DOCTYPE_UTF16 in data):
            raise UnreadableWorkbook("it has a document type, which workbooks must not have")
        self._is_begun = True
        self._bytes += len(data)
        self._elements += data.count(b"<")
        if self._bytes > most_bytes:
            raise UnreadableWorkbook(f"a part of it is larger than {format_size(most_bytes)}")
        if self._elements > most_elements:
            raise UnreadableWorkbook(f"a part of it has more than {most_elements:,} elements")
        return data

    def count_anew(self, most: tuple[int, int]) -> None:
        """Count from here on, with other limits."""
        self._bytes = self._elements = 0
        self._most = most

    def close(self) -> None:
        """Close the part."""
        self._source.close()

    def __enter__(self) -> _Part:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


# The byte order does not matter: each finds the other's but for its first byte.
_DOCTYPE_UTF16 = "<!DOCTYP".encode("utf-16-le").rstrip(b"\0")


class _Archive(zipfile.ZipFile):
    """The archive that a workbook is, with bounds for each of its parts.

    Attributes:
        last: the part that was opened last.
    """

    last: _Part

    def open(self, name: Any, *arguments: Any, **more: Any) -> Any:
        """Open a part that is read piece by piece: a sheet, or the table of texts."""
        self.last = _Part(super().open(name, *arguments, **more), 2 * MAX_TEXT_BYTES, MAX_ELEMENTS)
        return self.last

    def read(self, name: Any, pwd: bytes | None = None) -> bytes:
        """Return a part that is read as a whole."""
        source = super().open(name, "r", pwd)
        with _Part(source, _MAX_SMALL_PART_BYTES, _MAX_SMALL_PART_ELEMENTS) as part:
            return part.read()


def open_workbook(file: BinaryIO) -> Any:
    """Open a workbook, as its library has it, with values in place of formulas.

    Raises:
        UnreadableWorkbook: it cannot be opened, or is larger than any that people make.
        OSError: the file cannot be read.
    """
    from openpyxl.reader.excel import ExcelReader  # slow to import, and few need it

    try:
        reader = ExcelReader(file, read_only=True, data_only=True, keep_links=False)
        reader.archive = _Archive(file)
        reader.read()
        for sheet in reader.wb.worksheets:
            # What a sheet says of its size may be made up: it is told, and not relied on.
            sheet.rows_said = sheet.max_row
            sheet.reset_dimensions()
        return reader.wb
    except _BROKEN as error:
        raise UnreadableWorkbook(_clause(error)) from None


def _clause(error: Exception) -> str:
    return str(error).rstrip(".").lower() or type(error).__name__


def rows_of(sheet: Any, skip: int = 0) -> Iterator[tuple[int, list[str]]]:
    """Yield the rows of a sheet as texts, with their numbers from 1.

    Empty cells at the end are left out: sheets are as wide as their widest row.

    Args:
        sheet: as the library has it.
        skip: how many rows to pass over.

    Raises:
        UnreadableWorkbook: the rest cannot be read.
    """
    if skip >= MAX_SHEET_ROWS:
        return
    rows = sheet.iter_rows(min_row=skip + 1, max_row=MAX_SHEET_ROWS, values_only=True)
    try:
        for number, row in enumerate(rows, skip + 1):
            sheet.parent._archive.last.count_anew(_MAX_BETWEEN_ROWS)  # noqa: SLF001
            cells = [*map(text_of, row)]
            while cells and not cells[-1]:
                cells.pop()
            yield number, cells
    except _BROKEN as error:
        raise UnreadableWorkbook(_clause(error)) from None


def text_of(cell: object) -> str:
    """Return a cell as text; whole numbers without a fraction, dates in ISO 8601."""
    match cell:
        case None:
            return ""
        case bool():
            return str(cell).lower()
        case float() if cell.is_integer() and abs(cell) < 1e15:
            return str(int(cell))
        case datetime():
            return cell.date().isoformat() if cell.time() == time() else cell.isoformat()
        case date() | time():
            return cell.isoformat()
        case _:
            return str(cell)
