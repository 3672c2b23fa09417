"""Read single values in text from elsewhere; one that cannot be right costs itself and no more."""

from __future__ import annotations

import json
import re
from array import array
from datetime import UTC, datetime
from itertools import accumulate
from typing import Any
from urllib.parse import quote

MAX_DEPTH = 200
"""How deeply JSON may be nested, and pages."""

MAX_COLUMNS = 20_000
"""How many columns a table may have; spreadsheets have 16,384 at most."""

MAX_TEXT_BYTES = 32 << 20
"""The longest line, cell or other text that is held in memory as a whole."""

MAX_ELEMENTS = 4_000_000
"""How many tags of XML are held in memory at a time."""

MAX_SHEET_ROWS = 1 << 20
"""How many rows a sheet of a workbook has (ECMA-376, 18.3.1.73)."""

MAX_PAGE_BYTES = 64 << 20
"""How large a page of a Parquet file may be; writers make pages of 1 MiB."""

_PIECE_BYTES = 1 << 20
_ESCAPED = re.compile(rb"\\.", re.DOTALL)
_BRACKETS = bytes.maketrans(b"[{]}", b"\x01\x01\xff\xff")
_NO_BRACKETS = bytes({*range(256)} - {*b"[]{}"})


def require_shallow(text: bytes) -> None:
    """Refuse JSON that is nested too deeply; invalid JSON is left to its parser.

    Raises:
        ValueError: it is.
    """
    depth, inside, at = 0, False, 0
    while at < len(text):
        piece = text[at : at + _PIECE_BYTES]
        while piece.endswith(b"\\") and at + len(piece) < len(text):
            piece = text[at : at + len(piece) + 1]  # keep an escape in one piece
        at += len(piece)
        if b"\\" in piece:
            piece = _ESCAPED.sub(b"", piece)
        parts = piece.split(b'"')
        outside = b"".join(parts[int(inside) :: 2])
        inside ^= len(parts) % 2 == 0
        steps = array("b", outside.translate(_BRACKETS, _NO_BRACKETS))
        if max(accumulate(steps, initial=depth)) > MAX_DEPTH:
            raise ValueError("is nested too deeply")
        depth += sum(steps)


# As many digits as any real number has; Python takes minutes for very long ones.
_MAX_DIGITS = 30


def with_zone(moment: datetime) -> datetime | None:
    """Return a time with its zone; one without is in UTC.

    None for the first and the last year of the calendar, which no zone or margin may leave.
    """
    if not 1 < moment.year < 9999:
        return None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def read_iso(text: str | None) -> datetime | None:
    """Read a date or a time in ISO 8601; UTC without a zone, and None if invalid."""
    try:
        return with_zone(datetime.fromisoformat(text or ""))
    except ValueError:
        return None


def moment_at(seconds: float | None) -> datetime | None:
    """Return the time a number of seconds after 1970 began; None if that is in no year."""
    try:
        return None if seconds is None else with_zone(datetime.fromtimestamp(seconds, UTC))
    except (OverflowError, ValueError, OSError):
        return None


def read_json(text: str | bytes) -> Any:
    """Read JSON (RFC 8259); a number of too many digits becomes an infinite one.

    Raises:
        ValueError: it is not JSON, or is nested too deeply.
    """
    require_shallow(text if isinstance(text, bytes) else text.encode("utf-8", "surrogatepass"))
    return json.loads(text, parse_int=_read_int)


def _read_int(digits: str) -> int | float:
    return int(digits) if len(digits) <= _MAX_DIGITS else float(f"{digits[:1]}e999")


def quote_name(name: str) -> str:
    """Encode a name for an address; what UTF-8 has no bytes for becomes a question mark."""
    return quote(name.encode("utf-8", "replace"), safe="~")
