"""Lines on standard error: what could not be taken, and what to do about it.

Standard output is for results alone, so that it can be piped on.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable, Mapping
from contextlib import suppress

from willow_cart.model import State, Trouble
from willow_cart.units import count_of


def tell(line: object) -> None:
    """Write one line to standard error, signed with the program's name."""
    # Nobody may be listening any more; that is no reason to stop working.
    with suppress(OSError):
        print(f"willow-cart: {printable(str(line))}", file=sys.stderr)


def printable(text: str) -> str:
    """Write out what would not be seen as a character but obeyed by the terminal.

    Names come from lists and servers; an escape sequence in one must not steer the screen.
    """
    if text.isprintable():
        return text
    return "".join(
        character if character.isprintable() else character.encode("unicode_escape").decode()
        for character in text
    )


def counted(files: int, counts: Mapping[State, int]) -> str:
    """How many files there are, and how many in each state: none is left out, so none is missed."""
    states = ", ".join(f"{counts.get(state, 0):,} {state}" for state in State)
    return f"{count_of(files, 'file')}: {states}"


def tell_troubles(troubles: Iterable[Trouble]) -> None:
    """Write what could not be taken, one line each."""
    for trouble in troubles:
        tell(trouble)
