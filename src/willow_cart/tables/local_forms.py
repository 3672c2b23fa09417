"""Numbers and dates as they are written in some countries, in the forms that all programs read."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

THOUSANDS = {"comma": ",", "point": ".", "space": " \u00a0\u202f\u2009", "apostrophe": "'\u2019"}
"""The marks between thousands, by their names."""

_DECIMALS = {"comma": ".", "point": ","}

_DAY_FIRST = r"^\s*(\d{1,2})[./-](\d{1,2})[./-](\d{4})((?:[ T]\d.*)?)\s*$"


def decimal_for(thousands: str, detected: str) -> str:
    """Return the decimal mark of numbers, which is never that between thousands."""
    return _DECIMALS.get(thousands, detected)


def tidied(cells: pa.Array, *, day_first: bool, thousands: str, decimal: str) -> pa.Array:
    """Return cells with dates in ISO 8601 and without marks between thousands.

    What is neither stays as it is.

    Args:
        cells: strings.
        day_first: whether dates are written as day, month and year.
        thousands: the name of the mark; empty for none.
        decimal: the mark in numbers.
    """
    if day_first:
        cells = pc.replace_substring_regex(cells, _DAY_FIRST, r"\3-\2-\1\4")
        cells = pc.replace_substring_regex(cells, r"^(\d{4})-(\d)-", r"\1-0\2-")
        cells = pc.replace_substring_regex(cells, r"^(\d{4}-\d{2})-(\d)($|[ T])", r"\1-0\2\3")
    if thousands:
        marks = f"[{THOUSANDS[thousands]}]"
        fraction = rf"(?:\{decimal}\d+)?"
        is_number = pc.match_substring_regex(
            cells, rf"^\s*[+-]?\d{{1,3}}(?:{marks}\d{{3}})+{fraction}\s*$"
        )
        cells = pc.if_else(is_number, pc.replace_substring_regex(cells, marks, ""), cells)
    return cells
