"""Decides which files are requested before a lane takes them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable
from typing import Generic

from willow_cart.hauling.host_queue import HostQueue, Item


class Lookahead(Generic[Item]):
    """Chooses the next files of a host in groups; `choose` is not thread-safe.

    A group is half of what should be on the way: while it is worked through, the other half comes.

    Args:
        queue: what comes next.
        files_ahead: how many files of a host should be on the way; 0 for none.
    """

    def __init__(self, queue: HostQueue[Item], files_ahead: Callable[[str], int]) -> None:
        self._queue = queue
        self._files_ahead = files_ahead
        self._most: dict[str, int] = {}
        self._until_next: Counter[str] = Counter()
        self._chosen: defaultdict[str, set[Item]] = defaultdict(set)

    def files_ahead(self, host: str, address: str) -> int:
        """Return how many files of a host should be on the way, which is looked up once.

        Args:
            host: the host.
            address: of a file there.
        """
        most = self._most.get(host)
        if most is None:
            most = self._most[host] = self._files_ahead(address)
        return most

    def choose(self, host: str, now: float) -> list[Item]:
        """Return the files to request now, when a lane has taken one of a host.

        Args:
            host: the host, for which `files_ahead` was not 0.
            now: the time in seconds.
        """
        if self._until_next[host] > 1:
            self._until_next[host] -= 1
            return []
        most = self._most[host]
        self._until_next[host] = max(1, most // 2)
        upcoming = self._queue.upcoming(host, now, most)
        chosen = [item for item in upcoming if item not in self._chosen[host]]
        self._chosen[host] = set(upcoming)
        return chosen
