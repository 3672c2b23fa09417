"""Read and write tables in files (RFC 4180) row by row, as programs and spreadsheets write them."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import BinaryIO

from willow_cart.errors import BadOption, UnreadableSource, plainly
from willow_cart.kinds import ZIP
from willow_cart.model import Issue
from willow_cart.replacing import open_named, replacing
from willow_cart.structs import Value
from willow_cart.workbooks import UnreadableWorkbook, open_workbook, rows_of

_DELIMITERS = ",;\t"

# Longer than any header row, and than the first lines by which formats are recognised.
MAX_HEADER_BYTES = 1 << 16

# What makes a spreadsheet run a cell as a formula when the file is opened in one; the forms of
# full width do in some.
_RUNS = ("=", "+", "-", "@", "\t", "\r", "\uff1d", "\uff0b", "\uff0d", "\uff20")


class Style(Value):
    """The format of a table: encoding, delimiter, line ends.

    Attributes:
        delimiter: between cells.
        encoding: as Python names it, with a byte-order mark if it is `utf-8-sig` or `utf-16`.
    """

    delimiter: str = ","
    encoding: str = "utf-8"


class SheetRow(Value):
    """A row of a sheet.

    Attributes:
        number: as a spreadsheet counts, the first row being 1.
        cells: as they are written, one for each column.
    """

    number: int
    cells: list[str]


class Sheet:
    """A table with named columns, which can be read row by row any number of times.

    Args:
        opened: opens the file, or what stands for one.
        place: its path or address, for messages.

    Attributes:
        columns: the names of the columns, as they are written.
        style: how it is written.

    Raises:
        UnreadableSource: it has no column named `url`, or is not text.
    """

    def __init__(self, opened: Callable[[], BinaryIO], place: str) -> None:
        self._open = opened
        self._stamp: int | None = None
        self.place = place
        with opened() as file:
            beginning = file.read(MAX_HEADER_BYTES)
        encoding = encoding_of(beginning, place)
        # The last character may be cut in two, which does not matter here.
        header = _header_in(beginning.decode(encoding, "ignore"))
        if header is None:
            raise UnreadableSource(
                place, "has no column named url", "name the column of addresses url"
            )
        self.columns, delimiter = header
        self.style = Style(delimiter, encoding)
        self._places = places_of(self.columns)

    def is_alike(self, content: bytes) -> bool:
        """Whether a file has the same header in the same format."""
        header = io.StringIO()
        csv.writer(header, delimiter=self.style.delimiter).writerow(self.columns)
        return content.startswith(header.getvalue().encode(self.style.encoding))

    @classmethod
    def in_workbook(cls, file: BinaryIO, place: str) -> Sheet | None:
        """Return the first sheet of a workbook that has a column named `url`; None if none has.

        It is read only: what is written goes to a table in a text.
        """
        try:
            book = open_workbook(file)
            for sheet in book.worksheets:
                rows = (cells for _, cells in rows_of(sheet))
                header = next(filter(any, rows), [])
                if "url" in places_of(header):
                    text = io.StringIO(newline="")
                    csv.writer(text).writerows(cells for _, cells in rows_of(sheet))
                    content = text.getvalue().encode("utf-8", "replace")
                    return cls(partial(io.BytesIO, content), place)
        except UnreadableWorkbook as error:
            raise UnreadableSource(
                place, f"not a readable workbook: {error}", "save the list as CSV"
            ) from None
        return None

    @classmethod
    def at(cls, path: Path) -> Sheet:
        """Open the sheet in a cart's file.

        Raises:
            UnreadableSource: it does not exist, or is not a cart.
        """
        try:
            stamp = path.stat().st_mtime_ns
            sheet = cls(lambda: open_named(path), str(path))
            sheet._stamp = stamp
            return sheet
        except IsADirectoryError:
            raise UnreadableSource(
                str(path), "is a folder, not a cart", "name the file of a cart"
            ) from None
        except UnreadableSource as error:
            raise UnreadableSource(
                str(path), f"not a cart: {error.reason}", "convert it with load --cart"
            ) from None
        except FileNotFoundError:
            raise UnreadableSource(
                str(path), "no such cart", f"create one: willow-cart load SOURCE --cart {path.name}"
            ) from None
        except OSError as error:
            raise UnreadableSource(
                str(path), f"cannot be read: {plainly(error)}", "check the file"
            ) from None

    def require_unchanged(self) -> None:
        """Require that the file was not changed since it was opened.

        Raises:
            BadOption: another program wrote it, and that would be lost.
        """
        if self._stamp is not None and Path(self.place).stat().st_mtime_ns != self._stamp:
            raise BadOption(
                self.place,
                "was changed by another program in the meantime; not written",
                "close it there, and run the command again",
            )

    def place_of(self, column: str) -> int | None:
        """Return the index of a column, ignoring case; None for an unknown column."""
        return self._places.get(column)

    def rows(self) -> Iterator[SheetRow | Issue]:
        """Yield the non-empty rows below the header, and an issue for each unreadable one."""
        width = len(self.columns)
        with io.TextIOWrapper(
            self._open(), self.style.encoding, errors="surrogateescape", newline=""
        ) as text:
            rows = csv.reader(text, delimiter=self.style.delimiter)
            number, below = 0, False
            while True:
                number += 1
                try:
                    cells = next(rows)
                except StopIteration:
                    return
                except csv.Error as error:
                    yield Issue(f"{self.place}, row {number}", f"not a table row: {error}")
                    continue
                except UnicodeDecodeError:
                    yield Issue(f"{self.place}, row {number}", "is broken UTF-16; save it again")
                    return
                if not "".join(cells).strip():
                    continue
                if below:
                    cells += [""] * (width - len(cells))
                    yield SheetRow(number, cells)
                below = True


def encoding_of(beginning: bytes, place: str) -> str:
    """Return the encoding that the byte-order mark indicates; UTF-8 without one.

    Raises:
        UnreadableSource: it is not text.
    """
    if beginning.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "utf-16"
    if beginning.startswith(ZIP):
        raise UnreadableSource(
            place, "a workbook or an archive, not text", "name a list of addresses or a table"
        )
    if b"\0" in beginning[:4096]:
        raise UnreadableSource(place, "not text", "name a list of addresses or a table")
    return "utf-8-sig" if beginning.startswith(codecs.BOM_UTF8) else "utf-8"


def looks_like_sheet(text: str) -> bool:
    """Whether a text starts with a header row that has a `url` column."""
    return _header_in(text) is not None


def _header_in(text: str) -> tuple[list[str], str] | None:
    """Return the column names in the first line that is not empty.

    The second value is the delimiter between them.
    """
    line = re.split(r"[\r\n]", text.lstrip(), maxsplit=1)[0]
    for delimiter in _DELIMITERS:
        try:
            cells = next(csv.reader([line], delimiter=delimiter), [])
        except csv.Error:  # a line of a size that no header row has
            return None
        if "url" in places_of(cells):
            return cells, delimiter
    return None


def places_of(columns: Sequence[str]) -> Mapping[str, int]:
    """Return the first index of each column by its name, ignoring case and spaces."""
    places: dict[str, int] = {}
    for place, name in enumerate(columns):
        places.setdefault(name.strip().lower(), place)
    return places


@contextmanager
def writing(
    path: Path, columns: Sequence[str], style: Style, *, overwrite: bool = False
) -> Iterator[Callable[[list[str]], None]]:
    """Replace a sheet atomically.

    Args:
        path: where.
        columns: the header row.
        overwrite: whether a link there is replaced, and not what it leads to.

    Yields:
        What takes the rows, each a cell for each column.

    Raises:
        CannotStore: it cannot be written.
    """
    with replacing(path, style.encoding, overwrite=overwrite) as text:
        writer = csv.writer(text, delimiter=style.delimiter)
        writer.writerow(columns)
        yield writer.writerow


# The control characters of Unicode, without tab, line feed and carriage return, and those that
# end lines or turn the direction of what follows (UAX #9).
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u2028-\u202e\u2066-\u2069]")


def cover(cell: str) -> str:
    """Protect a cell from being run as a formula and from losing its outer spaces.

    Escaped cells are escaped again. Another character replaces those that control a
    terminal; line ends and tabs stay.
    """
    if not cell:
        return cell
    if not cell.isprintable():
        cell = _CONTROL.sub("\N{REPLACEMENT CHARACTER}", cell)
    return f"'{cell}" if _needs_cover(cell) else cell


def uncover(cell: str) -> str:
    """Return the content of a cell without its protection and outer spaces."""
    if cell.startswith("'") and _needs_cover(cell[1:]):
        return cell[1:]
    return cell.strip()


_COVERED = (*_RUNS, "'")


def _needs_cover(cell: str) -> bool:
    return cell.startswith(_COVERED) or cell != cell.strip()
