"""The progress of a haul: files, bytes, lanes, speed and time left."""

from __future__ import annotations

import threading
import time
from collections import Counter, deque
from collections.abc import Callable, Mapping
from typing import Any, ClassVar

from willow_cart.addresses import host_of
from willow_cart.defaults import REQUEST_BYTES
from willow_cart.events import (
    Freed,
    HandedOver,
    HostSuspended,
    Planned,
    Postponed,
    Received,
    Settled,
    Started,
    StrandStarted,
    SwitchedMirror,
    WorkerJoined,
    WorkerLost,
)
from willow_cart.ledger.runs import LaneProgress, Progress
from willow_cart.structs import Record

_AVERAGING_SECONDS = 8.0
"""Seconds that the speed is averaged over: long enough to be steady, short enough to follow."""


class Gauge:
    """Measures the speed of a growing count.

    Args:
        now: the time in seconds at which it begins.
    """

    def __init__(self, now: float) -> None:
        self._samples: deque[tuple[float, int]] = deque([(now, 0)])

    def measure(self, now: float, count: int) -> float:
        """Take a sample, and return the speed per second over the window."""
        self._samples.append((now, count))
        while self._samples[1][0] < now - _AVERAGING_SECONDS and len(self._samples) > 2:
            self._samples.popleft()
        then, before = self._samples[0]
        return (count - before) / (now - then) if now > then else 0.0


# Earlier estimates would be wild.
_SECONDS_BEFORE_ESTIMATE = 2.0

# A moment in which nothing comes says little about the rest: the pace of the window counts as no
# slower than this share of the pace since the beginning.
_MIN_PACE_SHARE = 0.5

_MAX_ESTIMATE_SECONDS = 7 * 86400.0
"""Seconds above which an estimate says nothing."""


class TimeLeft:
    """Estimates the time left from files and bytes together.

    Small files cost what a request costs, and large ones what their bytes cost, so the work is
    counted in bytes, plus a constant for each file.

    Args:
        now: the time in seconds at which it begins.
    """

    def __init__(self, now: float) -> None:
        self._began = now
        # By what is counted: files alone, or bytes and files.
        self._gauges = (Gauge(now), Gauge(now))
        self._first: list[int | None] = [None, None]

    def measure(
        self, now: float, files: tuple[int, int], received: tuple[int, int | None]
    ) -> float | None:
        """Return the seconds left; None while unknown.

        Args:
            now: the time in seconds.
            files: how many are done, of how many.
            received: how many bytes are here, of how many; None where that is not known.
        """
        have, total = received
        done_files = REQUEST_BYTES * files[0]
        rest_of_files = REQUEST_BYTES * (files[1] - files[0])
        by_files = self._left(0, now, done_files, rest_of_files)
        rest = 0 if total is None else max(0, total - have)
        by_both = self._left(1, now, have + done_files, rest + rest_of_files)
        return by_files if total is None else by_both

    def _left(self, by: int, now: float, done: int, rest: int) -> float | None:
        first = self._first[by]
        if first is None or done < first:
            self._first[by] = first = done  # what was here before did not come at any pace
        done -= first
        seconds = now - self._began
        in_window = self._gauges[by].measure(now, done)
        if seconds < _SECONDS_BEFORE_ESTIMATE or done <= 0:
            return None
        left = rest / max(in_window, _MIN_PACE_SHARE * done / seconds)
        return left if left <= _MAX_ESTIMATE_SECONDS else None


class Lane(Record):
    """What one lane is doing; written by that lane only, so no lock is needed.

    Attributes:
        path: the file it carries; empty while it waits.
        length: how long that is in bytes.
        have: how much of it is here.
        strand: the byte that it began at, if it helps another lane.
        done: bytes of the files it is done with.
        received: bytes that it has received in all.
        worker: of a cluster, which carries its files; empty for this machine.
        earlier: bytes of the file that an earlier haul left.
    """

    path: str = ""
    length: int | None = None
    have: int = 0
    strand: int | None = None
    done: int = 0
    received: int = 0
    worker: str = ""
    earlier: int = 0


