"""The observer of jobs: receives what happens, and answers questions."""

from __future__ import annotations

import signal
import threading
import time
from collections.abc import Callable, Hashable, Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path
from typing import BinaryIO, NoReturn, Protocol

from willow_cart.errors import TransientError
from willow_cart.events import Notice, Waits
from willow_cart.platform import processes
from willow_cart.progress import HaulProgress

# What is waited for repeatedly is reported no more often than this.
_BETWEEN_WAITS_SECONDS = 15.0


class Hearer(Protocol):
    """A receiver of events; called from several threads, so it must return quickly."""

    def note(self, event: Notice, /) -> None:
        """Receive an event."""


class ReadingProgress:
    """Tracks how much of the files to be checked was read; this one prints nothing."""

    def begin(self, total: int) -> None:
        """Start with this many bytes to read."""

    def advance(self, count: int) -> None:
        """Record that another `count` bytes were read."""


class Observer:
    """An observer of jobs; this one ignores all events and has no answers.

    Subclasses override what they care about. `note` is called from several threads.
    """

    def note(self, event: Notice) -> None:
        """Receive an event."""

    def note_each(self, events: Iterable[Notice]) -> None:
        """Receive several events."""
        for event in events:
            self.note(event)

    def watch(
        self,
        progress: HaulProgress,  # noqa: ARG002
        into: Path,  # noqa: ARG002
        *,
        bars: bool = True,  # noqa: ARG002
        failures: bool = True,  # noqa: ARG002
    ) -> AbstractContextManager[None]:
        """Show the progress of a haul while the context lasts.

        Args:
            into: the destination.
            bars: whether bars may be drawn.
            failures: whether failed files are reported one by one.
        """
        return nullcontext()

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


class Hearers(Observer):
    """Passes events to several others, in their order."""

    def __init__(self, *hearers: Hearer) -> None:
        self._notes = [each.note for each in hearers]

    def note(self, event: Notice) -> None:
        """Pass an event on."""
        for note in self._notes:
            note(event)


@contextmanager
def watched(
    observer: Observer,
    into: Path,
    *also: Hearer,
    bars: bool = True,
    failures: bool = True,
) -> Iterator[tuple[Observer, HaulProgress]]:
    """Yield the observer for one haul, and the progress that the events come to.

    Args:
        also: further receivers of its events.
    """
    progress = HaulProgress()
    with observer.watch(progress, into, bars=bars, failures=failures):
        yield Hearers(progress, *also, observer), progress


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

    def __init__(self, observer: Observer) -> None:
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
        for number in processes.STOP_SIGNALS
        if signal.getsignal(number) is not signal.SIG_IGN  # as nohup(1) has it
    }
    try:
        with processes.held_open(stop.set):
            yield stop
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
