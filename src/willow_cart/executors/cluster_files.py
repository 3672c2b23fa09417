"""A file that a worker of a cluster carries alone, as the coordinator sees it."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field

from willow_cart.filing import Filed

# A worker that had nothing to lend of a file is asked again after this many seconds.
_REST_SECONDS = 0.5

_MIN_SEGMENT_BYTES = 4 << 20
_MAX_SEGMENT_BYTES = 256 << 20

# Segments are fetched in parts, so that lanes of different speed end together.
_PARTS_PER_SHARE = 16


@dataclass(slots=True, eq=False)
class FileOnItsWay:
    """What is known here of a file, or of a segment of one, on its way in a worker.

    Attributes:
        lane: waits for it.
        filed: the file.
        worker: the address of the worker that carries it.
        begun: whether the observer was told of it.
        bytes: that the observer was told of.
        length: of the file; None if unknown.
        share: how many bytes one of its lanes should fetch.
        helped: bytes that other workers have fetched of it.
        whole: the file, for a segment of one.
        may_be_written: whether a worker that hangs may still have a segment of it.
    """

    lane: int
    filed: Filed
    worker: str
    begun: bool = False
    bytes: int = 0
    length: int | None = None
    share: int | None = None
    helped: int = 0
    whole: FileOnItsWay | None = None
    may_be_written: bool = False
    _segments: dict[int, str] = field(default_factory=dict)
    _ended: bool = False
    _rests_until: float = 0.0
    _change: threading.Condition = field(default_factory=threading.Condition)

    @property
    def size(self) -> int:
        """How many bytes of it have come, as far as is known."""
        return self.bytes + self.helped

    @property
    def can_be_shared(self) -> bool:
        """Whether another worker may fetch a segment of it."""
        rested = time.monotonic() >= self._rests_until
        return self.begun and self.length is not None and not self._ended and rested

    @property
    def segment_bytes(self) -> int:
        """How many bytes another worker should fetch at a time."""
        wanted = (self.share or 0) // _PARTS_PER_SHARE
        return min(max(wanted, _MIN_SEGMENT_BYTES), _MAX_SEGMENT_BYTES)

    def received(self, came: int) -> int:
        """Record how many bytes have come; return how many of them are new."""
        new = max(0, came - self.bytes)
        self.bytes += new
        if self.whole is not None:
            self.whole.helped += new
        return new

    def rest(self) -> None:
        """Lend nothing for a moment."""
        self._rests_until = time.monotonic() + _REST_SECONDS

    def begin_segment(self, number: int, worker: str) -> bool:
        """Record that a worker fetches a segment; return False if none is to be begun any more."""
        with self._change:
            if not self._ended:
                self._segments[number] = worker
            return not self._ended

    def end_segment(self, number: int) -> None:
        """Record the end of a segment."""
        with self._change:
            self._segments.pop(number, None)
            self._change.notify_all()

    def end(self) -> dict[int, str]:
        """Begin no more segments; return the workers that fetch some, by their numbers."""
        with self._change:
            self._ended = True
            return dict(self._segments)

    def wait_for_segments(self) -> None:
        """Wait until no worker fetches a segment any more."""
        with self._change:
            self._change.wait_for(lambda: not self._segments)
