"""What a person is told while a haul is under way, line by line; `cli.bars` draws."""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Self

from willow_cart.addresses import host_of
from willow_cart.cli.gauge import Gauge, TimeLeft
from willow_cart.cli.telling import Throttle, tell, teller
from willow_cart.errors import ServerBusy, TryAgain, WillowCartError
from willow_cart.filing import Filed, Plan
from willow_cart.hauling import Handled, Observer, Unpacked
from willow_cart.model import State
from willow_cart.records import LaneProgress, Progress, Result
from willow_cart.redaction import without_secrets
from willow_cart.units import count_of, format_duration, format_size

_SECONDS_BETWEEN_LINES = 10.0

# So many members that were left out are named.
_MOST_NAMED = 8

# In the background lines pile up over a night.
_SECONDS_IN_BACKGROUND = 60.0


@dataclass(slots=True)
class Lane:
    """What one lane is doing; written by that lane alone, so that no lock is needed.

    Attributes:
        path: the file it carries; empty while it waits.
        length: how long that is in bytes.
        have: how much of it is here.
        strand: the byte that it began at, if it helps another lane.
        done: bytes of the files it is done with.
        received: bytes that it has received in all.
    """

    path: str = ""
    length: int | None = None
    have: int = 0
    strand: int | None = None
    done: int = 0
    received: int = 0


