"""Who hears what happens in a job, and answers what it asks."""

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

# What is waited for repeatedly is told no more often than this.
_BETWEEN_WAITS_SECONDS = 15.0


Notice = Event | Issue | WillowCartError
"""What a job tells: events, lines and places that cannot be taken, errors that do not end it."""


class ReadingProgress:
    """Follows how much of the files that are checked has been read; this one prints nothing."""

    def begin(self, total: int) -> None:
        """So many bytes are to be read."""

    def advance(self, count: int) -> None:
        """Another `count` bytes have been read."""


class JobObserver:
    """Hear what a job tells; this one keeps it to itself, and knows nothing.

    Subclasses override what they care about. `note` is called from several threads.
    """

    def note(self, event: Notice) -> None:
        """Something happened that a person should know of."""

    def watch_haul(
        self,
        into: Path,  # noqa: ARG002
        *,
        bars: bool = True,  # noqa: ARG002
        failures: bool = True,  # noqa: ARG002
    ) -> AbstractContextManager[ProgressTracker]:
        """Return what hears what happens to the files of a haul, while it is open.

        Args:
            into: the destination.
            bars: whether bars may be drawn.
            failures: whether files that do not come are told one by one.
        """
        return ProgressTracker()

    def watch_reading(self) -> AbstractContextManager[ReadingProgress]:
        """Return what follows the reading of files, while it is open."""
        return nullcontext(ReadingProgress())

    def stoppable(self) -> AbstractContextManager[threading.Event]:
        """Return what gives an event that is set when a person wants a haul to end early."""
        return nullcontext(threading.Event())

    def ask_password(self, user: str) -> str | None:  # noqa: ARG002
        """Return a user's password; None where there is none to ask."""
        return None

    def standard_input(self) -> BinaryIO | None:
        """Return what `-` stands for among the sources; None for nothing."""
        return None

    def note_each(self, events: Iterable[Notice]) -> None:
        """Tell several things, one after the other."""
        for event in events:
            self.note(event)


class Throttle:
    """Decides whether something is to be told again, by what it is about.

    Args:
        clock: monotonic, in seconds.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._told: dict[Hashable, float] = {}

    def is_due(self, about: Hashable) -> bool:
        """Return whether it was not told just now; if so, it counts as told."""
        now = self._clock()
        if now - self._told.get(about, -_BETWEEN_WAITS_SECONDS) < _BETWEEN_WAITS_SECONDS:
            return False
        self._told[about] = now
        return True


class WaitNotes:
    """Tells what is being waited for: once for a host and a while, not once for each wait.

    Args:
        observer: who is told.
    """

    def __init__(self, observer: JobObserver) -> None:
        self._observer = observer
        self._throttle = Throttle()

    def __call__(self, error: TransientError, pause: float) -> None:
        """Say why a request waits, and for how long, unless that was said just now."""
        host = error.thing.partition("://")[2].partition("/")[0] or error.thing
        if self._throttle.is_due(host):
            self._observer.note(Waits(error, pause))


@contextmanager
def stopped_by_signals(again: Callable[[], NoReturn]) -> Iterator[threading.Event]:
    """Yield an event that an interrupt or a termination sets.

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
    before = {number: signal.signal(number, end) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield stop
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
