"""What commands return: an exit code, a line, and rows; for a terminal, a script or a notebook."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, ClassVar

from willow_cart.errors import Exit
from willow_cart.markup_table import html_table
from willow_cart.model import State
from willow_cart.structs import Value
from willow_cart.units import count_of, format_duration, format_size

if TYPE_CHECKING:
    from pathlib import Path

    import pandas as pd

    from willow_cart.hauling.summary import HaulSummary
    from willow_cart.offline_copies import TakenPages


class CommandResult(Value, dict=True, kw_only=True):
    """What a command has done.

    Attributes:
        columns: the names of what `records` gives.
        kinds: the types of columns of which pandas would make something else.
        notes: the messages, where a function of Python's collects them.
    """

    columns: ClassVar[Sequence[str]] = ()
    kinds: ClassVar[Mapping[str, str]] = {}

    notes: tuple[str, ...] = ()

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.GOOD

    @property
    def summary(self) -> str:
        """Return the result in one line."""
        return ""

    def records(self) -> Iterable[Sequence[object]]:
        """Return the rows of the result; sizes are in bytes."""
        return ()

    def shown(self) -> tuple[Sequence[str], Iterable[Sequence[object]], int]:
        """Return the columns and rows that people see, and how many rows there are."""
        rows = [*self.records()]
        return self.columns, rows, len(rows)

    def to_frame(self) -> pd.DataFrame:
        """Return the rows as a data frame."""
        return frame(self.columns, self.records(), self.kinds)

    def __repr__(self) -> str:
        return f"<{type(self).__name__}: {self.summary}>"

    def _repr_html_(self) -> str:
        return html_table(self.summary, *self.shown())


def frame(
    columns: Sequence[str],
    rows: Iterable[Sequence[object]],
    kinds: Mapping[str, str] | None = None,
) -> pd.DataFrame:
    """Return a data frame.

    Args:
        columns: their names.
        rows: a cell for each column.
        kinds: the types of columns of which pandas would make something else.
    """
    import pandas as pd  # takes a second

    made = pd.DataFrame.from_records([tuple(row) for row in rows], columns=list(columns))
    return made.astype(dict(kinds or {}))


def counted(files: int, counts: Mapping[State, int]) -> str:
    """Return the number of files, in total and by state; zeros are left out."""
    return f"{count_of(files, 'file')}: {by_state(files, counts)}"


def by_state(files: int, counts: Mapping[State, int]) -> str:
    """Return the number of files by state; zeros are left out."""
    told = {state: counts[state] for state in State if counts.get(state)}
    if len(told) == 1 and files in told.values():
        (state,) = told
        return f"{'all ' if files > 1 else ''}{state.label}"
    return ", ".join(f"{n:,} {state.label}" for state, n in told.items()) or "none arrived"


def summed_up(done: HaulSummary | TakenPages, into: Path, offered: int | None = None) -> str:
    """Return the summary of a haul, or of several passes.

    Args:
        done: the counts.
        offered: how many files there were to choose from; None where nothing was chosen.
    """
    amount = f"{format_size(done.received)} in {format_duration(done.seconds)}"
    chosen = count_of(done.planned, "file")
    if offered is not None:
        chosen = f"{offered:,} offered, {done.planned:,} chosen"
    return f"{chosen}: {by_state(done.planned, done.counts)} ({amount}, into {into})"