class View(Observer):
    """What all views keep count of.

    Attributes:
        tells_failures: whether files that do not come are told one by one.

    Args:
        clock: monotonic, in seconds.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self.tells_failures = True
        self.lanes: dict[int, Lane] = {}
        self.files = self.files_done = 0
        self.longest = self._unasked = 0
        self._bytes_known = self._sizes_unknown = 0
        self._learnt: set[str] = set()
        self.put_off: set[str] = set()
        self._helped: Counter[str] = Counter()
        self._measuring = threading.Lock()
        self.aside: set[str] = set()
        self._bytes_gauge, self._time_left = Gauge(clock()), TimeLeft(clock())
        self._waits = Throttle(clock)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        """Nothing is drawn that would have to be ended."""

    def say(self, line: str) -> None:
        """Write one line for good."""
        raise NotImplementedError

    def goes_on(self, begun: str) -> None:
        """Say that an earlier haul came to no end of its own."""
        when = f"{datetime.fromisoformat(begun):%Y-%m-%d %H:%M} UTC"
        self.say(f"the haul of {when} was broken off; this one goes on from where that was")

    def planned(self, plan: Plan) -> None:
        """Say what people should know before anything is fetched."""
        self.files = len(plan)
        self.longest = plan.longest
        sizes = plan.offers.sizes
        self._bytes_known = sizes.exact
        self._sizes_unknown = sizes.unknown + sizes.rough
        if twice := plan.offers.twice:
            self.say(f"{count_of(twice, 'address', 'addresses')} named twice, fetched once")
        if example := plan.changed.example:
            verb = "is" if plan.changed.files == 1 else "are"
            self.say(
                f"{count_of(plan.changed.files, 'name')} {verb} changed to be safe, such as that of"
                f" {without_secrets(example.offer.address)}, filed as {example.path}"
            )
        for clash in plan.clashes:
            several = len(clash.given) > 1
            self.say(
                f"{clash.wanted}: wanted by {count_of(len(clash.given), 'address', 'addresses')}"
                f"{'' if several else ' and taken already'}; filed as "
                + " and ".join(filed.path for filed in clash.given)
            )
        if example := plan.staying.example:
            self.say(
                f"{count_of(plan.staying.files, 'file')} filed by an earlier haul in another layout"
                f" stay where they are, such as {example.path}"
            )
        self.progress()  # the time left is counted from here

    def started(self, lane: int, filed: Filed, length: int | None, start: int) -> None:
        """Follow a lane's new file, and say so if an earlier haul has left a part of it."""
        state = self._lane(lane)
        if start and filed.path not in self.put_off:
            self.say(f"{filed.path}: goes on from {format_size(start)} of an earlier haul")
        if not start:
            self._helped.pop(filed.path, None)  # it begins anew
        if filed.offer.size is None and length is not None:
            self._learn(filed.path, length)
        own = max(0, start - self._by_helpers(filed.path))
        state.path, state.length, state.have, state.strand = filed.path, length, own, None
        self.put_off.discard(filed.path)
        if self.aside:
            self.aside.discard(host_of(filed.offer.address))

    def joined(self, lane: int, filed: Filed, start: int, end: int) -> None:
        """Follow a lane's strand of another one's file."""
        state = self._lane(lane)
        state.path, state.length, state.have, state.strand = filed.path, end - start, 0, start

    def received(self, lane: int, count: int) -> None:
        """Follow a lane's bytes."""
        state = self._lane(lane)
        state.have += count
        state.received += count

    def postponed(self, lane: int, filed: Filed, error: TryAgain, pause: float) -> None:
        """Say why a file waits and for how long."""
        state = self._lane(lane)
        have = self._come_of(state) if state.path == filed.path else 0
        self.put_off.add(filed.path)
        if have:
            on = f"resuming at {format_size(have)} in {format_duration(pause)}"
            self.say(f"{filed.path}: {error.reason}; {on}")
        else:
            self._say_of_host(host_of(filed.offer.address), filed, error, pause)

    def _say_of_host(self, host: str, filed: Filed, error: TryAgain, pause: float) -> None:
        """Say why a file waits that has not begun, once for all that wait for the same reason."""
        if not self._waits.is_due((host, error.reason)):
            return
        if isinstance(error, ServerBusy):
            self.say(
                f"{host} is busy ({error.reason}); asking more slowly, again in"
                f" {format_duration(pause)}"
            )
        else:
            self.say(f"{filed.path}: {error.reason}; trying again in {format_duration(pause)}")

    def turned(self, lane: int, filed: Filed, why: str, mirror: str) -> None:
        """Say which mirror is tried, and why."""
        state = self._lane(lane)
        state.path, state.have = "", 0
        self.say(f"{filed.path}: {why}; tries the mirror {mirror}")

    def freed(self, lane: int) -> None:
        """Follow a lane's end of a file; one that is put off is counted when it goes on."""
        state = self._lane(lane)
        if state.strand is not None:
            self._helped[state.path] += state.have
        elif state.path not in self.put_off:
            state.done += state.have
        state.path, state.have, state.strand = "", 0, None

    def host_set_aside(self, host: str, error: WillowCartError, pause: float) -> None:
        """Say which host is left for later."""
        self.aside.add(host)
        self.say(
            f"{host} fails again and again ({error.reason}); it is set aside until the others are"
            f" done, for {format_duration(pause)} at least"
        )

    def host_given_up(self, host: str, error: WillowCartError, files: int) -> None:
        """Say how many files a host leaves behind, in one line."""
        self.say(f"{host} is given up with {count_of(files, 'file')} to come: {error.why}")

    def set_aside(self, path: str, kept: Path) -> None:
        """Say where a file went that a haul had not put there."""
        self.say(f"{path}: what lay there was not as a haul had left it; it is kept in {kept}")

    def handled(self, handled: Handled) -> None:
        """Say which file the person's command failed for."""
        if handled.why:
            self.say(f"{handled.path}: {handled.why}")

    def unpacked(self, unpacked: Unpacked) -> None:
        """Say what of an archive did not come out of it, and what went."""
        if unpacked.failed:
            self.say(f"{unpacked.path}: not unpacked: {unpacked.failed}")
        for left_out in unpacked.left_out[:_MOST_NAMED]:
            self.say(f"{unpacked.path}: left out {left_out.name}: {left_out.why}")
        if (more := len(unpacked.left_out) - _MOST_NAMED) > 0:
            self.say(f"{unpacked.path}: left out {count_of(more, 'member')} more")
        if before := unpacked.left_out_before:
            self.say(
                f"{unpacked.path}: {count_of(before, 'member')} had been left out when it was"
                " unpacked"
            )
        if gone := unpacked.gone:
            self.say(
                f"{unpacked.path}: {count_of(len(gone), 'file')} of an earlier version no longer in"
                f" it, such as {gone[0]}, put aside in .willow/aside"
            )

    def settled(self, filed: Filed, result: Result) -> None:
        """Count a file, and say what went wrong with it."""
        self.put_off.discard(filed.path)
        self.files_done += 1
        if filed.offer.size is None:
            self._learn(filed.path, result.received + result.resumed)
            self._learnt.discard(filed.path)
        if not result.received and not result.resumed:
            self._unasked += filed.offer.size or 0
        if result.is_unsound:
            self.say(f"{result.path} arrived, but {result.reason}")
        if result.note:
            self.say(f"{result.path}: {result.note}")
        # What was never asked for is told by its host.
        failed = result.state in (State.FAILED, State.REFUSED) and result.attempts
        if failed and self.tells_failures:
            self.say(f"{result.state}: {result.address}: {result.reason}")

    @property
    def bytes(self) -> int | None:
        """How many bytes all files have; None while there are some of which nobody knows."""
        return None if self._sizes_unknown else self._bytes_known

    def _learn(self, path: str, length: int) -> None:
        """Take in the length of a file, which its source did not tell."""
        with self._measuring:
            if path not in self._learnt:
                self._learnt.add(path)
                self._sizes_unknown -= 1
                self._bytes_known += length

    def _lane(self, lane: int) -> Lane:
        # Only the lane itself asks for its own, so no two make the same.
        return self.lanes.get(lane) or self.lanes.setdefault(lane, Lane())

    def _by_helpers(self, path: str) -> int:
        """How much of a file other lanes than its own have brought."""
        lanes = list(self.lanes.values())
        now = sum(lane.have for lane in lanes if lane.strand is not None and lane.path == path)
        return now + self._helped[path]

    def _come_of(self, lane: Lane) -> int:
        """How much has come of what a lane carries: a file, with what others bring of it."""
        return lane.have if lane.strand is not None else lane.have + self._by_helpers(lane.path)

    def progress(self) -> Progress:
        """How far it is; for several threads."""
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
            self.bytes,
            have,
            speed,
            left,
            len(self.put_off),
            len(self.aside),
            self.longest,
            tuple(
                LaneProgress(number, lane.path, lane.length, self._come_of(lane), lane.strand)
                for number, lane in lanes
            ),
        )


