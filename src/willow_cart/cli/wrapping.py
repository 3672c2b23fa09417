"""Wrap lines at words on a terminal."""

from __future__ import annotations

import os
import textwrap
from typing import TextIO


def wrapped(line: str, stream: TextIO) -> str:
    """Wrap a line at words to the width of a terminal; return it unchanged for other streams.

    Words that are longer than a line, such as addresses, are left for the terminal to break, so
    that they can be copied whole.
    """
    try:
        width = os.get_terminal_size(stream.fileno()).columns if stream.isatty() else 0
    except (OSError, ValueError):
        return line
    if not width or len(line) <= width:
        return line
    return textwrap.fill(line, width, break_long_words=False, break_on_hyphens=False)
