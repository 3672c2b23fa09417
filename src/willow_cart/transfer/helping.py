"""Helping: lanes that have no file of their own bring strands of large ones that others carry."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from willow_cart.addresses import host_of
from willow_cart.transfer.partials import Partial, Strand
from willow_cart.transfer.trips import Trip, Trips

# So long a file is watched on its lanes before it is judged whether they pay, in seconds, after a
# moment in which connections are made and gather speed.
_WATCHED = 1.0
_SETTLING = 0.5

# Twice the lanes pay if they bring so many times as much.
_WORTH_TWICE = 1.5


@dataclass(frozen=True, slots=True)
class Help:
    """A strand for a lane to bring.

    Attributes:
        trip: the file.
        partial: where it grows.
        strand: the stretch.
        address: where to ask for it.
        host: whose lane that takes.
    """

    trip: Trip
    partial: Partial
    strand: Strand
    address: str
    host: str


class Paying:
    """Watch the speed of one file, and say how many lanes it may have: twice as many while it pays.

    Args:
        now: the time in seconds.
    """

    def __init__(self, now: float) -> None:
        self.lanes = 1
        self._speed = 0.0
        self._since = now + _SETTLING
        self._from: int | None = None
        self._ended = False

    def measure(self, now: float, received: int, busy: int) -> int:
        """Say how many lanes it may have from now on.

        Args:
            now: the time in seconds.
            received: how many bytes there are by now.
            busy: how many lanes bring it.
        """
        if self._ended or now < self._since:
            return self.lanes
        if self._from is None:
            self._since, self._from = now, received
        if now - self._since < _WATCHED:
            return self.lanes
        speed = (received - self._from) / (now - self._since)
        if busy == self.lanes:  # fewer, where the host has no more to spare, tell nothing
            self._ended = speed < _WORTH_TWICE * self._speed
            self._speed = speed
            self.lanes = self.lanes // 2 if self._ended else self.lanes * 2
        self._since, self._from = now + _SETTLING, None
        return self.lanes


class Helping:
    """Finds strands for idle lanes; for one thread at a time.

    Args:
        trips: the files that are under way.
        strands: how many lanes one file may have; None for as many as pay.
        lanes: how many there are.
    """

    def __init__(self, trips: Trips, strands: int | None, lanes: int) -> None:
        self._trips = trips
        self._strands = None if strands is None else min(strands, lanes)
        self._helpers: Counter[int] = Counter()
        self._paying: dict[int, Paying] = {}

    def find(self, now: float, has_lane: Callable[[str], bool]) -> Help | None:
        """A strand for a lane to bring; None if no file can use one.

        Args:
            now: the time in seconds.
            has_lane: whether a host has a lane to spare.
        """
        if self._strands == 1:
            return None
        for trip, partial in self._in_want_of_help(now):
            for address in _origins(trip):
                if not has_lane(host_of(address)):
                    continue
                strand = partial.take()
                if strand is None:
                    break
                self._helpers[trip.number] += 1
                return Help(trip, partial, strand, address, host_of(address))
        return None

    def ended(self, help_: Help, *, well: bool) -> None:
        """Say that a strand is done with; a file that could not be helped is left alone."""
        self._helpers[help_.trip.number] -= 1
        if not well:
            help_.trip.come_alone()

    def _in_want_of_help(self, now: float) -> Iterator[tuple[Trip, Partial]]:
        for trip in self._trips.moving():
            partial = trip.partial
            if partial is None or trip.alone or not partial.can_be_shared:
                continue
            busy = 1 + self._helpers[trip.number]
            most = self._strands
            if most is None:
                paying = self._paying.setdefault(trip.number, Paying(now))
                most = paying.measure(now, partial.size, busy)
            # The first strand shows whether the place serves parts at all.
            if busy < (most if trip.in_parts else min(most, 2)):
                partial.share = (partial.facts.length or 0) // most
                yield trip, partial


def _origins(trip: Trip) -> tuple[str, ...]:
    """Where strands of a file may be asked for; at mirrors if a checksum proves what they send."""
    if trip.offer.checksums:
        everywhere = (trip.address, trip.offer.address, *trip.offer.mirrors)
        return tuple(dict.fromkeys(everywhere))
    return (trip.address,)
