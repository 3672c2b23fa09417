"""Columns of text cells: which type they have, and their values in it.

Cells come in arrays of strings (Apache Arrow) and are tested and converted a block at a time.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from decimal import Decimal
from itertools import accumulate
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from willow_cart.structs import Record
from willow_cart.tables.combined import Type

EMPTY_WORDS = frozenset({"NA", "N/A", "n/a", "NaN", "nan", "NULL", "null"})
"""What stands for nothing in a column of numbers or times; in one of text it is text."""

# A number with zeros before it is a name (of a site, of a ring), and would lose them.
_INTEGER = r"[+-]?(?:0|[1-9]\d{0,17})"
# An exponent needs a point before it: 1E5 and 12E1 are names of samples and sites.
_REAL = r"[+-]?(?:(?:(?:0|[1-9]\d{0,17})MARK\d*|MARK\d+)(?:[eE][+-]?\d{1,4})?|0|[1-9]\d{0,17})"

# ISO 8601, as RFC 3339 and databases write it; other orders of day and month are ambiguous. Only
# days that exist (RFC 3339, 5.7): in a column of times, any other would end the writing.
_LEAP_YEAR = r"(?:\d\d(?:0[48]|[2468][048]|[13579][26])|(?:[02468][048]|[13579][26])00)"
_DAY = (
    r"(?:\d{4}-(?:(?:0[13578]|1[02])-(?:0[1-9]|[12]\d|3[01])|(?:0[469]|11)-(?:0[1-9]|[12]\d|30)"
    rf"|02-(?:0[1-9]|1\d|2[0-8]))|{_LEAP_YEAR}-02-29)"
)
_HOURS = r"(?:[01]\d|2[0-3])"
# Formats keep microseconds; a finer time is text, which keeps all of it.
_CLOCK = rf"{_HOURS}:[0-5]\d(?::[0-5]\d(?:\.\d{{1,6}}0{{0,3}})?)?"
_TIME = rf"{_DAY}(?:[T ]{_CLOCK})?"
_ZONED = rf"{_DAY}[T ]{_CLOCK}(?:Z|[+-]{_HOURS}:?[0-5]\d)"


def _patterns(mark: str) -> dict[Type, str]:
    """Return the expressions (RE2) for whole cells, narrow types first."""
    real = _REAL.replace("MARK", mark)
    parts = {Type.INTEGER: _INTEGER, Type.REAL: real, Type.TIME: _TIME, Type.ZONED: _ZONED}
    return {type_: rf"\A(?:{part})\z" for type_, part in parts.items()}


_PATTERNS = {".": _patterns(r"\."), ",": _patterns(",")}


class TableColumn(Record):
    """The facts about a column in one file.

    Attributes:
        decimal: the mark in its numbers.
        type: that all of its cells have.
        turned_at: the row, counted from 1, at which it turned out to be text; 0 if it has not.
        turned_by: the cell that did it.
        turned_from: the type of most cells, if that is another one; EMPTY if most are text.
        rows: how many cells were looked at.
    """

    decimal: str = "."
    type: Type = Type.EMPTY
    turned_at: int = 0
    turned_by: str = ""
    turned_from: Type = Type.EMPTY
    rows: int = 0

    def look_at(self, cells: pa.Array) -> None:
        """Examine more cells, given as strings."""
        if self.type is not Type.TEXT:
            self._settle(cells)
        self.rows += len(cells)

    def _settle(self, cells: pa.Array) -> None:
        # What is measured repeats itself, and each value need be tested once.
        said = pc.drop_null(_without_empty(pc.unique(cells)))
        if not len(said):
            return
        # Nearly always all are of the type that was seen before, which is quickly seen.
        before, patterns = self.type, _PATTERNS[self.decimal]
        for type_ in sorted(patterns, key=lambda each: each is not self.type):
            if pc.all(pc.match_substring_regex(said, patterns[type_])).as_py():
                self.type = self.type.together(_exact(said, type_, self.decimal))
                break
        else:
            self.type = Type.TEXT
        if self.type is Type.TEXT:
            self._find_turn(cells, before)

    def _find_turn(self, cells: pa.Array, before: Type) -> None:
        """Find the first cell with another type than most, or than those before."""
        types = self._types_of(cells)
        numbers, times = np.unique(types, return_counts=True)
        counts = {Type(number): count for number, count in zip(numbers, times, strict=True)}
        counts.pop(Type.EMPTY, None)
        most = max(counts, key=lambda each: counts[each])
        common = most if before is Type.EMPTY else before
        if common is not Type.TEXT:
            self.turned_from = common
        odd = [each for each in counts if each.together(common) is Type.TEXT]
        is_odd = np.isin(types, odd)
        if is_odd.any():
            row = int(is_odd.argmax())
            self.turned_at, self.turned_by = self.rows + row + 1, cells[row].as_py()

    def _types_of(self, cells: pa.Array) -> np.ndarray[tuple[int], np.dtype[np.int8]]:
        """Return the types of cells, as an array of their numbers."""
        said = pc.utf8_trim_whitespace(cells)
        types = np.full(len(cells), Type.TEXT, np.int8)
        for type_, pattern in reversed(_PATTERNS[self.decimal].items()):
            types[_flags(pc.match_substring_regex(said, pattern))] = type_
        for row in np.flatnonzero(types == Type.INTEGER):
            types[row] = _exact(said[row : row + 1], Type.INTEGER, self.decimal)
        for row in np.flatnonzero(types == Type.REAL):
            types[row] = _exact(said[row : row + 1], Type.REAL, self.decimal)
        types[_flags(pc.is_in(said, _NO_VALUE))] = Type.EMPTY
        return types


# Numbers of at most 15 characters are the same once they are stored: a double holds 15 digits.
_MAY_BE_INEXACT = {Type.INTEGER: "^.{16}", Type.REAL: "^.{16}|[eE]"}
_MOST_EXACT = 1 << 53


def _exact(said: pa.Array, type_: Type, decimal: str) -> Type:
    """Return the type in which numbers, given as strings without spaces, are stored exactly.

    A number is exact if the stored one, written back, has the same value.
    """
    if type_ not in (Type.INTEGER, Type.REAL):
        return type_
    # By a pattern: a length compared with a number would have pyarrow import pandas.
    doubtful = said.filter(pc.match_substring_regex(said, _MAY_BE_INEXACT[type_]))
    if not len(doubtful):
        return type_
    if type_ is Type.INTEGER:
        beyond = any(abs(int(cell)) > _MOST_EXACT for cell in doubtful.to_pylist())
        return Type.LONG if beyond else Type.INTEGER
    plain = doubtful if decimal == "." else pc.replace_substring(doubtful, decimal, ".")
    # Nearly all are written as the library writes them, which is quickly seen.
    written = pc.cast(pc.cast(plain, pa.float64()), pa.string())
    others = plain.filter(pc.not_equal(plain, written))
    return Type.REAL if all(map(_is_exact, others.to_pylist())) else Type.TEXT


def _is_exact(number: str) -> bool:
    """Whether a number is the same once it is stored as a double and written back."""
    stored = float(number)
    return math.isfinite(stored) and Decimal(repr(stored)) == Decimal(number)


def _flags(truths: pa.Array) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    """Return truths as NumPy has them; `to_numpy` would import pandas."""
    return np.from_dlpack(pc.cast(truths, pa.uint8())).astype(bool)


def convert(cells: pa.Array, type_: Type, decimal: str) -> pa.Array:
    """Convert the cells of a column to its type.

    Args:
        cells: strings, all of which have the type.
        decimal: the mark in their numbers.

    Returns:
        64-bit integers, 64-bit floats, or strings for texts and times; nulls for empty cells.
    """
    if type_ in (Type.TEXT, Type.EMPTY):
        return _without(_NO_TEXT, cells)
    said = _without_empty(cells)
    if type_ in (Type.INTEGER, Type.LONG):
        return pc.cast(pc.utf8_ltrim(said, "+"), pa.int64())
    if type_ is Type.REAL:
        with_points = said if decimal == "." else pc.replace_substring(said, decimal, ".")
        return pc.cast(with_points, pa.float64())
    return said


def as_written(cells: pa.Array, type_: Type, decimal: str) -> pa.Array:
    """Return the cells of a column as texts; numbers have points for decimal marks."""
    if type_ is Type.REAL and decimal != ".":
        pattern = _PATTERNS[decimal][Type.REAL]
        is_number = pc.match_substring_regex(pc.utf8_trim_whitespace(cells), pattern)
        return pc.if_else(is_number, pc.replace_substring(cells, decimal, "."), cells)
    return cells


def strings(values: Sequence[str]) -> pa.Array:
    """Return an array of strings.

    `pyarrow.array` would do, but imports pandas, which takes longer than most tables do.
    """
    joined = "".join(values)
    encoded = values if joined.isascii() else [value.encode() for value in values]
    ends = np.fromiter(accumulate(map(len, encoded), initial=0), np.int32, len(values) + 1)
    buffers = [None, pa.py_buffer(ends), pa.py_buffer(joined.encode())]
    return pa.Array.from_buffers(pa.string(), len(values), buffers)


_NO_TEXT = strings([""])
_NO_VALUE = strings(["", *sorted(EMPTY_WORDS)])


def _without_empty(cells: pa.Array) -> pa.Array:
    """Return cells without spaces around them; null for empty ones."""
    return _without(_NO_VALUE, pc.utf8_trim_whitespace(cells))


def _without(empty: pa.Array, cells: pa.Array) -> pa.Array:
    return pc.if_else(pc.is_in(cells, empty), pa.nulls(len(cells), pa.string()), cells)


def arrow_type(type_: Type) -> Any:
    """Return the Arrow type that `moments_in` gives a column; everything else is text."""
    return {
        Type.INTEGER: pa.int64(), Type.LONG: pa.int64(), Type.REAL: pa.float64(),
        Type.TIME: pa.timestamp("us"), Type.ZONED: pa.timestamp("us", "UTC"),
    }.get(type_, pa.string())  # fmt: skip


def cast_kept(cells: pa.Array, type_: pa.DataType) -> pa.Array:
    """Return values of an existing column in the type that it has from now on."""
    is_time = pa.types.is_timestamp(cells.type) and pa.types.is_string(type_)
    found = pc.cast(cells, type_)
    # The library writes all parts of a second, and a day as its first moment.
    return (
        pc.replace_substring_regex(found, r"(?: 00:00:00)?\.0+(Z?)$", r"\1") if is_time else found
    )


def with_moments(cells: pa.RecordBatch, types: Mapping[str, Type]) -> pa.RecordBatch:
    """Return rows with times as timestamps in microseconds; those with a zone are in UTC.

    Args:
        cells: the rows, with times as strings.
        types: of their columns, in their order.
    """
    schema = pa.schema([(name, arrow_type(type_)) for name, type_ in types.items()])
    columns = [
        _moments_of(each, field.type)
        if pa.types.is_timestamp(field.type) and pa.types.is_string(each.type)
        else each
        for each, field in zip(cells.columns, schema, strict=True)
    ]
    return pa.record_batch(columns, schema=schema)


def _moments_of(cells: pa.Array, type_: pa.DataType) -> pa.Array:
    try:
        return pc.cast(cells, type_)
    except pa.ArrowInvalid:  # parts of a microsecond, which few have
        return pc.cast(pc.replace_substring_regex(cells, r"(\.\d{6})\d+", r"\1"), type_)
