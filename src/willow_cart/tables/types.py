"""The types of columns."""

from __future__ import annotations

from enum import IntEnum

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
