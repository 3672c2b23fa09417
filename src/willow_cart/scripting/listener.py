"""What hears a job for a script: messages are kept, and bars are drawn if they are wanted."""

from __future__ import annotations

import sys
from contextlib import AbstractContextManager
from importlib.util import find_spec
from pathlib import Path
from threading import Event as Flag
from typing import BinaryIO, NoReturn

from willow_cart.jobs.job_observer import JobObserver, Notice, stopped_by_signals
from willow_cart.units import printable
from willow_cart.views.lines import View
from willow_cart.views.words import lines_of


class Listener(JobObserver):
    """Gathers what would be told to a person, for a script to ask for.

    Args:
        progress: whether bars are drawn.

    Attributes:
        notes: the lines.
    """

    def __init__(self, *, progress: bool = False) -> None:
        self._progress = progress
        self.notes: list[str] = []

    def note(self, event: Notice) -> None:
        """Keep the lines that tell of an event."""
        for line in lines_of(event):
            self._keep(line)

    def _keep(self, line: str) -> None:
        self.notes.append(printable(line))

    def watch_haul(
        self, into: Path, *, bars: bool = True, failures: bool = True
    ) -> AbstractContextManager[View]:
        """Draw bars if they are wanted, or keep what is told."""
        view: View
        if bars and self._progress:
            from willow_cart.views.bars import LiveView  # takes longer than a small haul

            view = LiveView(into)
        else:
            view = View(self._keep)
        view.tells_failures = failures
        return view

    def stoppable(self) -> AbstractContextManager[Flag]:
        """Return what ends a haul in order at the first interrupt; the second is an error."""
        return stopped_by_signals(_interrupt)

    def standard_input(self) -> BinaryIO | None:
        """Return what `-` stands for among the sources."""
        return None if sys.stdin is None else sys.stdin.buffer


def _interrupt() -> NoReturn:
    raise KeyboardInterrupt


def in_notebook() -> bool:
    """Whether a notebook runs this, and has what bars are drawn by there."""
    return "ipykernel" in sys.modules and find_spec("ipywidgets") is not None
