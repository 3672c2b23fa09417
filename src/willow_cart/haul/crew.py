"""The crew: lanes side by side, each carrying one file at a time."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Callable

from willow_cart.access import Patience
from willow_cart.addresses import host_of, without_secrets
from willow_cart.errors import (
    CannotStore,
    Interrupted,
    NotWhatWasMeant,
    ServerBusy,
    TryAgain,
    WillowCartError,
)
from willow_cart.haul.carrier import Carrier
from willow_cart.haul.crowding import Crowding
from willow_cart.haul.docket import Docket, Wait
from willow_cart.haul.filer import Filer
from willow_cart.haul.observer import Observer
from willow_cart.haul.trips import Trip, Trips
from willow_cart.model import State

# How long lanes that wait for bytes are waited for once the person wants to stop. What they have
# received is in their files already; the rest of the wait would be for nothing.
_GRACE = 1.0

# How often the number of lanes is thought about, and an ended wait or a wish to stop noticed.
_TICK = 0.05


class Crew:
    """Work through trips with several lanes.

    Args:
        carrier: carries one file.
        filer: takes what they bring.
        patience: when to try again.
        docket: which file is carried next, by its number.
        trips: the files that are under way.
        chance: gives random numbers from 0 to 1.
    """

    def __init__(
        self,
        carrier: Carrier,
        filer: Filer,
        patience: Patience,
        docket: Docket[int],
        trips: Trips,
        *,
        chance: Callable[[], float] = random.random,
    ) -> None:
        self._carrier = carrier
        self._filer = filer
        self._patience = patience
        self._chance = chance
        self._observer: Observer = carrier.observer
        self._stop = carrier.stop
        self._change = threading.Condition()
        self._docket = docket
        self._trips = trips
        self._files = self._bytes = 0
        self._open = 1
        self._ended = False
        self._failure: BaseException | None = None

    def work(self, lanes: int) -> None:
        """Carry everything home, or until the person wants to stop.

        Raises:
            CannotStore: the ledger cannot be written; nothing more was taken after that.
        """
        self._attend(min(lanes, self._docket.most_at_once))
        if self._failure is not None:
            raise self._failure

    def _attend(self, most: int) -> None:
        """Open lanes while more of them pay, and wait for their end."""
        lanes = [self._open_lane(0)] if most else []
        crowding = Crowding(most, time.monotonic(), time.process_time())
        deadline = None
        while living := [lane for lane in lanes if lane.is_alive()]:
            living[0].join(_TICK)
            now, used = time.monotonic(), time.process_time()
            with self._change:
                self._open = crowding.measure(now, used, self._files, self._bytes)
                self._change.notify_all()
            lanes += map(self._open_lane, range(len(lanes), self._open))
            if self._stop.is_set():
                deadline = deadline or now + _GRACE
                if now > deadline:
                    return

    def _open_lane(self, number: int) -> threading.Thread:
        lane = threading.Thread(
            target=self._lane, args=(number,), name=f"lane {number}", daemon=True
        )
        lane.start()
        return lane

    def _lane(self, lane: int) -> None:
        try:
            while (taken := self._take(lane)) is not None:
                host, number = taken
                self._carry(lane, host, self._trips[number])
        except Interrupted:
            pass
        except BaseException as error:
            # A broken ledger, or a fault of our own: no lane can go on as if nothing were.
            self._failure = self._failure or error
            self._stop.set()

    def _take(self, lane: int) -> tuple[str, int] | None:
        with self._change:
            while not self._stop.is_set():
                if lane >= self._open and not self._ended:
                    self._change.wait()
                    continue
                taken = self._docket.take(time.monotonic())
                if not isinstance(taken, Wait):
                    if taken is None:
                        self._ended = True
                        self._change.notify_all()
                    return taken
                self._change.wait(taken.seconds)
        return None

    def _carry(self, lane: int, host: str, trip: Trip) -> None:
        try:
            outcome = self._carrier.attempt(trip, lane)
        except TryAgain as error:
            pause = self._patience.pause_after(trip.vain, error.wait, self._chance())
            if pause is not None:
                self._put_off(lane, host, trip, error, pause)
                return
            why = self._give_up(trip, error)
            if self._turn_to_mirror(lane, host, trip, why):
                return
            outcome = trip.result(State.FAILED, why)
        except Interrupted:
            raise
        except WillowCartError as error:
            # What this machine cannot keep no other place can help.
            if not isinstance(error, CannotStore) and self._turn_to_mirror(
                lane, host, trip, error.why
            ):
                return
            refused = isinstance(error, NotWhatWasMeant)
            outcome = trip.result(State.REFUSED if refused else State.FAILED, error.why)
        self._filer.take(outcome)
        self._observer.freed(lane)
        with self._change:
            self._docket.finish(host)
            self._files += 1
            self._bytes += trip.received
            self._change.notify()

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
