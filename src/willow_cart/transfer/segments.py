"""Divide large files among idle lanes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator

from willow_cart.addresses import host_of
from willow_cart.errors import WillowCartError
from willow_cart.model import Validators
from willow_cart.protocols import Download
from willow_cart.structs import Value
from willow_cart.transfer.partials import PartialFile, Segment
from willow_cart.transfer.transfers import Transfer

# So long a file is watched on its lanes before it is judged whether they pay, in seconds, after a
# moment in which connections are made and gather speed.
_MEASURE_SECONDS = 1.0
_SETTLE_SECONDS = 0.5

# Twice the lanes must be at least this much faster to be kept.
_MIN_SPEEDUP = 1.5


class SegmentJob(Value):
    """A strand for a lane to fetch.

    Attributes:
        strand: the stretch.
        address: where to ask for it.
        host: whose lane that takes.
    """

    transfer: Transfer
    strand: Segment
    address: str
    host: str


class Assistance(Value):
    """What became of a strand.

    Attributes:
        served: whether the server serves parts of that version.
        progressed: whether any of it came.
        failure: why it ended early; None if it did not.
    """

    served: bool
    progressed: bool
    failure: WillowCartError | None = None


class ConcurrencyProbe:
    """Measures the speed of one file, and doubles its lanes while that helps.

    Args:
        now: the time in seconds.
    """

    def __init__(self, now: float) -> None:
        self.lanes = 1
        self._speed = 0.0
        self._since = now + _SETTLE_SECONDS
        self._from: int | None = None
        self._ended = False

    def measure(self, now: float, received: int, busy: int) -> int:
        """Return the number of lanes that it may have from now on.

        Args:
            now: the time in seconds.
            received: how many bytes there are now.
            busy: how many lanes fetch it.
        """
        if self._ended or now < self._since:
            return self.lanes
        if self._from is None:
            self._since, self._from = now, received
        if now - self._since < _MEASURE_SECONDS:
            return self.lanes
        speed = (received - self._from) / (now - self._since)
        if busy == self.lanes:  # fewer, where the host has no more to spare, tell nothing
            self._ended = speed < _MIN_SPEEDUP * self._speed
            self._speed = speed
            self.lanes = self.lanes // 2 if self._ended else self.lanes * 2
        self._since, self._from = now + _SETTLE_SECONDS, None
        return self.lanes


class SegmentScheduler:
    """Finds strands for idle lanes; not thread-safe.

    Args:
        moving: gives the files that are in progress.
        strands: how many lanes one file may have; None for as many as pay.
        lanes: how many there are.
    """

    def __init__(
        self, moving: Callable[[], Iterable[Transfer]], strands: int | None, lanes: int
    ) -> None:
        self._moving = moving
        self._strands = None if strands is None else min(strands, lanes)
        self._helpers: Counter[int] = Counter()
        self._paying: dict[int, ConcurrencyProbe] = {}

    def find(self, now: float, has_lane: Callable[[str], bool]) -> SegmentJob | None:
        """Return a strand for a lane; None if no file can use one.

        Args:
            now: the time in seconds.
            has_lane: whether a host has a lane to spare.
        """
        if self._strands == 1:
            return None
        for transfer in self._in_want_of_help(now):
            for address in _origins(transfer):
                if not has_lane(host_of(address)):
                    continue
                strand = transfer.partial.take() if transfer.partial else None
                if strand is None:
                    break
                self._helpers[transfer.number] += 1
                return SegmentJob(transfer, strand, address, host_of(address))
        return None

    def ended(self, help_: SegmentJob, *, well: bool) -> None:
        """Record the end of a strand; a file whose strand failed gets no more."""
        self._helpers[help_.transfer.number] -= 1
        if not well:
            help_.transfer.use_one_lane()

    def _in_want_of_help(self, now: float) -> Iterator[Transfer]:
        for transfer in self._moving():
            file = transfer.partial
            if file is None or transfer.alone or not file.can_be_shared:
                continue
            busy = 1 + self._helpers[transfer.number]
            most = self._strands
            if most is None:
                paying = self._paying.setdefault(transfer.number, ConcurrencyProbe(now))
                most = paying.measure(now, file.size, busy)
            # The first strand shows whether the server serves parts at all.
            if busy < (most if transfer.in_parts else min(most, 2)):
                file.share = (file.length or 0) // most
                yield transfer


def _origins(transfer: Transfer) -> tuple[str, ...]:
    """Return where strands may be requested; mirrors only if a checksum verifies their data."""
    if transfer.offer.checksums:
        everywhere = (transfer.address, transfer.offer.address, *transfer.offer.mirrors)
        return tuple(dict.fromkeys(everywhere))
    return (transfer.address,)


def fits(delivery: Download, partial: PartialFile, strand: Segment) -> bool:
    """Whether a response is a strand of the version that is being fetched."""
    if delivery.start != strand.start:
        return False
    if partial.facts.length not in (None, delivery.facts.length):
        return False
    # Only a start that is not the file's own shows that the server compared the version.
    return strand.start > 0 or _marks(delivery.facts.validators) == _marks(partial.facts.validators)


def _marks(validators: Validators) -> tuple[str | None, str | None]:
    return validators.entity_tag, validators.last_modified
