"""The queue of files by host, and how fast each host is asked for them."""

from __future__ import annotations

import heapq
from collections import Counter, defaultdict, deque
from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import count, islice
from math import inf
from typing import Generic, TypeVar

from willow_cart.structs import Value
from willow_cart.transfer.executor import BatchRule
from willow_cart.transfer.rates import LaneFinder

# Until the first busy answer after a time without any the rate is far above what is allowed; from
# then on it is close.
_FACTOR_FAR = 0.5
_FACTOR_NEAR = 0.85
_SETTLED_SECONDS = 2.0

# Answers to requests that were sent together say the same once.
_TOGETHER_SECONDS = 0.2
_TOGETHER_SECONDS_NEAR = 1.0

# The rate rises by these shares of the rate at which the host was busy last, each second: faster up
# to the knee, and slowly from there. Where each busy answer costs a wait the knee is lower. With
# them a haul settles at 0.9 to 1.0 of what a token bucket allows, whether it names a wait or not.
_FAST_GROWTH = 0.04
_SLOW_GROWTH = 0.003
_KNEE_SHARE = 0.93
_KNEE_SHARE_WITH_WAIT = 0.87

# After this long without a busy answer the limit that was learnt no longer holds (settled hauls
# hear one more often), and the rate doubles every few seconds.
_OUTDATED_SECONDS = 30.0
_DOUBLING_SECONDS = 5.0
_MAX_DOUBLINGS = 40.0

_MIN_REQUESTS_PER_SECOND = 0.1
_MAX_SAMPLES = 50


class HostRate:
    """The request rate of one host: falls at once when the host is busy, and rises slowly.

    A policy without a clock, for one thread at a time.
    """

    def __init__(self) -> None:
        self._seen: deque[float] = deque(maxlen=_MAX_SAMPLES)
        self._base: float | None = None
        self._ceiling = 0.0
        self._since = 0.0
        self._outdated = 0.0
        self._has_served = False
        self._is_near = False
        self._knee = _KNEE_SHARE

    def took(self, now: float) -> None:
        """Record a good answer."""
        self._has_served = True
        if self._base is None:
            self._seen.append(now)

    def rate(self, now: float) -> float | None:
        """Return the allowed requests per second; None for no limit."""
        if self._base is None:
            return None
        doublings = min(_MAX_DOUBLINGS, max(0.0, now - self._outdated) / _DOUBLING_SECONDS)
        return float(self._learnt_rate(self._base, now - self._since) * 2.0**doublings)

    def _learnt_rate(self, rate: float, seconds: float) -> float:
        """Return the current rate, given the rate at which the host was last busy."""
        knee, step = self._knee * self._ceiling, _FAST_GROWTH * self._ceiling
        if rate < knee:
            until_knee = (knee - rate) / step
            if seconds <= until_knee:
                return rate + step * seconds
            rate, seconds = knee, seconds - until_knee
        return rate + _SLOW_GROWTH * self._ceiling * seconds

    def busy(self, now: float, wait: float | None) -> bool:
        """Lower the rate after a busy answer, if the host has answered well since the last one.

        A host that serves nothing is asked again by the rules for retries, however slowly.

        Args:
            now: the time in seconds.
            wait: seconds that the host asked to be left alone; None if it did not.

        Returns:
            Whether the rate was far above what the host takes.
        """
        together = _TOGETHER_SECONDS_NEAR if self._is_near else _TOGETHER_SECONDS
        if now - self._since < together and self._base is not None:
            return False
        if not self._has_served:
            return True
        rate = self.rate(now)
        if rate is None:
            span = now - self._seen[0] if self._seen else 1.0
            rate = max(1, len(self._seen)) / max(span, 0.05)
            fall = _FACTOR_FAR
        else:
            self._is_near |= now - self._since > _SETTLED_SECONDS + (wait or 0.0)
            self._is_near &= now < self._outdated
            fall = _FACTOR_NEAR if self._is_near else _FACTOR_FAR
        self._ceiling = rate
        self._knee = _KNEE_SHARE if wait is None else _KNEE_SHARE_WITH_WAIT
        self._base = max(_MIN_REQUESTS_PER_SECOND, fall * rate)
        self._since = now
        # While a host is left alone, as it asked, it cannot say that it is busy.
        self._outdated = now + (wait or 0.0) + _OUTDATED_SECONDS
        self._has_served = False
        return fall == _FACTOR_FAR


Item = TypeVar("Item")

# The size of the first batch of a host, of which nothing is known yet.
_FIRST_BATCH = 16

# The share of the last files in the mean time of a host's files.
_NEW_SHARE = 0.2

# A host that was busy gets a lane back after this many good answers, or seconds without a bad one:
# large files fetch few answers.
_SUCCESSES_PER_LANE = 20
_QUIET_SECONDS = 20.0

