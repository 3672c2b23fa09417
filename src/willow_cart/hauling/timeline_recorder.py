"""Writes the timeline of a haul while it is running, for its receipt."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass

from willow_cart.errors import TransientError
from willow_cart.filing import Filed
from willow_cart.records import Timeline, TimelineWait
from willow_cart.transfer.observer import Observer


@dataclass(slots=True)
class _Lane:
    """What a lane is at.

    Attributes:
        host: whom it has asked.
        since: up to when that has been entered.
        answered: whether it receives by now.
    """

    host: str
    since: float
    answered: bool = False


class TimelineRecorder(Observer):
    """Enters what every lane does when.

    Args:
        clock: monotonic, in seconds; the timeline begins now.
    """

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._began = clock()
        self._timeline = Timeline()
        self._lanes: dict[int, _Lane] = {}
        self._lock = threading.Lock()

    def asks(self, lane: int, host: str) -> None:
        """Begin to count the time that a lane waits for an answer, unless it has begun."""
        with self._lock:
            self._lanes.setdefault(lane, _Lane(host, self._now()))

    def started(self, lane: int, filed: Filed, length: int | None, start: int) -> None:  # noqa: ARG002
        """Enter how long the answer took."""
        self._enter(lane, None)

    def joined(self, lane: int, filed: Filed, start: int, end: int) -> None:  # noqa: ARG002
        """Enter how long the answer took."""
        self._enter(lane, None)

    def received(self, lane: int, count: int) -> None:
        """Enter what came, and how long it took since the last."""
        self._enter(lane, count)

    def postponed(self, lane: int, filed: Filed, error: TransientError, pause: float) -> None:
        """Enter that a file waits, and why."""
        with self._lock:
            self._timeline.add_wait(
                TimelineWait(self._now(), lane, filed.path, error.reason, pause)
            )

    def freed(self, lane: int) -> None:
        """Enter that a lane is done with its file, also if the request failed."""
        with self._lock:
            at = self._lanes.pop(lane, None)
            if at is not None and not at.answered:
                self._timeline.add(lane, at.host, at.since, self._now())

    def written(self) -> str:
        """Return the timeline as it is by now, as the ledger keeps it."""
        with self._lock:
            self._timeline.seconds = self._now()
            return self._timeline.as_text()

    def _enter(self, lane: int, count: int | None) -> None:
        with self._lock:
            at = self._lanes.get(lane)
            if at is not None:
                now = self._now()
                self._timeline.add(lane, at.host, at.since, now, count)
                at.since = now
                at.answered = True

    def _now(self) -> float:
        return round(self._clock() - self._began, 4)
