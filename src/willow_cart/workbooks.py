"""Workbooks (Office Open XML, ECMA-376) as rows of text cells."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from datetime import date, datetime, time
from typing import Any, BinaryIO

EXTENSIONS = frozenset({"xlsx", "xlsm"})


class UnreadableWorkbook(Exception):
    """A file that is not a workbook, or is damaged; the text says why, as a clause."""


def open_workbook(file: BinaryIO) -> Any:
    """Open a workbook, as its library has it, with values in place of formulas.

    Raises:
        UnreadableWorkbook: it cannot be opened.
        OSError: the file cannot be read.
    """
    import openpyxl  # slow to import, and few need it

    try:
        return openpyxl.load_workbook(file, read_only=True, data_only=True)
    except (KeyError, ValueError, zipfile.BadZipFile) as error:
        raise UnreadableWorkbook(str(error).rstrip(".").lower()) from None


def rows_of(sheet: Any, skip: int = 0) -> Iterator[tuple[int, list[str]]]:
    """Yield the rows of a sheet as texts, with their numbers from 1.

    Empty cells at the end are left out: sheets are as wide as their widest row.

    Args:
        sheet: as the library has it.
        skip: how many rows to pass over.
    """
    rows = sheet.iter_rows(min_row=skip + 1, values_only=True)
    for number, row in enumerate(rows, skip + 1):
        cells = [*map(text_of, row)]
        while cells and not cells[-1]:
            cells.pop()
        yield number, cells


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
