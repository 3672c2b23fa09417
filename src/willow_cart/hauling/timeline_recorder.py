"""Record the timeline of a running haul for its receipt."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass

from willow_cart.errors import TransientError
from willow_cart.filing import Filed
from willow_cart.ledger.timeline import Timeline, TimelineWait
from willow_cart.transfer.observer import Observer


@dataclass(slots=True)
class _Lane:
    """The current activity of a lane.

    Attributes:
        host: whom it has asked.
        since: up to when that has been entered.
        answered: whether it receives now.
    """

    host: str
    since: float
    answered: bool = False


class TimelineRecorder(Observer):
    """Records what each lane does when.

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
        """Start measuring how long a lane waits for an answer."""
        with self._lock:
            self._lanes.setdefault(lane, _Lane(host, self._now()))

    def started(self, lane: int, filed: Filed, length: int | None, start: int) -> None:  # noqa: ARG002
        """Record how long the answer took."""
        self._enter(lane, None)

    def joined(self, lane: int, filed: Filed, start: int, end: int) -> None:  # noqa: ARG002
        """Record how long the answer took."""
        self._enter(lane, None)

    def received(self, lane: int, count: int) -> None:
        """Record received bytes, and the time since the previous ones."""
        self._enter(lane, count)

    def postponed(self, lane: int, filed: Filed, error: TransientError, pause: float) -> None:
        """Record a postponed file and the reason."""
        with self._lock:
            self._timeline.add_wait(
                TimelineWait(self._now(), lane, filed.path, error.reason, pause)
            )

    def freed(self, lane: int) -> None:
        """Record that a lane has finished its file or failed."""
        with self._lock:
            at = self._lanes.pop(lane, None)
            if at is not None and not at.answered:
                self._timeline.add(lane, at.host, at.since, self._now())

    def written(self) -> str:
        """Return the timeline so far, in the ledger's format."""
        with self._lock:
            self._timeline.reach(self._now())
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
