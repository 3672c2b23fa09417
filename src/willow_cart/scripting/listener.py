"""The observer of Python functions: keeps messages, and draws bars if requested."""

from __future__ import annotations

import sys
from contextlib import AbstractContextManager
from importlib.util import find_spec
from pathlib import Path
from threading import Event as Flag
from typing import BinaryIO, NoReturn

from willow_cart.jobs.job_observer import JobObserver, Notice, stopped_by_signals
from willow_cart.units import printable
from willow_cart.views.lines import PlainView, View
from willow_cart.views.words import lines_of


class Listener(JobObserver):
    """An observer that collects messages.

    Args:
        progress: whether bars are drawn.

    Attributes:
        notes: the lines.
    """

    def __init__(self, *, progress: bool = False) -> None:
        self._progress = progress
        self.notes: list[str] = []

    def note(self, event: Notice) -> None:
        """Keep the messages for an event."""
        for line in lines_of(event):
            self._keep(line)

    def sum_up(self, line: str) -> None:
        """Write the last line about a haul whose progress is shown; notebooks show the result."""
        if self._progress and not in_notebook():
            _say(line)

    def _keep(self, line: str) -> None:
        self.notes.append(printable(line))

    def watch_haul(
        self, into: Path, *, bars: bool = True, failures: bool = True
    ) -> AbstractContextManager[View]:
        """Draw bars if requested, else keep messages."""
        view: View
        if bars and self._progress and not (in_notebook() or sys.stderr.isatty()):
            view = PlainView(_say)  # bars need a terminal
        elif bars and self._progress:
            from willow_cart.views.bars import LiveView  # takes longer than a small haul

            view = LiveView(into)
        else:
            view = View(self._keep)
        view.tells_failures = failures
        return view

    def stoppable(self) -> AbstractContextManager[Flag]:
        """Return an event that the first interrupt sets; a second one raises KeyboardInterrupt."""
        return stopped_by_signals(_interrupt)

    def standard_input(self) -> BinaryIO | None:
        """Return the stream that `-` refers to among the sources."""
        return None if sys.stdin is None else sys.stdin.buffer


def _say(line: str) -> None:
    """Write a line where the progress of a script goes."""
    sys.stderr.write(f"{printable(line)}\n")


def _interrupt() -> NoReturn:
    raise KeyboardInterrupt


def in_notebook() -> bool:
    """Whether this runs in a notebook that can draw bars."""
    return "ipykernel" in sys.modules and find_spec("ipywidgets") is not None
