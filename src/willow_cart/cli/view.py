"""What a person sees while a haul is under way: bars on a terminal, a line now and then without."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Self

from rich.console import Console, Group, RenderableType
from rich.live import Live
from rich.markup import escape
from rich.progress_bar import ProgressBar
from rich.table import Table

from willow_cart.cli.gauge import Gauge, time_left
from willow_cart.errors import TryAgain
from willow_cart.filing import Filed, Plan
from willow_cart.haul import Observer
from willow_cart.model import State, total_size
from willow_cart.records import Result
from willow_cart.units import count_of, format_duration, format_size

_DRAWS_A_SECOND = 5
_SECONDS_BETWEEN_LINES = 10.0


@dataclass(slots=True)
class _Lane:
    """What one lane is doing; written by that lane alone, so that no lock is needed.

    Attributes:
        path: the file it carries; empty while it waits.
        length: how long that is in bytes.
        have: how much of it is here.
        done: bytes of all the files it has settled.
    """

    path: str = ""
    length: int | None = None
    have: int = 0
    done: int = 0


class _View(Observer):
    """What both views keep count of.

    Args:
        clock: monotonic, in seconds.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._lanes: dict[int, _Lane] = {}
        self._lock = threading.Lock()
        self._files = self._settled = 0
        self._bytes: int | None = None
        self._put_off: set[str] = set()
        self._bytes_gauge = self._files_gauge = Gauge(clock())

    def say(self, line: str) -> None:
        """Write one line for good."""
        raise NotImplementedError

    def planned(self, plan: Plan) -> None:
        """Say what people should know before anything is fetched."""
        self._files = len(plan.files)
        known, unknown = total_size(filed.offer for filed in plan.files)
        self._bytes = None if unknown else known
        self._bytes_gauge, self._files_gauge = Gauge(self._clock()), Gauge(self._clock())
        if plan.twice:
            self.say(f"{count_of(plan.twice, 'address', 'addresses')} named twice, fetched once")
        for clash in plan.clashes:
            several = len(clash.given) > 1
            self.say(
                f"{clash.wanted}: wanted by {count_of(len(clash.given), 'address', 'addresses')}"
                f"{'' if several else ' and taken already'}; filed as "
                + " and ".join(filed.path for filed in clash.given)
            )
        if plan.staying:
            self.say(
                f"{count_of(len(plan.staying), 'file')} filed by an earlier haul in another layout"
                f" stay where they are, such as {plan.staying[0].path}"
            )

    def started(self, lane: int, filed: Filed, length: int | None, start: int) -> None:
        """Follow a lane's new file, and say so if an earlier haul has left a part of it."""
        state = self._lane(lane)
        if start and filed.path not in self._put_off:
            self.say(f"{filed.path}: goes on from {format_size(start)} of an earlier haul")
        state.path, state.length, state.have = filed.path, length, start
        self._put_off.discard(filed.path)

    def received(self, lane: int, count: int) -> None:
        """Follow a lane's bytes."""
        self._lane(lane).have += count

    def postponed(self, lane: int, filed: Filed, error: TryAgain, pause: float) -> None:
        """Say why a file waits and for how long."""
        state = self._lane(lane)
        have = state.have if state.path == filed.path else 0
        state.path, state.have = "", 0
        self._put_off.add(filed.path)
        on = f"goes on from {format_size(have)}" if have else "tries again"
        self.say(f"{filed.path}: {error.reason}; {on} in {format_duration(pause)}")

    def set_aside(self, path: str, kept: Path) -> None:
        """Say where a file went that a haul had not put there."""
        self.say(f"{path}: what lay there was not from a haul; it is kept in {kept}")

    def settled(self, lane: int, filed: Filed, result: Result) -> None:
        """Count a file, and say what went wrong with it."""
        state = self._lane(lane)
        # With sizes known beforehand the bar runs over those, whether the bytes came or were here.
        size = state.have if self._bytes is None else filed.offer.size or 0
        state.path, state.have, state.done = "", 0, state.done + size
        self._put_off.discard(result.path)
        with self._lock:
            self._settled += 1
        if result.state in (State.FAILED, State.REFUSED):
            self.say(f"{result.state}: {result.address}: {result.reason}")

    def _lane(self, lane: int) -> _Lane:
        # Only the lane itself asks for its own, so no two make the same.
        return self._lanes.get(lane) or self._lanes.setdefault(lane, _Lane())

    def _progress(self) -> tuple[int, float, float | None]:
        """Bytes here so far, speed in bytes a second, seconds left if anyone can say."""
        now = self._clock()
        have = sum(lane.done + lane.have for lane in self._lanes.values())
        speed = self._bytes_gauge.measure(now, have)
        files_speed = self._files_gauge.measure(now, self._settled)
        if self._bytes is not None:
            return have, speed, time_left(max(0, self._bytes - have), speed)
        return have, speed, time_left(self._files - self._settled, files_speed)


