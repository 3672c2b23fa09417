"""Print messages on standard error; standard output has results only, so that it can be piped."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from contextlib import suppress

from willow_cart.cli.screen import wrapped
from willow_cart.units import printable, printable_lines


def tell(line: object) -> None:
    """Print one line on standard error, prefixed with the program's name."""
    # It may have been closed; work continues.
    with suppress(OSError):
        print(wrapped(f"willow-cart: {printable(str(line))}", sys.stderr), file=sys.stderr)


def pass_on(text: str) -> None:
    """Print lines of a log on standard error as they are."""
    with suppress(OSError):
        sys.stderr.write(printable_lines(text))


def tell_each(lines: Iterable[object]) -> None:
    """Print lines on standard error."""
    for line in lines:
        tell(line)
