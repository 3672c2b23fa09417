"""Read tables row by row: the sheets of workbooks, and texts that are not ordinary.

Rows that are too short are filled and counted; what cannot be read is reported with its line.
"""

from __future__ import annotations

import codecs
import csv
import io
from collections import deque
from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from itertools import chain, islice
from typing import TextIO

import pyarrow as pa

from willow_cart.errors import NoTable
from willow_cart.outside_values import MAX_TEXT_BYTES
from willow_cart.tables.column_types import strings
from willow_cart.tables.dialect import SAMPLE_BYTES, Dialect, dialect_of
from willow_cart.tables.table_files import (
    Reading,
    TableFile,
    dialect_by_beginning,
    not_a_workbook,
    open_book,
    open_plain,
    unique_names,
    unreadable,
)
from willow_cart.units import format_size
from willow_cart.workbooks import UnreadableWorkbook, rows_of

# What is in memory at a time. The first batch is small, for rows may be of any length.
_CHARACTERS_PER_BATCH = 4 << 20
_MAX_ROWS_PER_BATCH = 20_000
_FIRST_ROWS = 100

_Batch = tuple[list[int], list[list[str]]]


def read_rows(
    file: TableFile, skip: int, dialect: Dialect | None = None, encoding: str = ""
) -> Iterator[Reading | pa.RecordBatch]:
    """Read a table: first its format, then its rows in batches of strings.

    Rows without content are passed over; rows that are too short are filled.

    Args:
        skip: how many lines come before its header.
        dialect: how it is written, where that is known from an earlier reading.
        encoding: of the text; empty for unknown.

    Raises:
        NoTable: it cannot be read, or a row has more cells than the header.
    """
    with ExitStack() as stack:
        if file.sheet:
            batches = _rows_of_sheet(file, skip, stack)
            found = None
        else:
            found = dialect or _find_out(file, skip, encoding)
            batches = _rows_of_text(file, skip, found, stack)
        reading: Reading | None = None
        for lines, rows in batches:
            if reading is None:
                above = next((place for place, row in enumerate(rows) if any(row)), None)
                if above is None:
                    continue
                try:
                    reading = Reading(found, unique_names(rows[above]))
                except ValueError as error:
                    raise unreadable(file, error) from None
                yield reading
                del rows[: above + 1], lines[: above + 1]
            width = len(reading.header)
            # Nearly always all are as long as they should be, which is quickly seen.
            if set(map(len, rows)) != {width}:
                rows = list(_evened(file, reading, zip(lines, rows, strict=True)))  # noqa: PLW2901
            if rows:
                columns = zip(*rows, strict=True)
                names = [str(place) for place in range(width)]
                yield pa.record_batch([strings(cells) for cells in columns], names)
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
                "fix it, or use --skip-lines if lines come before the header",
            )
        elif any(row):
            # A sheet ends where nothing more is said; a text that does is likely to be cut short.
            reading.short += reading.dialect is not None and len(row) < width
            yield (row + [""] * width)[:width]


def _find_out(file: TableFile, skip: int, encoding: str) -> Dialect:
    """Return the dialect of a file; all of it is read if its encoding is in doubt.

    Raises:
        NoTable: it is not text.
    """
    dialect = dialect_by_beginning(file, skip, encoding)
    if not encoding and dialect.encoding == "utf-8":
        with ExitStack() as stack:
            plain = open_plain(file, stack)
            beginning = piece = plain.read(SAMPLE_BYTES)
            # A letter of several bytes may have been cut in two.
            decoder = codecs.getincrementaldecoder("utf-8")()
            try:
                while piece:
                    decoder.decode(piece)
                    piece = plain.read(SAMPLE_BYTES)
            except UnicodeDecodeError:
                return dialect_of(beginning, skip, "cp1252")
    return dialect


def _rows_of_text(
    file: TableFile, skip: int, dialect: Dialect, stack: ExitStack
) -> Iterator[_Batch]:
    """Yield batches of rows with the numbers of their last lines.

    Raises:
        NoTable: it cannot be read.
    """
    # What Windows-1252 leaves open is never written by those who use it.
    text = stack.enter_context(
        io.TextIOWrapper(
            open_plain(file, stack), dialect.encoding, errors="backslashreplace", newline=""
        )
    )
    csv.field_size_limit(MAX_TEXT_BYTES)
    lines = _lines_of(text)
    try:
        deque(islice(lines, skip), maxlen=0)
        reader = csv.reader(lines, delimiter=dialect.delimiter, strict=True)
        yield from _batches((reader.line_num + skip, row) for row in reader)
    except (csv.Error, OSError, EOFError, ValueError) as error:
        raise unreadable(file, error) from None


def _lines_of(text: TextIO) -> Iterator[str]:
    """Yield the lines of a text.

    Raises:
        ValueError: one is too long.
    """
    while line := text.readline(MAX_TEXT_BYTES):
        if len(line) == MAX_TEXT_BYTES:
            raise ValueError(f"it has a line of more than {format_size(MAX_TEXT_BYTES)}")
        yield line


def _rows_of_sheet(file: TableFile, skip: int, stack: ExitStack) -> Iterator[_Batch]:
    try:
        yield from _batches(rows_of(open_book(file, stack)[file.sheet], skip))
    except UnreadableWorkbook as error:
        raise not_a_workbook(file, str(error)) from None


def _batches(numbered: Iterator[tuple[int, list[str]]]) -> Iterator[_Batch]:
    """Group rows by the memory they take; yield the numbers of their lines, and the rows."""
    most = _FIRST_ROWS
    while batch := list(islice(numbered, most)):
        yield [number for number, _ in batch], [row for _, row in batch]
        characters = sum(map(len, chain.from_iterable(row for _, row in batch)))
        fit = _CHARACTERS_PER_BATCH * len(batch) // (characters + 1)
        most = min(max(fit, 1), _MAX_ROWS_PER_BATCH)
