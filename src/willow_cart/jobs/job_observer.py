"""The observer of a job: receives its events and answers its questions."""

from __future__ import annotations

import signal
import threading
import time
from collections.abc import Callable, Hashable, Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path
from typing import BinaryIO, NoReturn

from willow_cart.errors import TransientError, WillowCartError
from willow_cart.hauling.progress import ProgressTracker
from willow_cart.jobs.job_events import Event, Waits
from willow_cart.model import Issue
from willow_cart.platform import consoles

# What is waited for repeatedly is reported no more often than this.
_BETWEEN_WAITS_SECONDS = 15.0


Notice = Event | Issue | WillowCartError
"""What a job tells: events, lines and places that cannot be taken, errors that do not end it."""


class ReadingProgress:
    """Tracks how much of the files to be checked was read; this one prints nothing."""

    def begin(self, total: int) -> None:
        """Start with this many bytes to read."""

    def advance(self, count: int) -> None:
        """Record that another `count` bytes were read."""


class JobObserver:
    """An observer of jobs; this one ignores all events and has no answers.

    Subclasses override what they care about. `note` is called from several threads.
    """

    def note(self, event: Notice) -> None:
        """Receive an event."""

    def watch_haul(
        self,
        into: Path,  # noqa: ARG002
        *,
        bars: bool = True,  # noqa: ARG002
        failures: bool = True,  # noqa: ARG002
    ) -> AbstractContextManager[ProgressTracker]:
        """Return an observer for the files of a haul, as a context manager.

        Args:
            bars: whether bars may be drawn.
            failures: whether files that do not come are reported one by one.
        """
        return ProgressTracker()

    def watch_reading(self) -> AbstractContextManager[ReadingProgress]:
        """Return a progress object for reading files, as a context manager."""
        return nullcontext(ReadingProgress())

    def stoppable(self) -> AbstractContextManager[threading.Event]:
        """Return a context manager for an event that is set when the user wants to stop."""
        return nullcontext(threading.Event())

    def ask_password(self, user: str) -> str | None:  # noqa: ARG002
        """Return the password of a user; None if it cannot be asked for."""
        return None

    def standard_input(self) -> BinaryIO | None:
        """Return the stream that `-` refers to among the sources, or None."""
        return None

    def note_each(self, events: Iterable[Notice]) -> None:
        """Receive several events."""
        for event in events:
            self.note(event)


class Throttle:
    """Limits how often messages about the same subject are repeated.

    Args:
        clock: monotonic, in seconds.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._told: dict[Hashable, float] = {}

    def is_due(self, about: Hashable) -> bool:
        """Whether a message is due; if so, record that it was given."""
        now = self._clock()
        if now - self._told.get(about, -_BETWEEN_WAITS_SECONDS) < _BETWEEN_WAITS_SECONDS:
            return False
        self._told[about] = now
        return True


class WaitNotes:
    """Reports waits, at most once per host and interval."""

    def __init__(self, observer: JobObserver) -> None:
        self._observer = observer
        self._throttle = Throttle()

    def __call__(self, error: TransientError, pause: float) -> None:
        """Report why and how long a request waits, unless that was reported just now."""
        host = error.thing.partition("://")[2].partition("/")[0] or error.thing
        if self._throttle.is_due(host):
            self._observer.note(Waits(error, pause))


@contextmanager
def stopped_by_signals(again: Callable[[], NoReturn]) -> Iterator[threading.Event]:
    """Yield an event that Ctrl-C sets, or whatever else asks a program to end.

    Args:
        again: called for the second signal.
    """
    stop = threading.Event()

    def end(_signal: int, _frame: object) -> None:
        if stop.is_set():
            again()
        stop.set()

    if threading.current_thread() is not threading.main_thread():
        yield stop  # signals come to the main one alone
        return
    before = {
        number: signal.signal(number, end)
        for number in consoles.STOP_SIGNALS
        if signal.getsignal(number) is not signal.SIG_IGN  # as nohup(1) has it
    }
    try:
        with consoles.held_open(stop.set):
            yield stop
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
