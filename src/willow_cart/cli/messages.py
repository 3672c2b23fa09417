"""Lines on standard error; standard output is for results alone, so that it can be piped on."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from contextlib import suppress

from willow_cart.units import printable


def tell(line: object) -> None:
    """Write one line to standard error, signed with the program's name."""
    # It may have been closed; that is no reason to stop working.
    with suppress(OSError):
        print(f"willow-cart: {printable(str(line))}", file=sys.stderr)


def tell_each(lines: Iterable[object]) -> None:
    """Write lines to standard error, one for each."""
    for line in lines:
        tell(line)
