"""The state of each file in transfer, over all its attempts."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from willow_cart.addresses import host_of
from willow_cart.filing import Filed, Plan
from willow_cart.identity import AddressId
from willow_cart.ledger.entries import Arrival, Result
from willow_cart.model import Offer, State
from willow_cart.protocols import Download
from willow_cart.redaction import without_secrets
from willow_cart.structs import replace
from willow_cart.transfer.partials import PartialFile


@dataclass(slots=True)
class Transfer:
    """The transfer of one file, over all its attempts.

    Attributes:
        number: its position in the haul, from 1.
        filed: the offer and the path that is kept for it.
        attempts: how often it was requested.
        consecutive_failures: how many attempts in a row fetched nothing that the next can be
            joined to.
        received: bytes that came in this run.
        resumed: bytes that a later attempt did not have to fetch again.
        seconds: time spent on it, pauses left out.
        partial: what has come so far, if it can be resumed.
        moving: whether a lane carries it now.
        in_parts: whether its server has shown that it serves parts.
        alone: whether it is to come on one lane.
        served_before: how often its host had answered well when it was busy for this file.
        excused: how often it was not blamed for not coming.
        notes: what the user should know of the file.
        lengths: of the versions that the server has shown, by their strong entity tags.
        contradicted: whether it has shown one version with two lengths.
        worker: of a cluster, that made the last attempt; empty for this machine.
        restamped: the ledger's entry for it, if the file has another time stamp now.
        clock: monotonic, in seconds.
        id: the identifier of its first address, by which it is known.
        shown: that address without secrets, for messages.
        address: where it is requested now: its own address, or a mirror.
    """

    number: int
    filed: Filed
    attempts: int = 0
    consecutive_failures: int = 0
    received: int = 0
    resumed: int = 0
    seconds: float = 0.0
    partial: PartialFile | None = None
    worker: str = ""
    restamped: Arrival | None = None
    moving: bool = False
    in_parts: bool = False
    alone: bool = False
    served_before: int = -1
    excused: int = 0
    notes: tuple[str, ...] = ()
    lengths: dict[str, set[int]] = field(default_factory=dict)
    contradicted: bool = False
    clock: Callable[[], float] = time.monotonic
    id: AddressId = field(init=False)
    shown: str = field(init=False)
    address: str = field(init=False)
    _turns: int = 0
    _since: float = 0.0
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        self.address = self.filed.offer.address
        self.id = self.filed.offer.id
        self.shown = without_secrets(self.address)

    @property
    def offer(self) -> Offer:
        """The offer."""
        return self.filed.offer

    # Its state is changed here alone; a test looks for assignments elsewhere.

    def adopt(self, partial: PartialFile) -> PartialFile:
        """Adopt a partial file to resume."""
        self.partial = partial
        return partial

    def release_partial(self) -> PartialFile | None:
        """Release the partial file and return it."""
        partial, self.partial = self.partial, None
        return partial

    def begin_attempt(self) -> None:
        """Count an attempt."""
        self.attempts += 1

    def failed(self, *, gained: bool) -> None:
        """Count a failed attempt; one with enough progress resets the count."""
        self.consecutive_failures = 0 if gained else self.consecutive_failures + 1

    def reset_failures(self) -> None:
        """Reset the count of failures, which were not the file's."""
        self.consecutive_failures = 0

    def ignore_failure(self, served: int) -> None:
        """Do not count a failure that is due to a busy host.

        Args:
            served: how often its host has answered well now.
        """
        self.excused += 1
        if served > self.served_before:
            self.consecutive_failures = min(self.consecutive_failures, 1)
        self.served_before = served

    def use_one_lane(self) -> None:
        """Use one lane from now on."""
        self.alone = True

    def is_contradicted(self, tag: str, length: int) -> bool:
        """Record the length of a version; return whether another one was seen before.

        RFC 9110, 8.8.1: a strong entity tag stands for the same bytes.
        """
        seen = self.lengths.setdefault(tag, set())
        facts = self.partial.facts if self.partial is not None else None
        if facts and facts.length is not None and facts.validators.entity_tag == tag:
            seen.add(facts.length)
            is_another = length != facts.length
        else:
            is_another = bool(seen) and length not in seen
        seen.add(length)
        return is_another

    def contradict(self) -> None:
        """Record that the server has sent different lengths for one version."""
        self.contradicted = True

    def note_resumed_at(self, resumed: int) -> None:
        """Record at how many bytes it was resumed."""
        self.resumed = resumed

    def comes(self, delivery: Download) -> None:
        """Record the facts in a response."""
        self.in_parts |= delivery.in_parts or delivery.start > 0
        self.notes = delivery.notes or self.notes
        self.seconds += delivery.spent

    def note_ranges_served(self) -> None:
        """Record that the server serves ranges."""
        self.in_parts = True

    def note(self, text: str) -> None:
        """Keep a note for the user about what arrived."""
        self.notes += (text,)

    def restamp(self, arrival: Arrival) -> Arrival:
        """Record that the existing file has another time stamp than the ledger says."""
        self.restamped = arrival
        return arrival

    def take_over(
        self, received: int, consecutive_failures: int, seconds: float, worker: str = ""
    ) -> None:
        """Adopt the outcome of an attempt by a worker of a cluster."""
        self.begin_attempt()
        self.worker = worker
        self.consecutive_failures = consecutive_failures
        self.seconds += seconds
        self.count(received)

    def counted(self, result: Result) -> Result:
        """Return the result of an attempt elsewhere with what all attempts came to."""
        return replace(
            result,
            attempts=self.attempts,
            received=self.received,
            seconds=round(self.seconds, 3),
            worker=self.worker,
        )

    def start_timing(self) -> None:
        """Start measuring the time that a lane spends on it."""
        self.moving = True
        self._since = self.clock()

    def stop_timing(self) -> None:
        """Stop measuring; the lane has released it."""
        self.seconds += self.clock() - self._since
        self.moving = False

    def count(self, received: int) -> None:
        """Count received bytes of any lane."""
        with self._lock:
            self.received += received

    def next_mirror(self) -> bool:
        """Switch to the next mirror; return False if none is left."""
        if self._turns == len(self.offer.mirrors):
            return False
        self.address = self.offer.mirrors[self._turns]
        self._turns += 1
        self.consecutive_failures = 0
        return True

    def result(self, state: State, reason: str = "", arrival: Arrival | None = None) -> Result:
        """Return the result."""
        now = self.clock() - self._since if self.moving else 0.0
        return Result(
            self.number,
            self.shown,
            self.filed.path,
            state,
            reason,
            self.received,
            self.resumed,
            self.attempts,
            round(self.seconds + now, 3),
            arrival,
            note="; ".join(self.notes),
            worker=self.worker,
            id=self.id,
        )