class PlainView(_View):
    """A line now and then, for logs and pipes."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        super().__init__(clock)
        self._next_line = clock() + _SECONDS_BETWEEN_LINES

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        pass

    def say(self, line: str) -> None:
        """Write the line, signed."""
        print(f"willow-cart: {line}", file=sys.stderr)

    def received(self, lane: int, count: int) -> None:
        """Follow the bytes, and write a line if it is time for one."""
        super().received(lane, count)
        now = self._clock()
        with self._lock:
            if now < self._next_line:
                return
            self._next_line = now + _SECONDS_BETWEEN_LINES
        have, speed, left = self._progress()
        self.say(
            f"{self._settled:,} of {count_of(self._files, 'file')}, {format_size(have)},"
            f" {format_size(int(speed))}/s" + (f", {format_duration(left)} left" if left else "")
        )


class LiveView(_View):
    """Bars that are drawn anew a few times a second, whatever happens how often.

    Args:
        into: the destination, for the heading.
        clock: monotonic, in seconds.
        console: where to draw.
    """

    def __init__(
        self,
        into: Path,
        clock: Callable[[], float] = time.monotonic,
        console: Console | None = None,
    ) -> None:
        super().__init__(clock)
        self._into = into
        self._live = Live(
            console=console or Console(stderr=True, highlight=False),
            get_renderable=self._draw,
            refresh_per_second=_DRAWS_A_SECOND,
            transient=True,
        )

    def __enter__(self) -> Self:
        self._live.__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        self._live.__exit__(None, None, None)

    def say(self, line: str) -> None:
        """Write the line above the bars."""
        style = "red" if line.startswith((State.FAILED, State.REFUSED)) else "yellow"
        self._live.console.print(f"[{style}]{escape(line)}[/]", soft_wrap=True)

    def _draw(self) -> RenderableType:
        have, speed, left = self._progress()
        width = self._live.console.width
        head = Table.grid(padding=(0, 2))
        total = self._bytes if self._bytes is not None else self._files
        done = have if self._bytes is not None else self._settled
        of_bytes = f" of {format_size(self._bytes)}" if self._bytes is not None else ""
        head.add_row(
            f"[bold]into {escape(str(self._into))}[/]",
            ProgressBar(total=max(total, 1), completed=done, width=max(10, width // 4)),
            f"{self._settled:,} of {count_of(self._files, 'file')}",
        )
        figures = [f"{format_size(have)}{of_bytes}", f"{format_size(int(speed))}/s"]
        if left is not None:
            figures.append(f"{format_duration(left)} left")
        if self._put_off:
            figures.append(f"{count_of(len(self._put_off), 'file')} put off")
        rows = Table.grid(padding=(0, 2))
        rows.add_column(justify="right", style="dim")
        rows.add_column(no_wrap=True)
        rows.add_column()
        rows.add_column(justify="right", no_wrap=True)
        room = max(12, width - max(10, width // 4) - 34)
        for number in sorted(self._lanes):
            lane = self._lanes[number]
            if not lane.path:
                continue
            of_length = f" of {format_size(lane.length)}" if lane.length is not None else ""
            rows.add_row(
                str(number + 1),
                escape(cut_middle(lane.path, room)),
                ProgressBar(
                    total=lane.length,
                    completed=lane.have,
                    pulse=lane.length is None,
                    width=max(10, width // 4),
                ),
                f"{format_size(lane.have)}{of_length}",
            )
        return Group(head, "  ".join(figures), rows)


def cut_middle(text: str, width: int) -> str:
    """Shorten a text in its middle: names differ in their beginnings and their ends."""
    if len(text) <= width:
        return text
    head = (width - 1) // 2
    return f"{text[:head]}…{text[len(text) - (width - 1 - head) :]}"
