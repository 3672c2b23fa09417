"""The types of columns, decided over all files: integers, numbers, times or text."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import IntEnum

EMPTY_WORDS = frozenset({"NA", "N/A", "n/a", "NaN", "nan", "NULL", "null"})
"""What stands for nothing in a column of numbers or times; in one of text it is text."""

# A number with zeros before it is a name (of a site, of a ring), and would lose them.
_INTEGER = re.compile(r"[+-]?(?:0|[1-9]\d{0,17})")
_REAL = {
    mark: re.compile(
        rf"[+-]?(?:(?:0|[1-9]\d{{0,17}})(?:{re.escape(mark)}\d*)?|{re.escape(mark)}\d+)"
        r"(?:[eE][+-]?\d+)?"
    )
    for mark in ".,"
}
# ISO 8601, as RFC 3339 and databases write it; other orders of day and month are ambiguous.
_DAY = r"\d{4}-(?:0[1-9]|1[0-2])-(?:0[1-9]|[12]\d|3[01])"
_CLOCK = r"(?:[01]\d|2[0-3]):[0-5]\d(?::[0-5]\d(?:\.\d{1,9})?)?"
_TIME = re.compile(rf"{_DAY}(?:[T ]{_CLOCK})?")
_ZONED = re.compile(rf"{_DAY}[T ]{_CLOCK}(?:Z|[+-]\d\d:?\d\d)")

Value = int | float | str | None
"""A cell as it is stored; None for an empty one."""


class Type(IntEnum):
    """The type of a column; a larger one can hold the values of a smaller one, except times."""

    EMPTY = 0
    INTEGER = 1
    REAL = 2
    TIME = 3
    """A day or a moment, by a clock that is not told."""
    ZONED = 4
    """A moment in a time zone."""
    TEXT = 5

    def __str__(self) -> str:
        return ("empty", "integer", "real", "time", "time with zone", "text")[self]

    def together(self, other: Type) -> Type:
        """Return the type that holds the values of both."""
        low, high = sorted((self, other))
        if low is high or low is Type.EMPTY or high is Type.TEXT:
            return high
        return high if high is Type.REAL else Type.TEXT


@dataclass(slots=True)
class TableColumn:
    """The facts about a column in one file.

    Attributes:
        type: that all of its cells have.
        decimal: the mark in its numbers.
        turned_at: the row, counted from 1, at which it turned out to be text; 0 if it has not.
        turned_by: the cell that did it.
        rows: how many cells were looked at.
    """

    decimal: str = "."
    type: Type = Type.EMPTY
    turned_at: int = 0
    turned_by: str = ""
    rows: int = 0

    def look_at(self, cells: Sequence[str]) -> None:
        """Examine more cells."""
        if self.type is not Type.TEXT:
            self._settle(cells)
        self.rows += len(cells)

    def _settle(self, cells: Sequence[str]) -> None:
        # What is measured repeats itself, and each cell need be looked at once.
        said = {cell for cell in map(str.strip, set(cells)) if cell and cell not in EMPTY_WORDS}
        if not said:
            return
        # Nearly always all are of one type, which is quickly seen.
        for type_, is_one in _tests(self.decimal):
            if all(map(is_one, said)):
                self.type = self.type.together(type_)
                break
        else:
            self.type = Type.TEXT
        if self.type is Type.TEXT:
            self._find_turn(cells)

    def _find_turn(self, cells: Sequence[str]) -> None:
        """Find the first cell with another type than most."""
        kinds = [self._type_of(cell.strip()) for cell in cells]
        common = max(set(kinds) - {Type.EMPTY}, key=kinds.count)
        for row, (cell, kind) in enumerate(zip(cells, kinds, strict=True), self.rows + 1):
            if kind is Type.TEXT or (kind is not Type.EMPTY and kind.together(common) is Type.TEXT):
                self.turned_at, self.turned_by = row, cell
                return

    def _type_of(self, cell: str) -> Type:
        if not cell or cell in EMPTY_WORDS:
            return Type.EMPTY
        return next((type_ for type_, is_one in _tests(self.decimal) if is_one(cell)), Type.TEXT)


def _tests(decimal: str) -> Sequence[tuple[Type, Callable[[str], object]]]:
    return (
        (Type.INTEGER, _INTEGER.fullmatch),
        (Type.REAL, _REAL[decimal].fullmatch),
        (Type.TIME, _TIME.fullmatch),
        (Type.ZONED, _ZONED.fullmatch),
    )


def convert(cells: Sequence[str], type_: Type, decimal: str) -> list[Value]:
    """Convert the cells of a column to its type."""
    if type_ in (Type.TEXT, Type.EMPTY):
        return [cell or None for cell in cells]
    values = {cell: _value(cell.strip(), type_, decimal) for cell in set(cells)}
    return [*map(values.__getitem__, cells)]


def _value(cell: str, type_: Type, decimal: str) -> Value:
    if not cell or cell in EMPTY_WORDS:
        return None
    if type_ is Type.INTEGER:
        return int(cell)
    if type_ is Type.REAL:
        return float(cell.replace(",", ".") if decimal == "," else cell)
    return cell
