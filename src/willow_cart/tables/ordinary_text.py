"""Read ordinary text tables by a library, in blocks.

A table is ordinary if each quote is where RFC 4180 has it and each row has as many cells as the
header. What is not is for the reader of rows (`table_rows`), which knows what to do or to report.
"""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections.abc import Iterator
from contextlib import ExitStack
from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.csv

from willow_cart.outside_values import MAX_TEXT_BYTES
from willow_cart.tables.dialect import SAMPLE_BYTES, Dialect
from willow_cart.tables.table_files import Reading, TableFile, open_plain, unique_names

# Smaller blocks cost more for each row; several are read at a time.
_BLOCK_BYTES = 2 << 20

_LINE_END = re.compile(rb"\r\n|\r(?!\Z)|\n")
_QUOTE = 0x22


class NotOrdinary(Exception):
    """A table that the library would not read as the reader of rows does."""


def read_ordinary(
    file: TableFile, skip: int, dialect: Dialect
) -> Iterator[Reading | pa.RecordBatch]:
    """Read a table: first its format, then its rows in blocks of strings.

    Args:
        skip: how many lines come before its header.
        dialect: how it is written.

    Raises:
        NotOrdinary: it is not an ordinary table; blocks may have come before.
    """
    with ExitStack() as stack:
        try:
            text = _Text(open_plain(file, stack), dialect, skip)
            header, above = _header_of(text.beginning, dialect)
            yield Reading(dialect, unique_names(header))
            for block in _blocks(text, dialect, len(header), stack):
                begin = min(above, block.num_rows)
                above -= begin
                if begin < block.num_rows:
                    yield block.slice(begin)
        except (pa.ArrowException, OSError, EOFError, ValueError) as error:
            raise NotOrdinary from error


def _blocks(
    text: _Text, dialect: Dialect, width: int, stack: ExitStack
) -> Iterator[pa.RecordBatch]:
    """Yield all rows, those above the first of the data included."""
    names = [str(place) for place in range(width)]
    source = stack.enter_context(pa.PythonFile(text, "r"))
    reader = pa.csv.open_csv(
        source,
        pa.csv.ReadOptions(block_size=_BLOCK_BYTES, column_names=names),
        pa.csv.ParseOptions(delimiter=dialect.delimiter, newlines_in_values=True),
        pa.csv.ConvertOptions(
            column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=False
        ),
    )
    with reader:
        yield from reader


def _header_of(beginning: bytes, dialect: Dialect) -> tuple[list[str], int]:
    """Return the header of a table, and how many rows of the library end with it.

    Raises:
        NotOrdinary: it is not in the beginning of the table.
    """
    text = io.StringIO(beginning.decode(errors="ignore"), newline="")
    number = 0
    try:
        for row in csv.reader(text, delimiter=dialect.delimiter, strict=True):
            number += bool(row)  # the library passes over empty lines
            if any(row):
                return row, number
    except csv.Error as error:
        raise NotOrdinary from error
    raise NotOrdinary


class _Text:
    """A table as UTF-8, without the lines above it; quotes are checked as it is read.

    Args:
        dialect: how it is written.
        skip: how many lines are above it.

    Raises:
        NotOrdinary: as for `read`.

    Attributes:
        beginning: the first bytes that `read` returns.
        closed: whether it will not be read any more.
    """

    def __init__(self, file: BinaryIO, dialect: Dialect, skip: int) -> None:
        self._file = file
        self._decoder = (
            None
            if dialect.encoding in ("utf-8", "utf-8-sig")
            else codecs.getincrementaldecoder(dialect.encoding)("backslashreplace")
        )
        self._quotes = Quotes(dialect.delimiter)
        self.closed = False
        data = self._next().removeprefix(codecs.BOM_UTF8)
        for _ in range(skip):
            if not data:
                break
            while not (end := _LINE_END.search(data)) and (more := self._next()):
                data += more
                if len(data) > MAX_TEXT_BYTES:
                    raise NotOrdinary
            data = data[end.end() :] if end else self._next()
        self.beginning = data or self._next()
        self._pending = self.beginning
        self._quotes.check(self.beginning)

    def read(self, size: int) -> bytes:
        """Return at most this many of the next bytes; empty at the end.

        Raises:
            NotOrdinary: a quote is where RFC 4180 has none.
        """
        if not self._pending:
            self._pending = self._next()
            self._quotes.check(self._pending)
        data, self._pending = self._pending[:size], self._pending[size:]
        return data

    def _next(self) -> bytes:
        if self._decoder is None:
            return self._file.read(SAMPLE_BYTES)
        while raw := self._file.read(SAMPLE_BYTES):
            if text := self._decoder.decode(raw):
                return text.encode()
        return self._decoder.decode(b"", final=True).encode()

    def close(self) -> None:
        """Do nothing: the file is closed by who opened it."""
        self.closed = True


class Quotes:
    """Checks that quotes begin and end cells (RFC 4180, section 2, 5 to 7).

    Quotes pair off: the first opens a cell, the next one closes it, and two inside a cell are one
    that closes and one that opens again at once. Only the places around each need be looked at.

    Args:
        delimiter: between cells.
    """

    def __init__(self, delimiter: str) -> None:
        self._borders = np.array([ord(delimiter), 0x0A, 0x0D, _QUOTE], np.uint8)
        self._is_open = False
        self._last = 0x0A

    def check(self, data: bytes) -> None:
        """Check the next bytes of a table; none at its end.

        Raises:
            NotOrdinary: a quote is inside a cell, or a cell goes on after it, or is never closed.
        """
        if not data:
            if self._is_open:
                raise NotOrdinary
            return
        # The last byte of what came before is looked at once more, with what follows it.
        text = np.frombuffer(bytes([self._last]) + data, np.uint8)
        self._require_end(text)
        places = np.flatnonzero(text[1:] == _QUOTE) + 1
        opening = places[int(self._is_open) :: 2]
        closing = places[int(not self._is_open) :: 2]
        before = text[opening - 1]
        if not np.isin(before, self._borders).all():
            raise NotOrdinary
        # One that opens right after another is half of a pair inside a cell.
        behind = closing[closing < len(text) - 1] + 1
        if not np.isin(text[behind], self._borders).all():
            raise NotOrdinary
        self._is_open ^= bool(len(places) % 2)
        self._last = int(text[-1])

    def _require_end(self, text: np.ndarray[tuple[int], np.dtype[np.uint8]]) -> None:
        """Refuse a cell that goes on after a quote at the end of the bytes before."""
        closes = self._last == _QUOTE and not self._is_open
        if closes and not np.isin(text[1], self._borders):
            raise NotOrdinary
