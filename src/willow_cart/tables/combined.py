"""How tables are combined, the types of their columns, and the result."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence
from enum import IntEnum

from willow_cart.errors import Exit
from willow_cart.model import Issue
from willow_cart.structs import Record, Value, field

CellValue = int | float | str | None
"""A cell as it is stored; None for an empty one."""


class Type(IntEnum):
    """The type of a column; a larger one can hold the values of a smaller one, except times."""

    EMPTY = 0
    INTEGER = 1
    LONG = 2
    """Whole numbers of which some are beyond 2^53: as REAL they would be other numbers."""
    REAL = 3
    TIME = 4
    """A date or a time, without a time zone."""
    ZONED = 5
    """A time in a time zone."""
    TEXT = 6

    def __str__(self) -> str:
        return ("empty", "integer", "integer", "number", "time", "time with zone", "text")[self]

    def together(self, other: Type) -> Type:
        """Return the type that holds the values of both."""
        low, high = sorted((self, other))
        if low is high or low is Type.EMPTY or high is Type.TEXT:
            return high
        holds = (low, high) in ((Type.INTEGER, Type.LONG), (Type.INTEGER, Type.REAL))
        return high if holds else Type.TEXT


class Combining(Value):
    """How to combine tables.

    Attributes:
        skip: how many lines come before the header of each.
        columns: which columns, in this order. Empty takes all.
        strict: whether tables whose columns differ are refused, and cells of another type.
        encoding: of texts; empty detects it.
        mixed: whether tables that share few columns with the others are taken.
        day_first: whether dates are written as day, month and year.
        thousands: the name of the mark between thousands; empty for none.
    """

    skip: int = 0
    columns: tuple[str, ...] = ()
    strict: bool = False
    encoding: str = ""
    mixed: bool = False
    day_first: bool = False
    thousands: str = ""

    @property
    def mark(self) -> str:
        """Return an identifier of these settings, for rows that exist already."""
        settings: list[object] = [self.skip, self.columns]
        settings += [self.encoding] if self.encoding else []
        forms = {"day_first": self.day_first, "thousands": self.thousands}
        settings += [forms] if any(forms.values()) else []
        return json.dumps(settings)


class ColumnSummary(Record):
    """A summary of a column of the combined table.

    Attributes:
        type: what it holds.
        filled: how many cells are not empty.
        empty: how many do not.
        least, greatest: of its numbers or times; None for text.
    """

    type: Type
    filled: int = 0
    empty: int = 0
    least: CellValue = None
    greatest: CellValue = None


class Combined(Record):
    """The result of combining tables.

    Attributes:
        files: how many tables were read.
        unchanged: how many were in it already, as they are.
        rows: how many rows were written.
        kept: how many rows of other files, or of unchanged ones, stay in it.
        columns: what was written, by the names of columns.
        first: the first rows that were.
        dialects: how the tables are written, and how many are so.
        notes: what should be known: columns that differ, columns that are text for one cell's sake.
        troubles: tables that could not be read, and are not in it.
    """

    files: int = 0
    unchanged: int = 0
    rows: int = 0
    kept: int = 0
    columns: dict[str, ColumnSummary] = field(default_factory=dict)
    first: list[Sequence[CellValue]] = field(default_factory=list)
    dialects: Counter[str] = field(default_factory=Counter)
    notes: list[str] = field(default_factory=list)
    troubles: list[Issue] = field(default_factory=list)

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.INCOMPLETE if self.troubles else Exit.GOOD
