"""Tables on standard output."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TextIO

from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from willow_cart.model import State

# Wide enough for any row: without a terminal nothing is folded or cut, so that a pipe gets it all.
_NO_LIMIT = 100_000

STATE_STYLES = {
    State.ARRIVED: "green",
    State.UNCHANGED: "dim",
    State.HERE: "dim",
    State.FAILED: "bold yellow",
    State.REFUSED: "bold red",
}


def console_for(stream: TextIO) -> Console:
    """A console that knows whether a person is looking."""
    width = None if stream.isatty() else _NO_LIMIT
    # Names come from servers: nothing in them is markup, or the code of a picture.
    return Console(
        file=stream,
        width=width,
        highlight=False,
        markup=False,
        emoji=False,
        soft_wrap=not stream.isatty(),
    )


def make_table(*columns: str, numeric: Sequence[str] = ()) -> Table:
    """A table in the house style, with figures set flush right."""
    table = Table(box=box.SIMPLE_HEAD, show_edge=False, pad_edge=False, header_style="bold")
    for column in columns:
        right = column in numeric
        table.add_column(
            column, justify="right" if right else "left", no_wrap=right, overflow="fold"
        )
    return table


def styled_state(state: str) -> Text:
    """A state in its colour."""
    return Text(state, style=STATE_STYLES[State(state)])
