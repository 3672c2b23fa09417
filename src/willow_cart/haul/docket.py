"""The docket: which file a free lane takes next."""

from __future__ import annotations

import heapq
from collections import Counter, defaultdict, deque
from collections.abc import Iterable
from dataclasses import dataclass
from itertools import count
from typing import Generic, TypeVar

Item = TypeVar("Item")


@dataclass(frozen=True, slots=True)
class Wait:
    """Nothing can be taken now; look again in so many seconds, or when a lane gets free."""

    seconds: float | None


class Docket(Generic[Item]):
    """Files waiting for a lane, by host; not safe for several threads, and without a clock.

    Hosts take turns, and each has a limited number of lanes, so that a slow host holds up only its
    own files. What is put off comes up again when its time has come, before what is untried.

    Args:
        items: each with its host.
        lanes_per_host: how many lanes one host may have at a time.
    """

    def __init__(self, items: Iterable[tuple[str, Item]], lanes_per_host: int) -> None:
        self._waiting: defaultdict[str, deque[Item]] = defaultdict(deque)
        for host, item in items:
            self._waiting[host].append(item)
        self._turns = deque(self._waiting)
        self._lanes_per_host = lanes_per_host
        self._taken: Counter[str] = Counter()
        self._left_alone: dict[str, float] = {}
        self._put_off: list[tuple[float, int, str, Item]] = []
        self._order = count()

    @property
    def most_at_once(self) -> int:
        """How many items the hosts' limits let be under way at a time."""
        return sum(min(len(items), self._lanes_per_host) for items in self._waiting.values())

    def take(self, now: float) -> tuple[str, Item] | Wait | None:
        """Take the next file and its host; None once nothing will ever come up again."""
        self._bring_back(now)
        for _ in range(len(self._turns)):
            host = self._turns[0]
            self._turns.rotate(-1)
            if self._is_free(host, now):
                self._taken[host] += 1
                return host, self._waiting[host].popleft()
        if self._put_off or self._taken.total() or any(self._waiting.values()):
            return Wait(self._next_time(now))
        return None

    def finish(self, host: str) -> None:
        """Say that a file that was taken is settled."""
        self._taken[host] -= 1

    def put_off(self, host: str, item: Item, until: float) -> None:
        """Give a file that was taken back, to come up again at a time."""
        self._taken[host] -= 1
        heapq.heappush(self._put_off, (until, next(self._order), host, item))

    def move(self, host: str, item: Item, to: str) -> None:
        """Give a file that was taken back, to be taken from another host, before its others."""
        self._taken[host] -= 1
        if to not in self._waiting:
            self._turns.append(to)
        self._waiting[to].appendleft(item)

    def leave_alone(self, host: str, until: float) -> None:
        """Take nothing from a host until a time."""
        self._left_alone[host] = max(until, self._left_alone.get(host, until))

    def _is_free(self, host: str, now: float) -> bool:
        return (
            bool(self._waiting[host])
            and self._taken[host] < self._lanes_per_host
            and self._left_alone.get(host, now) <= now
        )

    def _bring_back(self, now: float) -> None:
        while self._put_off and self._put_off[0][0] <= now:
            _, _, host, item = heapq.heappop(self._put_off)
            self._waiting[host].appendleft(item)

    def _next_time(self, now: float) -> float | None:
        """Seconds until something may come up by itself; None if only a free lane can help."""
        times = [until for until in self._left_alone.values() if until > now]
        if self._put_off:
            times.append(self._put_off[0][0])
        return min(times) - now if times else None