class Transfers:
    """The transfers that have started and are not settled; others are only in the plan.

    Args:
        plan: what goes where.
    """

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._under_way: dict[int, Transfer] = {}
        self._settled_bytes = 0
        self._lock = threading.Lock()

    def __getitem__(self, number: int) -> Transfer:
        """Return a transfer by number, creating it on first use."""
        transfer = self._under_way.get(number)
        if transfer is None:
            transfer = Transfer(number, self._plan[number])
            with self._lock:
                self._under_way[number] = transfer
        return transfer

    def forget(self, numbers: Iterable[int]) -> None:
        """Forget transfers that were not begun; they are created again when it is their turn."""
        with self._lock:
            for number in numbers:
                transfer = self._under_way.get(number)
                if transfer is not None and not (transfer.attempts or transfer.partial):
                    del self._under_way[number]

    def reset_failures(self, host: str) -> None:
        """Reset the failure counts of a host's transfers."""
        with self._lock:
            for transfer in self._under_way.values():
                if host_of(transfer.address) == host:
                    transfer.reset_failures()

    def settle(self, number: int) -> Filed:
        """Remove a settled transfer; return its offer and path."""
        with self._lock:
            transfer = self._under_way.pop(number)
            self._settled_bytes += transfer.received
        if transfer.partial is not None:
            transfer.partial.abandon()  # other lanes may still bring some of it
        return transfer.filed

    def moving(self) -> list[Transfer]:
        """Return the transfers in progress."""
        with self._lock:
            return [transfer for transfer in self._under_way.values() if transfer.moving]

    @property
    def received(self) -> int:
        """Return the bytes received in all transfers."""
        with self._lock:
            return self._settled_bytes + sum(
                transfer.received for transfer in self._under_way.values()
            )