class HaulProgress:
    """The progress of a haul, which its events change.

    Args:
        clock: monotonic, in seconds.

    Attributes:
        lanes: what they do, by their numbers.
        files, files_done: how many there are, and how many are done, well or not.
        files_failed: how many of these failed, or were refused.
        postponed_paths: paths of files that wait for another attempt.
        suspended_hosts: hosts that are set aside.
        workers: of a cluster, by name.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self.lanes: dict[int, Lane] = {}
        self.files = self.files_done = self.files_failed = 0
        self.postponed_paths: set[str] = set()
        self.suspended_hosts: set[str] = set()
        self.workers: set[str] = set()
        self._longest = self._unasked = 0
        self._bytes_known = self._sizes_unknown = 0
        self._learnt: set[str] = set()
        self._helped: Counter[str] = Counter()
        self._measuring = threading.Lock()
        self._bytes_gauge, self._time_left = Gauge(clock()), TimeLeft(clock())

    def note(self, event: object) -> None:
        """Change by an event."""
        if change := self._CHANGES.get(type(event)):
            change(self, event)

    def _plan(self, event: Planned) -> None:
        self.files = len(event.plan)
        self._longest = event.plan.longest
        sizes = event.plan.offers.sizes
        self._bytes_known = sizes.exact
        self._sizes_unknown = sizes.unknown + sizes.rough
        self.progress()  # the time left is counted from here

    def _start(self, event: Started) -> None:
        lane, filed, start = self._lane(event.lane), event.filed, event.start
        if lane.path != filed.path:
            lane.done += lane.have  # of the file before it in a batch
        if not start:
            self._helped.pop(filed.path, None)  # it starts over
        if filed.offer.size is None and event.length is not None:
            self._learn(filed.path, event.length)
        own = max(0, start - self._by_helpers(filed.path))
        lane.path, lane.length, lane.have, lane.strand = filed.path, event.length, own, None
        lane.earlier = 0 if filed.path in self.postponed_paths else start
        self.postponed_paths.discard(filed.path)
        if self.suspended_hosts:
            self.suspended_hosts.discard(host_of(filed.offer.address))

    def _start_strand(self, event: StrandStarted) -> None:
        lane, start = self._lane(event.lane), event.start
        lane.path, lane.length, lane.have = event.filed.path, event.end - start, 0
        lane.strand = start

    def _receive(self, event: Received) -> None:
        lane = self._lane(event.lane)
        lane.have += event.count
        lane.received += event.count

    def _postpone(self, event: Postponed) -> None:
        self.postponed_paths.add(event.filed.path)

    def _switch(self, event: SwitchedMirror) -> None:
        lane = self._lane(event.lane)
        lane.path, lane.have = "", 0

    def _free(self, event: Freed) -> None:
        lane = self._lane(event.lane)
        if lane.strand is not None:
            self._helped[lane.path] += lane.have
        elif lane.path not in self.postponed_paths:
            lane.done += lane.have
        lane.path, lane.have, lane.strand, lane.worker = "", 0, None, ""

    def _hand_over(self, event: HandedOver) -> None:
        self._lane(event.lane).worker = event.worker

    def _settle(self, event: Settled) -> None:
        filed, result = event.filed, event.result
        self.postponed_paths.discard(filed.path)
        self.files_done += 1
        self.files_failed += event.is_failure
        if filed.offer.size is None:
            self._learn(filed.path, result.received + result.resumed)
            self._learnt.discard(filed.path)
        if not result.received and not result.resumed:
            self._unasked += filed.offer.size or 0

    @property
    def bytes(self) -> int | None:
        """Return the size of all files; None while some sizes are unknown."""
        return None if self._sizes_unknown else self._bytes_known

    def carried(self, lane: int, path: str) -> int:
        """Return the bytes present of the file of a lane; 0 for another file."""
        state = self._lane(lane)
        return self._come_of(state) if state.path == path else 0

    def _learn(self, path: str, length: int) -> None:
        """Record the length of a file that its source did not announce."""
        with self._measuring:
            if path not in self._learnt:
                self._learnt.add(path)
                self._sizes_unknown -= 1
                self._bytes_known += length

    def _lane(self, lane: int) -> Lane:
        # Each lane accesses only its own entry.
        return self.lanes.get(lane) or self.lanes.setdefault(lane, Lane())

    def _by_helpers(self, path: str) -> int:
        """Return how many bytes of a file other lanes have fetched."""
        lanes = list(self.lanes.values())
        now = sum(lane.have for lane in lanes if lane.strand is not None and lane.path == path)
        return now + self._helped[path]

    def _come_of(self, lane: Lane) -> int:
        """Return how many bytes of a lane's file have arrived, including other lanes' strands."""
        return lane.have if lane.strand is not None else lane.have + self._by_helpers(lane.path)

    def progress(self) -> Progress:
        """Return a snapshot of the progress; thread-safe."""
        with self._measuring:
            return self._progress()

    def _progress(self) -> Progress:
        now = self._clock()
        lanes = sorted(self.lanes.items())
        have = self._unasked + sum(lane.done + lane.have for _, lane in lanes)
        have += sum(list(self._helped.values()))
        # What an earlier haul had left is here, but it did not come at any speed.
        speed = self._bytes_gauge.measure(now, sum(lane.received for _, lane in lanes))
        files = (self.files_done, self.files)
        left = self._time_left.measure(now, files, (have, self.bytes))
        return Progress(
            self.files,
            self.files_done,
            self.files_failed,
            self.bytes,
            have,
            speed,
            left,
            len(self.postponed_paths),
            len(self.suspended_hosts),
            self._longest,
            tuple(
                LaneProgress(
                    number, lane.path, lane.length, self._come_of(lane), lane.strand, lane.worker
                )
                for number, lane in lanes
                if lane.path or lane.worker
            ),
            len(self.workers),
        )

    _CHANGES: ClassVar[Mapping[type, Callable[[HaulProgress, Any], None]]] = {
        Planned: _plan,
        Started: _start,
        StrandStarted: _start_strand,
        Received: _receive,
        Postponed: _postpone,
        SwitchedMirror: _switch,
        Freed: _free,
        HandedOver: _hand_over,
        WorkerJoined: lambda progress, event: progress.workers.add(event.worker),
        WorkerLost: lambda progress, event: progress.workers.discard(event.worker),
        HostSuspended: lambda progress, event: progress.suspended_hosts.add(event.host),
        Settled: _settle,
    }
