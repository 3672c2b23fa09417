"""The timeline of a haul: what came from where and when, in bounded space.

Time is divided into a limited number of steps. When a haul outlasts them, they are joined in
pairs and each takes twice as long, so that a haul of a second and one of a week both have as many
as can be distinguished in a figure.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Self

from willow_cart.structs import Record, Value, asdict, field

MAX_STEPS = 512
"""The maximum number of steps; more would not be visible in a figure."""

_FIRST_STEP_SECONDS = 1 / 64  # seconds

# Hosts with figures of their own; the others are counted together.
_MAX_HOSTS = 40
OTHER_HOSTS = "other hosts"
"""What the hosts beyond the most that are distinguished are called together."""

# What no lane and no number of a timeline goes beyond.
_MAX_LANES = 100_000
_MAX_NUMBER = 1 << 62

# Waits kept with their reasons; the others are only counted.
_MAX_WAITS = 500


class TimelineCell(Record):
    """What one lane did at one host in one step.

    Attributes:
        asking: seconds between requests and responses.
        receiving: seconds it received one.
        bytes: that came.
    """

    asking: float = 0.0
    receiving: float = 0.0
    bytes: int = 0

    def add(self, other: TimelineCell) -> None:
        """Add another cell."""
        self.asking += other.asking
        self.receiving += other.receiving
        self.bytes += other.bytes


class TimelineWait(Value):
    """A postponed file.

    Attributes:
        at: when, in seconds from the haul's beginning.
        lane: that had carried it.
        pause: for how many seconds.
    """

    at: float
    lane: int
    path: str
    reason: str
    pause: float


class Timeline(Record):
    """The timeline of a haul; not thread-safe.

    Attributes:
        seconds: how long it has been going on.
        step: seconds that each step takes.
        cells: by step, lane and host; those in which nothing happened are left out.
        hosts: in the order in which they came up.
        waits: files that were postponed, the first ones.
        more_waits: how many were postponed besides.
    """

    seconds: float = 0.0
    step: float = _FIRST_STEP_SECONDS
    cells: dict[tuple[int, int, str], TimelineCell] = field(default_factory=dict)
    hosts: list[str] = field(default_factory=list)
    waits: list[TimelineWait] = field(default_factory=list)
    more_waits: int = 0

    def __bool__(self) -> bool:
        return bool(self.cells)

    def add(
        self, lane: int, host: str, since: float, until: float, count: int | None = None
    ) -> None:
        """Record an activity of a lane.

        Args:
            lane: its number.
            host: whom it asked, or received from.
            since: in seconds from the haul's beginning.
            until: as above.
            count: bytes that had come by the end of it; None for asking.
        """
        self.reach(until)
        host = self._told_apart(host)
        left = count or 0
        for number in range(int(since / self.step), int(until / self.step) + 1):
            begin, end = max(since, number * self.step), min(until, (number + 1) * self.step)
            cell = self._cell(number, lane, host)
            if count is None:
                cell.asking += max(0.0, end - begin)
                continue
            cell.receiving += max(0.0, end - begin)
            # What has come did not all come at the end.
            here = round(left * (end - begin) / (until - begin)) if end < until else left
            cell.bytes += here
            left -= here

    def _cell(self, number: int, lane: int, host: str) -> TimelineCell:
        cell = self.cells.get((number, lane, host))
        if cell is None:
            cell = self.cells[number, lane, host] = TimelineCell()
        return cell

    def add_wait(self, wait: TimelineWait) -> None:
        """Record a postponed file."""
        self.reach(wait.at)
        if len(self.waits) < _MAX_WAITS:
            self.waits.append(wait)
        else:
            self.more_waits += 1

    def reach(self, moment: float) -> None:
        """Record that the haul has gone on until a time; steps get longer as it does."""
        self.seconds = max(self.seconds, moment)
        while self.seconds >= self.step * MAX_STEPS:
            self.step *= 2
            joined: dict[tuple[int, int, str], TimelineCell] = {}
            for (number, lane, host), cell in self.cells.items():
                joined.setdefault((number // 2, lane, host), TimelineCell()).add(cell)
            self.cells = joined

    def _told_apart(self, host: str) -> str:
        if host in self.hosts:
            return host
        if len(self.hosts) >= _MAX_HOSTS:
            host = OTHER_HOSTS
        if host not in self.hosts:
            self.hosts.append(host)
        return host

    def as_text(self) -> str:
        """Return the timeline as JSON for the ledger."""
        numbers = {host: number for number, host in enumerate(self.hosts)}
        return json.dumps(
            {
                "seconds": round(self.seconds, 3),
                "step": self.step,
                "hosts": self.hosts,
                "cells": [
                    (number, lane, numbers[host], round(cell.asking, 6),
                     round(cell.receiving, 6), cell.bytes)
                    for (number, lane, host), cell in sorted(self.cells.items())
                ],
                "waits": [asdict(wait) for wait in self.waits],
                "more_waits": self.more_waits,
            },
            ensure_ascii=False,
            separators=(",", ":"),
        )  # fmt: skip

    @classmethod
    def from_text(cls, text: str) -> Self:
        """Parse a stored timeline; an empty text is an empty timeline.

        Raises:
            ValueError: it is something else.
        """
        if not text:
            return cls()
        try:
            kept = json.loads(text)
            cells = {
                (number, lane, kept["hosts"][host]): TimelineCell(*cell)
                for number, lane, host, *cell in kept.pop("cells")
            }
            waits = [TimelineWait(**wait) for wait in kept.pop("waits")]
            read = cls(cells=cells, waits=waits, **kept)
            read._require_possible()
            if read.seconds > read.step * MAX_STEPS:
                read.reach(read.seconds)  # earlier versions left out the time after the last event
        except (TypeError, KeyError, IndexError, AttributeError, RecursionError) as error:
            raise ValueError(type(error).__name__) from None
        return read

    def _require_possible(self) -> None:
        """Refuse values that `add` never makes, which would make endless figures.

        Raises:
            ValueError: it is that.
            TypeError: something has another type.
        """
        numbers = [self.seconds, self.step, self.more_waits, *(each.at for each in self.waits)]
        for (number, lane, _), cell in self.cells.items():
            if not (0 <= number <= MAX_STEPS and 0 <= lane <= _MAX_LANES):
                raise ValueError("an invalid step")
            numbers += [cell.asking, cell.receiving, cell.bytes]
        if not all(0 <= each <= _MAX_NUMBER for each in numbers):
            raise ValueError("an invalid number")
        if self.step < _FIRST_STEP_SECONDS:
            raise ValueError("an invalid length")
        if not all(isinstance(each, str) for each in self.hosts):
            raise ValueError("an invalid host")

    def lanes(self) -> list[int]:
        """Return the active lanes in order."""
        return sorted({lane for _, lane, _ in self.cells} | {wait.lane for wait in self.waits})

    def each(self) -> Iterator[tuple[int, int, str, TimelineCell]]:
        """Yield every cell with its step, lane and host, in the order of steps."""
        for (number, lane, host), cell in sorted(self.cells.items()):
            yield number, lane, host, cell
