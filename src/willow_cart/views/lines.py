"""Prints what happens in jobs, line by line; `views.bars` draws the bars of a haul."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from willow_cart.addresses import host_of
from willow_cart.errors import ServerBusy
from willow_cart.events import Notice, Planned, Postponed, Received, Settled, Started
from willow_cart.observer import Observer, Throttle
from willow_cart.progress import HaulProgress
from willow_cart.units import count_of, format_duration, format_size
from willow_cart.views.words import lines_of

_SECONDS_BETWEEN_LINES = 10.0

# In the background lines pile up over a night.
_SECONDS_BETWEEN_LINES_IN_BACKGROUND = 60.0

Say = Callable[[str], object]
"""Writes one line for good, or keeps it; several threads call it."""


class Reporter(Observer):
    """Prints the messages for events, and the progress of a haul now and then, or as bars.

    Args:
        say: writes a line.
        begun: called once it is known what a haul in the background is to do.
        shown: writes the lines while a haul is watched, where no bars are; None for `say`.
        every: seconds between two lines about progress; None for no such lines.
        draws: whether bars are drawn.
        clock: monotonic, in seconds.
    """

    def __init__(
        self,
        say: Say,
        begun: Callable[[], None] | None = None,
        *,
        shown: Say | None = None,
        every: float | None = _SECONDS_BETWEEN_LINES,
        draws: bool = False,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._say = say
        self._begun = begun
        self._shown = shown
        self._every = _SECONDS_BETWEEN_LINES_IN_BACKGROUND if begun else every
        self._draws = draws
        self._clock = clock
        self._waits = Throttle(clock)
        self._lock = threading.Lock()
        self._next_line: float | None = None
        self._progress = HaulProgress(clock)
        self._tells_failures = True

    def note(self, event: Notice) -> None:
        """Print the messages for an event."""
        for line in self._lines_of(event):
            self._say(line)
        if isinstance(event, Planned) and self._begun is not None:
            self._begun()

    @contextmanager
    def watch(
        self, progress: HaulProgress, into: Path, *, bars: bool = True, failures: bool = True
    ) -> Iterator[None]:
        """Draw bars, or print a line now and then, while the context lasts."""
        self._progress, self._tells_failures = progress, failures
        self._waits = Throttle(self._clock)
        say = self._say
        try:
            if bars and self._draws:
                # Not imported where nothing is drawn: it takes longer than a small haul.
                from willow_cart.views.bars import LiveBars

                with LiveBars(progress, into) as drawn:
                    self._say = drawn.say_above
                    yield
                return
            if bars and self._shown is not None:
                self._say = self._shown
            self._next_line = None if self._every is None else self._clock() + self._every
            yield
        finally:
            self._say, self._next_line = say, None

    def _lines_of(self, event: Notice) -> Iterator[str]:
        match event:
            case Received():
                yield from self._progress_lines()
            case Started(lane, filed):
                if start := self._progress.lanes[lane].earlier:
                    yield f"{filed.path}: resuming at {format_size(start)} from an earlier haul"
            case Postponed():
                yield from self._wait_lines(event)
            case Settled() if event.is_failure and not self._tells_failures:
                pass
            case _:
                yield from lines_of(event)

    def _wait_lines(self, event: Postponed) -> Iterator[str]:
        """Yield why a file waits; of files that have not started, once per host and reason."""
        error, path = event.error, event.filed.path
        host, pause = host_of(event.filed.offer.address), format_duration(event.pause)
        if have := self._progress.carried(event.lane, path):
            yield f"{path}: {error.reason}; resuming at {format_size(have)} in {pause}"
        elif not self._waits.is_due((host, error.reason)):
            return
        elif isinstance(error, ServerBusy):
            yield f"{host} is busy ({error.reason}); slowing down, retrying in {pause}"
        else:
            yield f"{path}: {error.reason}; retrying in {pause}"

    def _progress_lines(self) -> Iterator[str]:
        if self._next_line is None or self._every is None:
            return
        now = self._clock()
        with self._lock:
            if now < self._next_line:
                return
            self._next_line = now + self._every
        far = self._progress.progress()
        left = f", {format_duration(far.left)} left" if far.left else ""
        yield (
            f"{far.files_done:,} of {count_of(far.files, 'file')}, {format_size(far.have)},"
            f" {format_size(int(far.speed))}/s{left}"
        )
