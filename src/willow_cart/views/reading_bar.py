"""A progress bar for reading files."""

from __future__ import annotations

from typing import Self

from rich.console import Console
from rich.progress import (
    BarColumn,
    DownloadColumn,
    Progress,
    TextColumn,
    TimeRemainingColumn,
    TransferSpeedColumn,
)

from willow_cart.observer import ReadingProgress


class ReadingBar(ReadingProgress):
    """Draws how much was read, the speed, and the time left."""

    def __init__(self) -> None:
        columns = (TextColumn("reading"), BarColumn(), DownloadColumn(), TransferSpeedColumn(),
                   TimeRemainingColumn())  # fmt: skip
        self._progress = Progress(*columns, console=Console(stderr=True), transient=True)
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
