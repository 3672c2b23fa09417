"""The crew: lanes side by side, each carrying one file at a time."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Callable
from functools import partial

from willow_cart.addresses import host_of
from willow_cart.errors import (
    CannotStore,
    ConnectionLost,
    HostUnknown,
    InternalError,
    Interrupted,
    NotTrusted,
    NotWhatWasMeant,
    ServerBusy,
    TryAgain,
    WillowCartError,
)
from willow_cart.hauling.annex import Annex, Carried
from willow_cart.hauling.carrier import Carrier
from willow_cart.hauling.crowding import Crowding
from willow_cart.hauling.docket import Docket, Wait
from willow_cart.hauling.filer import Landing
from willow_cart.hauling.helping import Help, Helping
from willow_cart.hauling.trips import Trip, Trips
from willow_cart.model import State
from willow_cart.records import Result
from willow_cart.redaction import without_secrets

# How long lanes that wait for bytes are waited for once the person wants to stop; after that their
# connections are ended. Then they have as long as a name may take to be looked up.
_GRACE = 0.5
_LAST_GRACE = 30.0

# Answers by which a host says that it is asked for too much (RFC 6585, 4; RFC 9110, 15.6.4).
_BUSY = frozenset({421, 429, 503})

# So often a file is not blamed for a busy host, or for a connection that it drops: one address that
# always fails must not slow down all others of its host.
_MOST_EXCUSES = 20
_MOST_EXCUSES_FOR_LOSS = 2

# A host that was set aside is left alone for so many times as long as a file would be.
_ROUND = 30

# So many files go to the annex at a time: enough to keep it busy, and soon over.
_TO_THE_ANNEX = 32

# How often the number of lanes is thought about, and an ended wait or a wish to stop noticed.
_TICK = 0.05


class Crew:
    """Work through trips with several lanes.

    Args:
        carrier: carries one file.
        docket: which file is carried next, by its number.
        trips: the files that are under way.
        annex: another process that carries small files; None for none.
        chance: gives random numbers from 0 to 1.
    """

    def __init__(
        self,
        carrier: Carrier,
        docket: Docket[int],
        trips: Trips,
        annex: Annex | None = None,
        *,
        chance: Callable[[], float] = random.random,
    ) -> None:
        receiver = carrier.receiver
        self._carrier = carrier
        self._filer = receiver.filer
        self._wishes = receiver.wishes
        self._patience = receiver.wishes.patience
        self._chance = chance
        self._observer = receiver.observer
        self._stop = receiver.stop
        self._change = threading.Condition()
        self._docket = docket
        self._trips = trips
        self._annex = annex
        self._helping = Helping(trips, receiver.wishes.strands, receiver.wishes.lanes)
        self._files = self._bytes = 0
        self._open = 1
        self._ended = False
        self._failure: BaseException | None = None

    def work(self) -> None:
        """Carry everything home, or until the person wants to stop.

        Raises:
            CannotStore: the ledger cannot be written; nothing more was taken after that.
        """
        lanes = self._wishes.lanes
        if self._wishes.strands == 1:
            lanes = min(lanes, self._docket.most_at_once)
        self._attend(lanes)
        if self._failure is not None:
            raise self._failure

    def _attend(self, most: int) -> None:
        """Open lanes while more of them pay, and wait for their end."""
        lanes = [self._open_lane(0)] if most else []
        crowding = Crowding(most, time.monotonic(), time.process_time())
        annexed: list[threading.Thread] = []
        deadline = None
        while living := [lane for lane in (*lanes, *annexed) if lane.is_alive()]:
            living[0].join(_TICK)
            now, used = time.monotonic(), time.process_time()
            with self._change:
                self._open = crowding.measure(now, used, self._files, self._bytes)
                self._change.notify_all()
            lanes += map(self._open_lane, range(len(lanes), self._open))
            if crowding.is_crowded and self._annex is not None and not annexed:
                annexed = [self._open_lane(most, self._annex)]
            if self._stop.is_set():
                deadline = deadline or now + _GRACE
                if now > deadline:
                    self._carrier.receiver.access.abort()  # lanes that wait for bytes end now
                if now > deadline + _LAST_GRACE:
                    # One is in a call of the system that nothing ends, such as for a name. It finds
                    # nothing left that it could change.
                    self._carrier.receiver.close()
                    return

    def _open_lane(self, number: int, annex: Annex | None = None) -> threading.Thread:
        lane = threading.Thread(
            target=self._lane, args=(number, annex), name=f"lane {number}", daemon=True
        )
        lane.start()
        return lane

    def _lane(self, lane: int, annex: Annex | None) -> None:
        try:
            if annex is not None:
                self._send_to_annex(lane, annex)
            while (taken := self._take(lane)) is not None:
                if isinstance(taken, Help):
                    self._assist(lane, taken)
                else:
                    host, number = taken
                    self._carry(lane, host, self._trips[number])
        except Interrupted:
            pass
        except BaseException as error:
            # A broken ledger, or a fault of our own: no lane can go on as if nothing were.
            self._failure = self._failure or error
            self._stop.set()

    def _take(self, lane: int) -> tuple[str, int] | Help | None:
        """The next file with its host, or a strand of another lane's file; None for the end."""
        with self._change:
            while not self._stop.is_set():
                if lane >= self._open and not self._ended:
                    self._change.wait()
                    continue
                now = time.monotonic()
                taken = self._docket.take(now)
                if taken is None:
                    self._ended = True
                    self._change.notify_all()
                    return None
                if not isinstance(taken, Wait):
                    self._keep_gap(taken[0], now)
                    return taken
                if found := self._helping.find(now, partial(self._docket.has_lane, now=now)):
                    self._docket.take_lane(found.host)
                    self._keep_gap(found.host, now)
                    return found
                self._change.wait(taken.seconds)
        return None

    def _send_to_annex(self, lane: int, annex: Annex) -> None:
        """Have files carried in the annex, several at a time, as long as there are any."""
        while annex.is_open and not self._stop.is_set():
            with self._change:
                now = time.monotonic()
                taken = self._docket.take_several(now, _TO_THE_ANNEX)
                if taken is None:
                    return
                if isinstance(taken, Wait):
                    self._change.wait(taken.seconds)
                    continue
            host, numbers = taken
            self._observer.asks(lane, host)
            trips = [self._trips[number] for number in numbers]
            carried = annex.carry([trip for trip in trips if annex.suits(trip)])
            with self._change:
                # What was not begun goes back to the queue: large files do not wait for small ones.
                self._docket.give_back(host, [n for n in numbers if n not in carried])
                self._change.notify_all()
            for trip in trips:
                if (came := carried.get(trip.number)) is not None:
                    with self._change:
                        self._docket.take_lane(host)
                    self._take_over(lane, host, trip, came)
            self._observer.freed(lane)
            with self._change:
                self._docket.finish(host)
                self._change.notify_all()

    def _take_over(self, lane: int, host: str, trip: Trip, came: Carried) -> None:
        """See to a file that was carried in the annex as if it had been carried here."""
        trip.attempts, trip.vain = 1, came.vain
        trip.seconds += came.seconds
        trip.count(came.received)
        self._observer.asks(lane, host)
        self._observer.started(lane, trip.filed, came.received, 0)
        self._observer.received(lane, came.received)
        assert came.outcome is not None, "what was not for the annex is left out"
        self._conclude(lane, host, trip, came.outcome)

    def _keep_gap(self, host: str, now: float) -> None:
        pace = self._wishes.pace
        if pace.gap:
            self._docket.leave_alone(host, now + pace.gap_after(self._chance()))

    def _assist(self, lane: int, found: Help) -> None:
        """Bring a strand of another lane's file, which sees to it if that fails."""
        failure: WillowCartError | None = None
        served = True
        self._observer.asks(lane, found.host)
        try:
            served = self._carrier.assist(found, lane)
        except Interrupted:
            raise
        except WillowCartError as error:
            self._require_wanted(error)
            failure = error
        except Exception as error:  # its own lane brings it, or meets the same
            failure = self._unforeseen(found.trip, error)
        self._observer.freed(lane)
        brought = found.strand.at > found.strand.start
        if _is_the_host_s_fault(failure, in_vain=not brought):
            assert failure is not None
            self._blame(found.host, failure)
        with self._change:
            self._helping.ended(found, well=served and (failure is None or brought))
            self._docket.finish(found.host)
            self._change.notify()

    def _carry(self, lane: int, host: str, trip: Trip) -> None:
        outcome: Result | Landing | WillowCartError
        self._observer.asks(lane, host)
        try:
            outcome = self._carrier.attempt(trip, lane)
        except Interrupted:
            raise
        except WillowCartError as error:
            self._require_wanted(error)
            outcome = error
        except Exception as error:  # one odd file must not end the haul
            outcome = self._unforeseen(trip, error)
        self._conclude(lane, host, trip, outcome)

    def _unforeseen(self, trip: Trip, error: Exception) -> InternalError:
        """Return the failure of a file for what was raised unforeseen, and have it logged."""
        failure = InternalError.of(trip.shown, error)
        self._observer.broke(trip.filed.path, failure)
        self._carrier.receiver.discard(trip)
        return failure

    def _require_wanted(self, error: WillowCartError) -> None:
        """End a lane whose connection was ended since the person wants to stop.

        Raises:
            Interrupted: it is one; what had come is kept.
        """
        if self._stop.is_set() and isinstance(error, TryAgain):
            raise Interrupted(error.thing, "interrupted") from error

    def _conclude(
        self, lane: int, host: str, trip: Trip, outcome: Result | Landing | WillowCartError
    ) -> None:
        """See to what came of an attempt."""
        failure = outcome if isinstance(outcome, WillowCartError) else None
        if failure is not None:
            if isinstance(failure, TryAgain) and self._is_crowded(host, trip, failure):
                self._make_room(host, trip, failure)
            elif _is_the_host_s_fault(failure, in_vain=trip.vain > 0):
                self._blame(host, failure)
            else:
                with self._change:
                    self._docket.went_well(host, time.monotonic())
            ended = self._end_in_vain(lane, host, trip, failure)
            if ended is None:
                return
            outcome = ended
        assert not isinstance(outcome, WillowCartError), "a failure has become a result"
        self._filer.take(outcome)
        self._observer.freed(lane)
        with self._change:
            if failure is None:
                self._docket.went_well(host, time.monotonic())
            self._docket.finish(host)
            self._files += 1
            self._bytes += trip.received
            self._change.notify()

    def _end_in_vain(
        self, lane: int, host: str, trip: Trip, error: WillowCartError
    ) -> Result | None:
        """What becomes of a file that did not come; None if it will be asked for again."""
        why = error.why
        if isinstance(error, TryAgain):
            pause = self._patience.pause_after(trip.vain, error.wait, self._chance())
            if pause is not None:
                self._put_off(lane, host, trip, error, pause)
                return None
            why = self._give_up(trip, error)
        # What this machine cannot keep no other place can help.
        if not isinstance(error, CannotStore) and self._turn_to_mirror(lane, host, trip, why):
            return None
        refused = isinstance(error, NotWhatWasMeant)
        return trip.result(State.REFUSED if refused else State.FAILED, why)

    def _is_crowded(self, host: str, trip: Trip, error: TryAgain) -> bool:
        """Whether a failure says that the host is asked for too much, and not that it is broken.

        A host that says how long it wants to be left alone is not broken, and neither is one that
        drops one of several connections while the others are served.
        """
        if isinstance(error, ServerBusy):
            if trip.excused >= _MOST_EXCUSES:
                return False
            return (
                error.wait is not None
                or error.most is not None
                or (error.status in _BUSY and self._docket.served(host) > 0)
            )
        lost = isinstance(error, ConnectionLost) and trip.vain > 0
        # A file whose connection breaks every time is broken itself.
        return lost and trip.excused < _MOST_EXCUSES_FOR_LOSS and self._docket.has_company(host)

    def _make_room(self, host: str, trip: Trip, error: TryAgain) -> None:
        """Ask a host for less, and do not hold it against a file while the host serves others."""
        now = time.monotonic()
        with self._change:
            trip.excused += 1
            served = self._docket.served(host)
            if isinstance(error, ServerBusy) and error.most is not None:
                self._docket.allow_at_most(host, error.most, now)
                trip.vain = 0
            else:
                self._docket.slow_down(host, now, error.wait)
                if served > trip.served_before:
                    trip.vain = min(trip.vain, 1)
            trip.served_before = served

    def _blame(self, host: str, error: WillowCartError) -> None:
        """Hold a failure against a host; one that fails again and again is set aside for a time."""
        with self._change:
            if isinstance(error, ServerBusy) and error.status in _BUSY:
                self._docket.slow_down(host, time.monotonic(), error.wait)
            times = self._docket.went_wrong(host)
            if not times:
                return
            pause = self._patience.pause_after(times, None, self._chance())
            if isinstance(error, HostUnknown | NotTrusted) and times > 1:
                pause = None  # that does not pass by itself
            if pause is not None:
                self._docket.set_aside(host, time.monotonic() + _ROUND * pause)
                # It is the host that fails, and not its files.
                self._trips.forgive(host)
                self._observer.host_set_aside(host, error, _ROUND * pause)
                return
            left = self._docket.give_up(host)
        why = f"its host was given up: {error.why}"
        lost = [trip for trip in map(self._trips.__getitem__, left) if not self._has_moved(trip)]
        for trip in lost:
            self._filer.take(trip.result(State.FAILED, why))
        if lost:
            self._observer.host_given_up(host, error, len(lost))

    def _has_moved(self, trip: Trip) -> bool:
        """Have a file whose host was given up asked for at its next mirror, if it has one."""
        if not self._carrier.turn(trip):
            return False
        with self._change:
            self._docket.bring_in(host_of(trip.address), trip.number)
        return True

    def _give_up(self, trip: Trip, error: TryAgain) -> str:
        if error.wait is not None and error.wait > self._patience.longest_wait:
            return f"{error.reason} and asks to wait {error.wait:.0f} s; haul again after that"
        often = f", {trip.vain} times in a row" if trip.vain > 1 else ""
        return f"{error.reason}{often}; {error.advice or 'haul again later'}"

    def _turn_to_mirror(self, lane: int, host: str, trip: Trip, why: str) -> bool:
        """Have a file asked for at its next mirror, when its turn comes; False if none is left."""
        if not self._carrier.turn(trip):
            return False
        self._observer.turned(lane, trip.filed, why, without_secrets(trip.address))
        self._observer.freed(lane)
        with self._change:
            self._docket.move(host, trip.number, host_of(trip.address))
            self._change.notify()
        return True

    def _put_off(self, lane: int, host: str, trip: Trip, error: TryAgain, pause: float) -> None:
        until = time.monotonic() + pause
        with self._change:
            self._docket.put_off(host, trip.number, until)
            if isinstance(error, ServerBusy) and error.wait:
                # The server spoke for itself, not for the one file.
                self._docket.leave_alone(host, until)
            self._change.notify()
        self._observer.postponed(lane, trip.filed, error, pause)
        self._observer.freed(lane)


def _is_the_host_s_fault(failure: WillowCartError | None, *, in_vain: bool) -> bool:
    """Whether a failure is held against a host.

    A file that is not there, or not as promised, says nothing against its host, and neither does a
    line that breaks after it has brought something.
    """
    if isinstance(failure, TryAgain):
        return in_vain
    return isinstance(failure, HostUnknown | NotTrusted)
