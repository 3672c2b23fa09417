"""The types of columns."""

from __future__ import annotations

from enum import IntEnum

Value = int | float | str | None
"""A cell as it is stored; None for an empty one."""


class Type(IntEnum):
    """The type of a column; a larger one can hold the values of a smaller one, except times."""

    EMPTY = 0
    INTEGER = 1
    LONG = 2
    """Whole numbers of which some are beyond 2^53: as REAL they would be other numbers."""
    REAL = 3
    TIME = 4
    """A day or a moment, by a clock that is not told."""
    ZONED = 5
    """A moment in a time zone."""
    TEXT = 6

    def __str__(self) -> str:
        return ("empty", "integer", "integer", "real", "time", "time with zone", "text")[self]

    def together(self, other: Type) -> Type:
        """Return the type that holds the values of both."""
        low, high = sorted((self, other))
        if low is high or low is Type.EMPTY or high is Type.TEXT:
            return high
        holds = (low, high) in ((Type.INTEGER, Type.LONG), (Type.INTEGER, Type.REAL))
        return high if holds else Type.TEXT
