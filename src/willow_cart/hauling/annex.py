"""The annex: a second process that carries small files, which keep one interpreter busy.

Python runs one thread at a time. Where files are so small that not the line but the interpreter
decides how fast they come, a second one brings more than any number of lanes. It only carries:
which files, when, and what becomes of them is said here; it writes no ledger and gives no names.
"""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.access import Access
from willow_cart.access.kept_answers import KeptAnswers
from willow_cart.addresses import WEB, scheme_of
from willow_cart.destination import Destination, boot_mark
from willow_cart.errors import ConnectionLost, ServerBusy, WillowCartError
from willow_cart.filing import Filed
from willow_cart.hauling.carrier import Carrier
from willow_cart.hauling.filer import Landing, Note
from willow_cart.hauling.observer import Observer
from willow_cart.hauling.partial_store import PartialStore
from willow_cart.hauling.receiving import Receiver
from willow_cart.hauling.trips import Trip
from willow_cart.hauling.wishes import Wishes
from willow_cart.records import Result

if TYPE_CHECKING:
    from multiprocessing.connection import Connection

# A process costs some milliseconds; for fewer files it does not pay.
_WORTH_IT = 1000

# What comes in one piece. Of what does not, a part may have to be recorded, and the ledger is not
# there.
_SMALL = 64 << 10


@dataclass(frozen=True, slots=True)
class Carried:
    """What came of an attempt in the annex.

    Attributes:
        number: of the file.
        outcome: what became of it, the file itself, or why it did not come; None if it was not for
            the annex.
        received: how many bytes came.
        vain: how many attempts in a row were vain.
        seconds: how long it took.
    """

    number: int
    outcome: Landing | Result | WillowCartError | None
    received: int = 0
    vain: int = 0
    seconds: float = 0.0


class Annex:
    """Another process that carries files; forked before there is any thread that it might miss.

    Args:
        access: how places are talked to; forgets its connections there.
        wishes: how it is to be done.
    """

    def __init__(self, access: Access, wishes: Wishes) -> None:
        from multiprocessing.connection import Pipe

        self._destination: Destination | None = None
        self._is_kept = access.holds if isinstance(access, KeptAnswers) else lambda _: False
        self._large = 0
        self.is_open = True
        self._line, theirs = Pipe()
        self._process = os.fork()
        if not self._process:
            self._line.close()
            access.disown()
            _serve(theirs, access, wishes)
        theirs.close()

    def move_in(self, destination: Destination) -> None:
        """Say where files will be filed, before the first is sent."""
        self._destination = destination
        try:
            self._line.send(destination.root)
        except OSError:
            self.is_open = False

    def suits(self, trip: Trip) -> bool:
        """Whether a file is one for the annex: small, new, and from the web."""
        size = trip.offer.size
        return (
            self.is_open
            and not trip.attempts
            and (size <= _SMALL if size is not None else not self._large)
            and scheme_of(trip.address) in WEB
            and self._destination is not None
            and self._destination.status(trip.filed.path) is None
            and not self._is_kept(trip.address)
        )

    def carry(self, trips: Sequence[Trip]) -> dict[int, Carried]:
        """Have files carried, and wait for that; those that were not for the annex are left out."""
        try:
            self._line.send([(trip.number, trip.filed) for trip in trips])
            carried: list[Carried] = self._line.recv()
        except (EOFError, OSError):
            self.is_open = False  # it was killed; there are lanes here as well
            return {}
        self._large += sum(each.outcome is None for each in carried)
        return {each.number: each for each in carried if each.outcome is not None}

    def close(self) -> None:
        """End it; a second time does nothing."""
        self.is_open = False
        if not self._line.closed:
            self._line.close()
            os.waitpid(self._process, 0)


def pays(files: int, wishes: Wishes) -> bool:
    """Whether an annex may pay: for many files, on several lanes, at no pace of the person's.

    A process with threads is not forked: what they hold at that moment would be held for ever.
    """
    several = min(wishes.lanes, wishes.lanes_per_host) > 1
    hurried = not (wishes.pace.gap or wishes.pace.speed_cap)
    processors = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 1
    may = several and hurried and not wishes.one_process
    return files >= _WORTH_IT and processors > 1 and may and _has_no_threads()


def _has_no_threads() -> bool:
    return threading.active_count() == 1


class _NotForTheAnnex(WillowCartError):
    """A file that does not come in one piece."""


class _NoFiler:
    """Stands where the filer would: nothing is named or entered in the annex."""

    def take(self, item: object) -> None:
        """Nothing to take: what is done away with was never entered."""

    def take_at_once(self, note: Note) -> None:  # noqa: ARG002  # as the filer has it
        """Refuse: what has to be entered at once is carried elsewhere."""
        raise _NotForTheAnnex("a file", "does not come in one piece")


def _serve(line: Connection, access: Access, wishes: Wishes) -> None:
    """Carry what is asked for until nobody asks any more."""
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)  # it ends with the process that it was forked from
    parent = os.getppid()
    try:
        carrier = _make_carrier(line.recv(), access, wishes)
        while os.getppid() == parent:
            line.send(_carry_all(carrier, line.recv()))
    finally:
        os._exit(0)


def _make_carrier(root: Path, access: Access, wishes: Wishes) -> Carrier:
    destination = Destination(root, locks=False)  # the first process has the lock
    partials = PartialStore(destination, {}, boot_mark())
    receiver = Receiver(
        access, partials, _NoFiler(), Observer(), threading.Event(), wishes, destination.room
    )
    return Carrier(receiver, destination, None)


def _carry_all(carrier: Carrier, batch: Sequence[tuple[int, Filed]]) -> list[Carried]:
    """Carry files until the host is busy; the others are given back, to be asked for slowly."""
    carried = []
    for number, filed in batch:
        carried.append(_carry(carrier, number, filed))
        if isinstance(carried[-1].outcome, ServerBusy | ConnectionLost):
            break
    return carried


def _carry(carrier: Carrier, number: int, filed: Filed) -> Carried:
    trip = Trip(number, filed)
    outcome: Landing | Result | WillowCartError | None
    try:
        outcome = carrier.attempt(trip, 0)
    except _NotForTheAnnex:
        outcome = None
    except WillowCartError as error:
        outcome = error
    return Carried(number, outcome, trip.received, trip.vain, trip.seconds)
