"""The dialect of a text table (RFC 4180 and variants), detected from its start."""

from __future__ import annotations

import codecs
import csv
import re
from collections import Counter
from collections.abc import Iterator
from itertools import islice

from willow_cart.errors import BadOption
from willow_cart.structs import Value

SAMPLE_BYTES = 1 << 20
"""The bytes from which a dialect is detected."""

# Titles and notes before a table are shorter than this.
_MAX_LINES_BEFORE = 20

_DELIMITERS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "|"}
_SAMPLE_ROWS = 500

# In prose, hardly two lines have as many commas; a table may have a remark below.
_PLAINLY_EVEN = 0.9

# The marks that say how a text is encoded (Unicode, 2.6 and 23.8).
_MARKS = {b"\xef\xbb\xbf": "utf-8-sig", b"\xff\xfe": "utf-16", b"\xfe\xff": "utf-16"}

# Numbers with fractions, perhaps with marks between thousands.
_GROUPS = "(?:[ '\u00a0\u2009\u2019\u202f{}]\\d{{3}})+"
_WITH_COMMA = re.compile(rf"\s*[+-]?(?:\d+|\d{{1,3}}{_GROUPS.format('.')}),\d+\s*")
_WITH_POINT = re.compile(rf"\s*[+-]?(?:\d*|\d{{1,3}}{_GROUPS.format(',')})\.\d+\s*")


class Dialect(Value):
    """A dialect of text tables.

    Attributes:
        encoding: as Python names it.
        delimiter: between cells.
        decimal: the mark in numbers.
    """

    encoding: str = "utf-8"
    delimiter: str = ","
    decimal: str = "."

    def __str__(self) -> str:
        mark = "point" if self.decimal == "." else "comma"
        label = encoding_label(self.encoding)
        return f"columns separated by {_DELIMITERS[self.delimiter]}, decimal {mark}, {label}"


def encoding_label(encoding: str) -> str:
    """Return the name of an encoding for users, from Python's."""
    return {"utf-8-sig": "UTF-8", "cp1252": "Windows-1252"}.get(encoding, encoding.upper())


def encoding_named(name: str) -> str:
    """Return an encoding by one of its names, as Python names it.

    Raises:
        BadOption: it is not a text encoding.
    """
    try:
        known = codecs.lookup(name)
        "".encode(known.name)
    except (LookupError, UnicodeError):
        why = "is not a text encoding that is known"
        raise BadOption(f"--encoding {name}", why, "use utf-8, cp1252, latin-1 or utf-16") from None
    return known.name


def encoding_of(beginning: bytes) -> str:
    """Return the encoding of a text, judging by its start.

    Text that is not UTF-8 is assumed to be Windows-1252.
    """
    for mark, encoding in _MARKS.items():
        if beginning.startswith(mark):
            return encoding
    try:
        beginning.decode("utf-8")
    except UnicodeDecodeError as error:
        # A letter of several bytes may have been cut in two at the end.
        if error.start < len(beginning) - 3:
            return "cp1252"
    return "utf-8"


def dialect_of(beginning: bytes, skip: int = 0, encoding: str = "") -> Dialect:
    """Return the dialect of a table, judging by its start.

    Args:
        beginning: its first bytes, as many as `SAMPLE_BYTES`.
        skip: how many lines come before its header.
        encoding: where it is known already.
    """
    encoding = encoding or encoding_of(beginning)
    text = beginning.decode(encoding, "replace")
    lines = text.splitlines(keepends=True)[skip:]
    if len(beginning) >= SAMPLE_BYTES:
        lines = lines[:-1]  # it may have been cut in two
    delimiter = max(_DELIMITERS, key=lambda each: _evenness(lines, each))
    return Dialect(encoding, delimiter, "," if _has_commas(lines, delimiter) else ".")


def looks_like_table(beginning: bytes) -> bool:
    """Whether a text is plainly a table: nearly all lines have as many cells, and several."""
    encoding = encoding_of(beginning)
    lines = beginning.decode(encoding, "replace").splitlines(keepends=True)
    even, width = max(_evenness(lines, each) for each in _DELIMITERS)
    return len(lines) > 1 and width > 1 and even >= _PLAINLY_EVEN


def lines_before_table(beginning: bytes) -> int:
    """Return how many lines seem to come before the header of a table; 0 if it begins at once."""
    lines = beginning.decode(encoding_of(beginning), "replace").splitlines(keepends=True)
    for skip in range(min(_MAX_LINES_BEFORE, len(lines) - 1)):
        even, width = max(_evenness(lines[skip:], each) for each in _DELIMITERS)
        if width > 1 and even >= _PLAINLY_EVEN:
            return skip
    return 0


def _evenness(lines: list[str], delimiter: str) -> tuple[float, int]:
    """Return how evenly a delimiter splits lines; a row of one cell is not split."""
    widths = Counter(len(row) for row in _rows(lines, delimiter) if row)
    if not widths:
        return 0.0, 0
    # The header counts most: what is not in it cannot be the delimiter.
    first = len(next(row for row in _rows(lines, delimiter) if row))
    if first < 2:
        return 0.0, 0
    return widths[first] / widths.total(), first


def _has_commas(lines: list[str], delimiter: str) -> bool:
    """Whether numbers have decimal commas."""
    if delimiter == ",":
        return False
    commas = points = 0
    for row in _rows(lines, delimiter):
        commas += sum(_WITH_COMMA.fullmatch(cell) is not None for cell in row)
        points += sum(_WITH_POINT.fullmatch(cell) is not None for cell in row)
    return commas > points


def _rows(lines: list[str], delimiter: str) -> Iterator[list[str]]:
    try:
        yield from islice(csv.reader(lines, delimiter=delimiter), _SAMPLE_ROWS)
    except csv.Error:
        return  # reading it whole reports the error