# After this many consecutive failures a host is suspended.
_FAILURES_TO_SUSPEND = 10


class QueueWait(Value):
    """Nothing is available now; retry after this many seconds, or when a lane is free."""

    seconds: float | None


class HostQueue(Generic[Item]):
    """Files waiting for a lane, by host; not thread-safe, and without a clock.

    Hosts take turns, and each has a limited number of lanes, so that a slow host holds up only its
    own files. Postponed files are taken again when they are due, before untried ones. A host
    that is busy loses half its lanes, and gets them back one by one; requests are sent at the
    rate that it accepts. One that fails repeatedly is suspended until all others are done, and
    then tried again.

    Args:
        items: each with its host.
        lanes_per_host: how many lanes one host may have at a time.
        most_per_host: how many it may have if it keeps getting faster with more of them; None for
            a fixed number.
        most: how many lanes all hosts may have at a time.

    Attributes:
        finds_lanes: whether it changes the number of lanes by what they bring.
    """

    def __init__(
        self,
        items: Iterable[tuple[str, Item]],
        lanes_per_host: int,
        most_per_host: int | None = None,
        most: float = inf,
    ) -> None:
        self._waiting: defaultdict[str, deque[Item]] = defaultdict(deque)
        self._returned: defaultdict[str, deque[Item]] = defaultdict(deque)
        self._rates: defaultdict[str, HostRate] = defaultdict(HostRate)
        self._served: Counter[str] = Counter()
        self._seconds: dict[str, float] = {}
        for host, item in items:
            self._waiting[host].append(item)
        self._turns = deque(self._waiting)
        self._most_per_host = most_per_host or lanes_per_host
        self.finds_lanes = self._most_per_host > lanes_per_host
        self._finders: defaultdict[str, LaneFinder] = defaultdict(
            lambda: LaneFinder(lanes_per_host, self._most_per_host)
        )
        self._reported: defaultdict[str, int] = defaultdict(lambda: lanes_per_host)
        self._most = most
        self._taken: Counter[str] = Counter()
        self._in_use = 0
        self._one_by_one: set[str] = set()
        self._batching: set[str] = set()
        self._limits: dict[str, int] = {}
        self._slowed: dict[str, float] = {}
        self._heard: Counter[str] = Counter()
        self._good: Counter[str] = Counter()
        self._bad: Counter[str] = Counter()
        self._times_aside: Counter[str] = Counter()
        self._aside: set[str] = set()
        self._left_alone: dict[str, float] = {}
        self._put_off: list[tuple[float, int, str, Item]] = []
        self._order = count()

    @property
    def most_at_once(self) -> int:
        """Return how many files may be in progress at a time, given the limits of the hosts."""
        return sum(min(len(items), self._most_per_host) for items in self._waiting.values())

    def take(
        self, now: float, *, leaves: BatchRule | None = None
    ) -> tuple[str, Item] | QueueWait | None:
        """Take the next file and its host; return None when the queue is empty for good.

        Args:
            now: the time in seconds.
            leaves: by which rule others take several files; these are left to them.
        """
        self._bring_back(now)
        for host in [host for host, since in self._slowed.items() if now - since >= _QUIET_SECONDS]:
            self._give_a_lane_back(host, now)
        if self._aside and not self._is_any_other_left():
            self._aside.clear()

        def fits(host: str) -> bool:
            left = leaves is not None and self._is_for_batches(host, now, leaves)
            return self._is_free(host, now) and (not left or bool(self._returned[host]))

        free = self._next_host(fits)
        if free is None:
            return self._wait(now)
        return free, self._take_from(free, self._returned[free] or self._waiting[free], now)

    def _next_host(self, fits: Callable[[str], bool]) -> str | None:
        """Return the host whose turn it is, among those that match; None if none does."""
        for _ in range(len(self._turns)):
            host = self._turns[0]
            self._turns.rotate(-1)
            if fits(host):
                return host
        return None

    def _take_from(self, host: str, items: deque[Item], now: float) -> Item:
        self._occupy(host)
        if rate := self._rates[host].rate(now):
            self.pause_until(host, now + 1 / rate)
        return items.popleft()

    def _wait(self, now: float) -> QueueWait | None:
        """Return how long to wait for a file; None when the queue is empty for good."""
        left = any(self._waiting.values()) or any(self._returned.values())
        if self._put_off or self._in_use or left:
            return QueueWait(self._next_time(now))
        return None

    def take_several(
        self, now: float, rule: BatchRule, lanes: int
    ) -> tuple[str, list[Item], int] | QueueWait | None:
        """Take several files of one host, and lanes that are free there; see `finish_batch`.

        Where a batch has several lanes, a host has one at a time.

        Of a host that has ever been busy or that answers slowly, and of what was returned, nothing
        is taken in batches.

        Args:
            now: the time in seconds.
            rule: how many.
            lanes: that take several; all of them get some of the last files.
        """
        self._bring_back(now)
        host = self._next_host(
            lambda host: (
                self._is_for_batches(host, now, rule)
                and self.has_lane(host, now)
                and not (rule.lanes > 1 and host in self._batching)
            )
        )
        if host is None:
            return self._wait(now) if any(self._waiting.values()) else None
        free = min(self._limit(host) - self._taken[host], self._most - self._in_use)
        taken = int(min(rule.lanes, free))
        self._occupy(host, taken)
        self._batching.add(host)
        waiting = self._waiting[host]
        most = min(rule.files, max(_FIRST_BATCH, len(waiting) // (2 * lanes)))
        if (seconds := self._seconds.get(host)) is None:
            most = min(most, _FIRST_BATCH)
        elif seconds:
            most = max(1, min(most, int(rule.seconds / seconds)))
        return host, [waiting.popleft() for _ in range(min(most, len(waiting)))], taken

    def upcoming(self, host: str, now: float, most: int) -> list[Item]:
        """Return the next files of a host, in order; none if it was busy lately."""
        if self._is_slowed(host, now):
            return []
        return list(islice(self._waiting[host], most))

    def _is_for_batches(self, host: str, now: float, rule: BatchRule) -> bool:
        """Whether the next file of a host should be taken together with others."""
        return (
            bool(self._waiting[host])
            and host not in self._one_by_one
            and self._rates[host].rate(now) is None
            and self._seconds.get(host, inf if rule.after_one else 0.0) <= rule.slowest
        )

    def return_untried(self, host: str, items: Iterable[Item]) -> None:
        """Return files that were taken in a batch but not started."""
        self._returned[host].extend(items)

    def has_lane(self, host: str, now: float) -> bool:
        """Whether another lane may use a host now."""
        return (
            host not in self._aside
            and self._taken[host] < self._limit(host)
            and self._in_use < self._most
            and self._left_alone.get(host, now) <= now
        )

    def take_lane(self, host: str) -> None:
        """Take one of a host's lanes without a file; `finish` releases it."""
        self._occupy(host)

    def _occupy(self, host: str, lanes: int = 1) -> None:
        """Count lanes that a host gets; a negative number gives them back."""
        self._taken[host] += lanes
        self._in_use += lanes

    def refuse_batch(self, host: str, items: Sequence[Item]) -> None:
        """Return a batch, in its order, of a host whose files are fetched one by one."""
        self._one_by_one.add(host)
        self._waiting[host].extendleft(reversed(items))

    def finish_batch(self, host: str, lanes: int) -> None:
        """Record that a batch is over; its lanes are free."""
        self._batching.discard(host)
        self._occupy(host, -lanes)

    def finish(self, host: str) -> None:
        """Record that a file is settled."""
        self._occupy(host, -1)
        self._heard[host] = max(0, self._heard[host] - 1)

    def record_success(self, host: str, now: float) -> None:
        """Record a good answer of a host; after enough of them it gets a lane back."""
        self._served[host] += 1
        self._rates[host].took(now)
        self._bad[host] = self._times_aside[host] = 0
        if host in self._limits:
            self._good[host] += 1
            if self._good[host] >= _SUCCESSES_PER_LANE:
                self._give_a_lane_back(host, self._slowed[host])

    def record_duration(self, host: str, began: float, now: float, received: int) -> None:
        """Record how long a lane took for a file of a host.

        Args:
            began: when the lane took the file, in seconds.
            now: the time in seconds.
            received: the bytes that came.
        """
        self._learn_seconds(host, now - began)
        if self.finds_lanes:
            self._finders[host].finished(began, now, received)

    def record_batch(self, host: str, seconds: float, files: int) -> None:
        """Record how long a lane took for this many files of a host, one after the other."""
        self._learn_seconds(host, seconds / files)

    def _learn_seconds(self, host: str, seconds: float) -> None:
        known = self._seconds.get(host, seconds)
        self._seconds[host] = known + _NEW_SHARE * (seconds - known)

    def find_lanes(
        self, now: float, received: Mapping[str, int], lanes: int
    ) -> list[tuple[str, int]]:
        """Open a lane more at hosts that get faster with it, and close those that do not pay.

        Args:
            now: the time in seconds.
            received: the bytes that have come so far from each host that is in use.
            lanes: how many lanes there are for all hosts.

        Returns:
            The hosts whose number of lanes has changed since the last call, with that number.
        """
        changed = []
        for host, came in received.items():
            finder = self._finders[host]
            is_busy = bool(self._waiting[host]) and self._taken[host] >= finder.lanes - 1
            if not is_busy or self._is_slowed(host, now):
                finder.interrupt()
            else:
                finder.measure(now, came, may_grow=self._in_use < lanes)
            if self._reported[host] != finder.lanes:
                self._reported[host] = finder.lanes
                changed.append((host, finder.lanes))
        return changed

    def _give_a_lane_back(self, host: str, now: float) -> None:
        self._good[host] = 0
        self._slowed[host] = now
        self._limits[host] += 1
        if self._limits[host] >= self._finders[host].lanes:
            del self._limits[host], self._slowed[host]

    def record_failure(self, host: str, now: float) -> int:
        """Record a failure of a host.

        Args:
            now: the time in seconds.

        Returns:
            0, or if it has failed too often in a row how often that was so, this time included.
        """
        self._bad[host] += 1
        self._finders[host].strained(now)
        if self._bad[host] < _FAILURES_TO_SUSPEND or host in self._aside:
            return 0
        self._bad[host] = 0
        self._times_aside[host] += 1
        return self._times_aside[host]

    def suspend(self, host: str, until: float) -> None:
        """Suspend a host until all others are done, and at least until a time."""
        self._aside.add(host)
        self.pause_until(host, until)

    def served(self, host: str) -> int:
        """Return the number of good answers of a host."""
        return self._served[host]

    def has_company(self, host: str) -> bool:
        """Whether more than one lane is active at a host that answers."""
        return self._taken[host] > 1 and self._served[host] > 0

    def allow_at_most(self, host: str, lanes: int, now: float) -> None:
        """Limit the lanes of a host to the number of connections it allows."""
        self._good[host] = 0
        self._finders[host].strained(now, at_most=lanes)
        self._limits[host] = max(1, min(lanes, self._limit(host)))
        self._slowed[host] = now

    def slow_down(self, host: str, now: float, wait: float | None = None) -> None:
        """Lower the rate of a busy host; halve its lanes if the rate was far too high.

        Args:
            now: the time in seconds.
            wait: seconds that it asked to be left alone; None if it did not.
        """
        self._good[host] = 0
        lanes = self._limit(host)
        self._finders[host].strained(now)
        if not self._rates[host].busy(now, wait):
            return
        if self._heard[host]:
            # A lane that was in progress when it was halved says the same once more.
            self._heard[host] -= 1
            return
        self._heard[host] = max(0, self._taken[host] - 1)
        self._limits[host] = max(1, lanes // 2)
        self._slowed[host] = now

    def give_up(self, host: str) -> list[Item]:
        """Remove and return all files of a host."""
        left = [
            *self._returned[host],
            *self._waiting[host],
            *(each[3] for each in self._put_off if each[2] == host),
        ]
        self._waiting[host].clear()
        self._returned[host].clear()
        self._put_off = [each for each in self._put_off if each[2] != host]
        heapq.heapify(self._put_off)
        return left

    def postpone(self, host: str, item: Item, until: float) -> None:
        """Return a file to the queue, to be taken again at a given time."""
        self._occupy(host, -1)
        heapq.heappush(self._put_off, (until, next(self._order), host, item))

    def move(self, host: str, item: Item, to: str) -> None:
        """Return a file to the queue of another host, at its front."""
        self._occupy(host, -1)
        self.move_to_front(to, item)

    def move_to_front(self, host: str, item: Item) -> None:
        """Put a file at the front of a host's queue."""
        if host not in self._waiting:
            self._turns.append(host)
        self._waiting[host].appendleft(item)

    def pause_until(self, host: str, until: float) -> None:
        """Take nothing from a host until a given time."""
        self._left_alone[host] = max(until, self._left_alone.get(host, until))

    def _is_free(self, host: str, now: float) -> bool:
        return bool(self._returned[host] or self._waiting[host]) and self.has_lane(host, now)

    def _is_slowed(self, host: str, now: float) -> bool:
        """Whether a host has fewer lanes or a lower rate because it was busy."""
        return host in self._limits or self._rates[host].rate(now) is not None

    def _limit(self, host: str) -> int:
        found = self._finders[host].lanes
        return min(found, self._limits.get(host, found))

    def _is_any_other_left(self) -> bool:
        """Whether any file is in progress, or waiting at a host that is not suspended."""
        if self._in_use or any(each[2] not in self._aside for each in self._put_off):
            return True
        return any(
            host not in self._aside and (self._waiting[host] or self._returned[host])
            for host in self._turns
        )

    def _bring_back(self, now: float) -> None:
        while self._put_off and self._put_off[0][0] <= now:
            _, _, host, item = heapq.heappop(self._put_off)
            self._waiting[host].appendleft(item)

    def _next_time(self, now: float) -> float | None:
        """Return the seconds until a file becomes available; None if only a free lane can help."""
        times = [until for until in self._left_alone.values() if until > now]
        if self._put_off:
            times.append(self._put_off[0][0])
        return min(times) - now if times else None
