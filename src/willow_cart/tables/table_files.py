"""Read tables in any file format as rows of text cells."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, closing
from dataclasses import dataclass, field, replace
from datetime import date, datetime, time
from itertools import islice
from typing import Any, BinaryIO

from willow_cart.archives.tars import open_packed, packing_of
from willow_cart.errors import NoTable, plainly
from willow_cart.kinds import extension_of, stem_of
from willow_cart.tables.dialect import SAMPLE_BYTES, Dialect, dialect_of

ROWS_PER_BATCH = 20_000
"""The rows in memory at a time."""

_WORKBOOKS = frozenset({"xlsx", "xlsm"})
_PACKED = frozenset({"gz", "bz2", "xz", "zst"})
_TEXTS = frozenset({"csv", "tsv", "tab"})

# The longest cell: outlines of lakes are longer than the usual limit.
_MAX_CELL_CHARACTERS = 256 << 20


@dataclass(frozen=True, slots=True)
class TableFile:
    """A table to be read.

    Attributes:
        open: opens it to be read.
        file_name: what it is called.
        name: what its rows are to say they are from.
        sha256: of the file, in hexadecimal.
        parts: further columns that are the same in all of its rows, by their names.
        sheet: of a workbook; empty for other files.
    """

    open: Callable[[], BinaryIO]
    file_name: str
    name: str
    sha256: str
    parts: Mapping[str, str] = field(default_factory=dict)
    sheet: str = ""


@dataclass(slots=True)
class Reading:
    """The state of a table that is being read.

    Attributes:
        dialect: how it is written; None for a workbook.
        header: the names of its columns.
        short: how many rows had fewer cells than the header, so far.
    """

    dialect: Dialect | None
    header: list[str]
    short: int = 0


def is_table(name: str) -> bool:
    """Whether the name of a file is that of a table."""
    extension = extension_of(name)
    if extension in _PACKED:
        extension = extension_of(stem_of(name))
    return extension in _TEXTS or extension in _WORKBOOKS


def sheets_of(file: TableFile) -> list[TableFile]:
    """Return the tables in a file: each sheet of a workbook, or the file itself.

    Raises:
        NoTable: it is a workbook that cannot be opened.
    """
    if extension_of(file.file_name) not in _WORKBOOKS:
        return [file]
    with ExitStack() as stack:
        book = _open_book(file, stack)
        return [replace(file, sheet=name) for name in book.sheetnames]


def read_rows(
    file: TableFile, skip: int, dialect: Dialect | None = None
) -> Iterator[Reading | list[list[str]]]:
    """Read a table: first its format, then its rows in batches.

    Rows without a cell that says anything are passed over; rows that are too short are filled.

    Args:
        file: the table.
        skip: how many lines come before its header.
        dialect: how it is written, where that is known from an earlier reading.

    Raises:
        NoTable: it cannot be read, or a row has more cells than the header.
    """
    with ExitStack() as stack:
        if file.sheet:
            batches = _rows_of_sheet(file, skip, stack)
            found = None
        else:
            found = dialect or _find_out(file, skip)
            batches = _rows_of_text(file, skip, found, stack)
        reading: Reading | None = None
        for lines, rows in batches:
            if reading is None:
                above = next((place for place, row in enumerate(rows) if any(row)), None)
                if above is None:
                    continue
                reading = Reading(found, _named(rows[above]))
                yield reading
                del rows[: above + 1], lines[: above + 1]
            width = len(reading.header)
            # Nearly always all are as long as they should be, which is quickly seen.
            if set(map(len, rows)) != {width}:
                rows = list(_evened(file, reading, zip(lines, rows, strict=True)))  # noqa: PLW2901
            if rows:
                yield rows
        if reading is None:
            raise NoTable(file.name, "is empty", "leave it out with --drop")


def _evened(
    file: TableFile, reading: Reading, lines: Iterable[tuple[int, list[str]]]
) -> Iterator[list[str]]:
    """Make rows as long as the header; empty rows are skipped."""
    width = len(reading.header)
    for number, row in lines:
        if len(row) == width:
            yield row
        elif any(row[width:]):
            raise NoTable(
                file.name,
                f"line {number:,} has {len(row)} cells, and its header has {width}",
                "fix it, or say with --skip-lines how many lines come before the header",
            )
        elif any(row):
            # A sheet ends where nothing more is said; a text that does is likely to be cut short.
            reading.short += reading.dialect is not None and len(row) < width
            yield (row + [""] * width)[:width]


def _find_out(file: TableFile, skip: int) -> Dialect:
    """Return the dialect of a file; all of it is read if its encoding is in doubt.

    Raises:
        NoTable: it is not text.
    """
    with ExitStack() as stack:
        beginning = _open(file, stack).read(SAMPLE_BYTES)
    dialect = dialect_of(beginning, skip)
    if dialect.encoding != "utf-16" and b"\0" in beginning:
        raise NoTable(
            file.name, "contains bytes that are not text", "unpack it first if it is packed"
        )
    if dialect.encoding == "utf-8" and len(beginning) == SAMPLE_BYTES:
        with ExitStack() as stack:
            text = stack.enter_context(io.TextIOWrapper(_open(file, stack), "utf-8", newline=""))
            try:
                while text.read(SAMPLE_BYTES):
                    pass
            except UnicodeDecodeError:
                return dialect_of(beginning, skip, "cp1252")
    return dialect


def _rows_of_text(
    file: TableFile, skip: int, dialect: Dialect, stack: ExitStack
) -> Iterator[tuple[list[int], list[list[str]]]]:
    """Yield batches of rows with the numbers of their last lines.

    Raises:
        NoTable: it cannot be read.
    """
    # What Windows-1252 leaves open is never written by those who use it.
    text = stack.enter_context(
        io.TextIOWrapper(
            _open(file, stack), dialect.encoding, errors="backslashreplace", newline=""
        )
    )
    csv.field_size_limit(_MAX_CELL_CHARACTERS)
    try:
        for _ in range(skip):
            text.readline()
        reader = csv.reader(text, delimiter=dialect.delimiter, strict=True)
        while True:
            rows = list(islice(reader, ROWS_PER_BATCH))
            if not rows:
                return
            # Cells that hold line ends are rare, and then only the last number is certain.
            lines = range(reader.line_num - len(rows) + 1, reader.line_num + 1)
            yield [line + skip for line in lines], rows
    except (csv.Error, EOFError, ValueError) as error:
        raise NoTable(
            file.name, f"cannot be read: {str(error).lower()}", "check the file"
        ) from None
    except OSError as error:
        raise NoTable(file.name, f"cannot be read: {plainly(error)}", "check the file") from None


def _rows_of_sheet(
    file: TableFile, skip: int, stack: ExitStack
) -> Iterator[tuple[list[int], list[list[str]]]]:
    sheet = _open_book(file, stack)[file.sheet]
    rows = enumerate(sheet.iter_rows(min_row=skip + 1, values_only=True), skip + 1)
    while batch := list(islice(rows, ROWS_PER_BATCH)):
        yield [number for number, _ in batch], [_ended([*map(_written, row)]) for _, row in batch]


def _ended(cells: list[str]) -> list[str]:
    """Return a row without empty cells at its end; sheets are as wide as their widest row."""
    while cells and not cells[-1]:
        cells.pop()
    return cells


def _open(file: TableFile, stack: ExitStack) -> BinaryIO:
    """Return the text of a file, decompressed if necessary.

    Raises:
        NoTable: it cannot be opened.
    """
    try:
        plain = stack.enter_context(file.open())
        packing = packing_of(plain.read(8))
        plain.seek(0)
    except OSError as error:
        raise NoTable(file.name, f"cannot be read: {plainly(error)}", "check the file") from None
    return stack.enter_context(closing(open_packed(plain, packing)))


def _open_book(file: TableFile, stack: ExitStack) -> Any:
    import zipfile

    import openpyxl  # slow to import, and few need it

    try:
        source = stack.enter_context(file.open())
        book = openpyxl.load_workbook(source, read_only=True, data_only=True)
    except (OSError, KeyError, ValueError, zipfile.BadZipFile) as error:
        reason = f"not a readable workbook: {str(error).rstrip('.').lower()}"
        raise NoTable(file.name, reason, "check the file") from None
    stack.callback(book.close)
    return book


def _written(cell: object) -> str:
    """Return the cell of a workbook as text."""
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


def _named(header: list[str]) -> list[str]:
    """Return unique names for columns.

    Blanks around them are removed, empty ones numbered, duplicates marked.
    """
    names: list[str] = []
    taken: set[str] = set()
    for place, cell in enumerate(header, 1):
        name = stem = " ".join(cell.split()) or f"column_{place}"
        number = 1
        while name.casefold() in taken:
            number += 1
            name = f"{stem}_{number}"
        taken.add(name.casefold())
        names.append(name)
    return names
