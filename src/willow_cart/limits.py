"""The limits of what is parsed of texts and files from elsewhere.

What exceeds one was made to take memory or time, or is better read by another program.
"""

from __future__ import annotations

import re
from array import array
from itertools import accumulate

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
    """Refuse JSON that is nested too deeply; what is not JSON is left to its parser.

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
