"""Files that hold tables: texts, packed or not, and the sheets of workbooks."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import ExitStack, closing
from typing import Any, BinaryIO

from willow_cart.archives.tars import open_packed, packing_of
from willow_cart.errors import NoTable, plainly
from willow_cart.kinds import extension_of, stem_of
from willow_cart.outside_values import MAX_COLUMNS
from willow_cart.structs import Record, Value, field, replace
from willow_cart.tables.dialect import SAMPLE_BYTES, Dialect, dialect_of, looks_like_table
from willow_cart.workbooks import EXTENSIONS, UnreadableWorkbook, open_workbook

_PACKED = frozenset({"gz", "bz2", "xz", "zst"})
_TEXTS = frozenset({"csv", "tsv", "tab"})
_MAYBE_TABLES = frozenset({"txt", "dat", "asc"})


class TableFile(Value):
    """A table to be read.

    Attributes:
        open: opens it to be read.
        file_name: its name.
        name: the value of `source_file` in its rows.
        sha256: of the file, in hexadecimal.
        parts: further columns that are the same in all of its rows, by their names.
        sheet: of a workbook; empty for other files.
        place: the full path of the folder that `name` is below; empty if it is below none.
    """

    open: Callable[[], BinaryIO]
    file_name: str
    name: str
    sha256: str
    parts: Mapping[str, str] = field(default_factory=dict)
    sheet: str = ""
    place: str = ""


class Reading(Record):
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
    extension = _extension_of_content(name)
    return extension in _TEXTS or extension in EXTENSIONS


def may_be_table(name: str) -> bool:
    """Whether files of such a name are tables or other texts, as loggers write them."""
    return _extension_of_content(name) in _MAYBE_TABLES


def _extension_of_content(name: str) -> str:
    """Return the extension of a file, or of what is packed in it."""
    extension = extension_of(name)
    return extension_of(stem_of(name)) if extension in _PACKED else extension


def holds_table(open_file: Callable[[], BinaryIO], name: str) -> bool:
    """Whether a file whose name says little is plainly a table."""
    with ExitStack() as stack:
        try:
            beginning = open_plain(TableFile(open_file, name, name, ""), stack).read(SAMPLE_BYTES)
        except (NoTable, OSError, EOFError, ValueError):
            return False
    return b"\0" not in beginning and looks_like_table(beginning)


def sheets_of(file: TableFile) -> list[TableFile]:
    """Return the tables in a file: each sheet of a workbook, or the file itself.

    Raises:
        NoTable: it is a workbook that cannot be opened.
    """
    if extension_of(file.file_name) not in EXTENSIONS:
        return [file]
    with ExitStack() as stack:
        book = open_book(file, stack)
        return [replace(file, sheet=name) for name in book.sheetnames]


def dialect_by_beginning(file: TableFile, skip: int, encoding: str = "") -> Dialect:
    """Return the dialect of a file, judging by its start, in an encoding that is known or not.

    Raises:
        NoTable: it cannot be opened, or is not text.
    """
    with ExitStack() as stack:
        try:
            beginning = open_plain(file, stack).read(SAMPLE_BYTES)
        except (OSError, EOFError, ValueError) as error:
            raise unreadable(file, error) from None
    dialect = dialect_of(beginning, skip, encoding)
    if dialect.encoding != "utf-16" and b"\0" in beginning:
        raise NoTable(
            file.name, "contains bytes that are not text", "decompress it first if it is compressed"
        )
    return dialect


def open_plain(file: TableFile, stack: ExitStack) -> BinaryIO:
    """Return the text of a file, decompressed if necessary.

    Raises:
        NoTable: it cannot be opened.
    """
    try:
        plain = stack.enter_context(file.open())
        packing = packing_of(plain.read(8))
        plain.seek(0)
    except OSError as error:
        raise unreadable(file, error) from None
    return stack.enter_context(closing(open_packed(plain, packing)))


def open_book(file: TableFile, stack: ExitStack) -> Any:
    """Return a workbook, as its library has it.

    Raises:
        NoTable: it cannot be opened.
    """
    try:
        book = open_workbook(stack.enter_context(file.open()))
    except (OSError, UnreadableWorkbook) as error:
        said = plainly(error) if isinstance(error, OSError) else str(error)
        raise not_a_workbook(file, said) from None
    stack.callback(book.close)
    return book


def not_a_workbook(file: TableFile, reason: str) -> NoTable:
    """Return the error for a workbook that cannot be read."""
    return NoTable(file.name, f"not a readable workbook: {reason}", "check the file")


def unreadable(file: TableFile, error: Exception) -> NoTable:
    """Return the error for a table that cannot be read to its end."""
    reason = plainly(error) if isinstance(error, OSError) else str(error).lower()
    return NoTable(file.name, f"cannot be read: {reason}", "check the file")


def unique_names(header: list[str]) -> list[str]:
    """Return unique names for columns.

    Spaces around them are removed, empty ones numbered, duplicates marked.

    Raises:
        ValueError: they are too many.
    """
    if len(header) > MAX_COLUMNS:
        raise ValueError(f"it has {len(header):,} columns, and at most {MAX_COLUMNS:,} are read")
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
