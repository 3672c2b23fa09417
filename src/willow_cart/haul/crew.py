"""The crew: lanes side by side, each carrying one file at a time."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Callable, Iterable

from willow_cart.addresses import host_of
from willow_cart.errors import CheckFailed, Interrupted, ServerBusy, TryAgain, WillowCartError
from willow_cart.haul.account import Account
from willow_cart.haul.carrier import Carrier, Trip
from willow_cart.haul.docket import Docket, Wait
from willow_cart.haul.observer import Observer
from willow_cart.haul.patience import Patience
from willow_cart.model import State
from willow_cart.records import Result, Scribe

# How long lanes that wait for bytes are waited for once the person wants to stop. What they have
# received is in their files already; the rest of the wait would be for nothing.
_GRACE = 1.0
_TICK = 0.1


class Crew:
    """Work through trips with several lanes.

    Args:
        carrier: carries one file.
        run: the run that results are entered under.
        account: where they are counted.
        patience: when to try again.
        chance: gives random numbers from 0 to 1.
    """

    def __init__(
        self,
        carrier: Carrier,
        run: int,
        account: Account,
        patience: Patience,
        chance: Callable[[], float] = random.random,
    ) -> None:
        self._carrier = carrier
        self._run = run
        self._account = account
        self._patience = patience
        self._chance = chance
        self._observer: Observer = carrier.observer
        self._scribe: Scribe = carrier.scribe
        self._stop = carrier.stop
        self._change = threading.Condition()
        self._docket: Docket[Trip] = Docket((), 1)
        self._failure: BaseException | None = None

    def work(self, trips: Iterable[Trip], lanes: int, lanes_per_host: int) -> None:
        """Carry everything home, or until the person wants to stop.

        Raises:
            CannotStore: the ledger cannot be written; nothing more was taken after that.
        """
        items = [(host_of(trip.offer.address), trip) for trip in trips]
        self._docket = Docket(items, lanes_per_host)
        threads = [
            threading.Thread(target=self._lane, args=(lane,), name=f"lane {lane}", daemon=True)
            for lane in range(min(lanes, len(items)))
        ]
        for thread in threads:
            thread.start()
        self._await(threads)
        if self._failure is not None:
            raise self._failure

    def _await(self, threads: list[threading.Thread]) -> None:
        deadline = None
        for thread in threads:
            while thread.is_alive():
                thread.join(_TICK)
                if self._stop.is_set():
                    with self._change:
                        self._change.notify_all()
                    deadline = deadline or time.monotonic() + _GRACE
                    if time.monotonic() > deadline:
                        return

    def _lane(self, lane: int) -> None:
        try:
            while (taken := self._take()) is not None:
                host, trip = taken
                self._carry(lane, host, trip)
        except Interrupted:
            pass
        except BaseException as error:
            # A broken ledger, or a fault of our own: no lane can go on as if nothing were.
            self._failure = self._failure or error
            self._stop.set()

    def _take(self) -> tuple[str, Trip] | None:
        with self._change:
            while not self._stop.is_set():
                taken = self._docket.take(time.monotonic())
                if not isinstance(taken, Wait):
                    if taken is None:
                        self._change.notify_all()
                    return taken
                self._change.wait(taken.seconds)
        return None

    def _carry(self, lane: int, host: str, trip: Trip) -> None:
        try:
            result = self._carrier.attempt(trip, lane)
        except TryAgain as error:
            pause = self._patience.pause_after(trip.vain, error.wait, self._chance())
            if pause is not None:
                self._put_off(lane, host, trip, error, pause)
                return
            result = trip.result(State.FAILED, self._give_up(trip, error))
        except CheckFailed as error:
            result = trip.result(State.REFUSED, error.why)
        except Interrupted:
            raise
        except WillowCartError as error:
            result = trip.result(State.FAILED, error.why)
        self._settle(lane, host, trip, result)

    def _give_up(self, trip: Trip, error: TryAgain) -> str:
        if error.wait is not None and error.wait > self._patience.longest_wait:
            return f"{error.reason} and asks to wait {error.wait:.0f} s; haul again after that"
        return f"{error.reason}, {trip.vain} times in a row; {error.advice or 'haul again later'}"

    def _put_off(self, lane: int, host: str, trip: Trip, error: TryAgain, pause: float) -> None:
        until = time.monotonic() + pause
        with self._change:
            self._docket.put_off(host, trip, until)
            if isinstance(error, ServerBusy) and error.wait:
                # The server spoke for itself, not for the one file.
                self._docket.leave_alone(host, until)
            self._change.notify()
        self._observer.postponed(lane, trip.filed, error, pause)

    def _settle(self, lane: int, host: str, trip: Trip, result: Result) -> None:
        self._scribe.note(lambda ledger: ledger.record(self._run, result))
        with self._change:
            self._docket.finish(host)
            self._account.add(result)
            self._change.notify()
        self._observer.settled(lane, trip.filed, result)