class QuietView(View):
    """Tells what is for good, and nothing of how far it is."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        super().__init__(clock)
        self._tell = teller()  # lanes are threads of their own

    def say(self, line: str) -> None:
        """Tell a line."""
        self._tell(line)


class PlainView(View):
    """A line now and then, for logs and pipes.

    Args:
        begun: called once it is known what is to be done, for a haul in the background.
        clock: monotonic, in seconds.
    """

    def __init__(
        self,
        begun: Callable[[], None] | None = None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        super().__init__(clock)
        self._begun = begun
        self._lock = threading.Lock()
        self._between = _SECONDS_IN_BACKGROUND if begun else _SECONDS_BETWEEN_LINES
        self._next_line = clock() + self._between

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        pass

    def planned(self, plan: Plan) -> None:
        """Say what people should know, and hand the terminal back if it is waiting for that."""
        super().planned(plan)
        if self._begun is not None:
            self._begun()

    def say(self, line: str) -> None:
        """Write the line, signed."""
        tell(line)

    def received(self, lane: int, count: int) -> None:
        """Follow the bytes, and write a line if it is time for one."""
        super().received(lane, count)
        now = self._clock()
        with self._lock:
            if now < self._next_line:
                return
            self._next_line = now + self._between
        far = self.progress()
        left = f", {format_duration(far.left)} left" if far.left else ""
        self.say(
            f"{far.files_done:,} of {count_of(far.files, 'file')}, {format_size(far.have)},"
            f" {format_size(int(far.speed))}/s{left}"
        )
