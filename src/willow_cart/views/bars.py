"""Progress bars of a running haul."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Self

from rich import progress as rich_progress
from rich.console import Console, Group, RenderableType
from rich.live import Live
from rich.progress import (
    BarColumn,
    DownloadColumn,
    TextColumn,
    TimeRemainingColumn,
    TransferSpeedColumn,
)
from rich.progress_bar import ProgressBar
from rich.table import Table
from rich.text import Text

from willow_cart.ledger.runs import Progress
from willow_cart.model import State
from willow_cart.observer import ReadingProgress
from willow_cart.progress import HaulProgress
from willow_cart.units import count_of, format_duration, format_size, printable

_DRAWS_A_SECOND = 4

# From this width on, lanes have a title and sizes are written out.
_WIDE_COLUMNS = 64


class LiveBars:
    """Bars that are redrawn a few times per second, however often events occur.

    Args:
        progress: of the haul.
        into: the destination, for the heading.
        console: where to draw.
    """

    def __init__(self, progress: HaulProgress, into: Path, console: Console | None = None) -> None:
        self._console = console or Console(stderr=True, highlight=False, markup=False, emoji=False)
        self._live = Live(
            console=self._console,
            get_renderable=lambda: draw(progress.progress(), into, self._console.width),
            refresh_per_second=_DRAWS_A_SECOND,
            transient=True,
        )

    def __enter__(self) -> Self:
        self._live.__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        self._live.refresh()  # a notebook keeps what is drawn last
        self._live.__exit__(None, None, None)

    def say_above(self, line: str) -> None:
        """Print a line above the bars."""
        style = "red" if line.startswith((State.FAILED, State.REFUSED)) else "yellow"
        with suppress(OSError):  # as in `tell`
            self._console.print(Text(printable(line), style), soft_wrap=True)


def draw(far: Progress, into: Path | str, width: int) -> RenderableType:
    """Return a row per lane and one for the total; columns are dropped on a narrow screen.

    Args:
        far: how far a haul is.
        into: its destination, for the heading.
        width: of the screen, in characters.
    """
    wide = width >= _WIDE_COLUMNS
    label, figures = (8, 20) if wide else (4, 6)
    bar = max(8, width // 5)
    room = min(max(far.longest, 24), width - bar - figures - label - 2)
    grid = Table.grid(padding=(0, 1))
    grid.add_column(width=label - 1, style="dim", no_wrap=True)
    grid.add_column(width=room, no_wrap=True)
    grid.add_column(width=bar, no_wrap=True)
    grid.add_column(no_wrap=True)
    for number, lane in enumerate(far.lanes, 1):
        title = f"lane {number}" if wide else str(number)
        if lane.worker:
            title = cut_middle(printable(lane.worker), label - 1)
        if not lane.path:
            grid.add_row(title, Text("sent to the worker", "dim"), "", "")
            continue
        name = lane.path
        if lane.strand is not None:
            name = f"  the same from {format_size(lane.strand)}"
        come = _of(lane.have, lane.length, wide=wide)
        row = (title, printable(cut_middle(name, room)), _bar(lane.have, lane.length, bar), come)
        grid.add_row(*row)
    in_bytes = far.bytes is not None
    total, done = (far.bytes, far.have) if in_bytes else (far.files, far.files_done)
    files = Text(f"{far.files_done:,} of {count_of(far.files, 'file')}", "bold")
    come = _of(far.have, far.bytes, wide=wide)
    grid.add_row("all", files, _bar(done, total, bar), Text(come, "bold"))
    notes = [f"{format_size(int(far.speed))}/s"]
    if far.left is not None and far.left >= 1:
        notes.append(f"about {format_duration(round(far.left))} left")
    if far.workers:
        notes.append(count_of(far.workers, "worker"))
    if far.suspended:
        notes.append(f"{count_of(far.suspended, 'host')} paused")
    if far.postponed:
        notes.append(f"{count_of(far.postponed, 'file')} postponed")
    where = Text(f"{'':{label}}into {into}: ", "dim")
    return Group(grid, where.append(", ".join(notes), "not dim"))


def _bar(done: int, total: int | None, width: int) -> RenderableType:
    """Return a bar; empty if the total is unknown."""
    if total is None:
        return ""
    return ProgressBar(
        total=max(total, 1),
        completed=done,
        width=width,
        style="bright_black",
        complete_style="green",
        finished_style="green",
    )


def _of(have: int, length: int | None, *, wide: bool) -> str:
    """Return how much has arrived: in bytes, or as a percentage if space is short."""
    if length is None:
        return format_size(have)
    if wide:
        return f"{format_size(have)} of {format_size(length)}"
    return f"{100 * have // max(length, 1)} %"


def cut_middle(text: str, width: int) -> str:
    """Shorten a text in the middle, because names differ at their ends."""
    if len(text) <= width:
        return text
    head = (width - 1) // 2
    return f"{text[:head]}…{text[len(text) - (width - 1 - head) :]}"


class ReadingBar(ReadingProgress):
    """Draws how much was read, the speed, and the time left."""

    def __init__(self) -> None:
        columns = (TextColumn("reading"), BarColumn(), DownloadColumn(), TransferSpeedColumn(),
                   TimeRemainingColumn())  # fmt: skip
        self._progress = rich_progress.Progress(
            *columns, console=Console(stderr=True), transient=True
        )
        self._task = self._progress.add_task("reading", total=None)

    def __enter__(self) -> Self:
        self._progress.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._progress.stop()

    def begin(self, total: int) -> None:
        """Set the total."""
        self._progress.update(self._task, total=total or None)

    def advance(self, count: int) -> None:
        """Advance the bar by some bytes."""
        self._progress.advance(self._task, count)
