"""Transfers in the lanes of this process."""

from __future__ import annotations

import threading
from collections.abc import Sequence

from willow_cart.errors import InternalError, Interrupted, TryAgain, WillowCartError
from willow_cart.executors.base import Executor, Outcome, ends_batch
from willow_cart.transfer.carrier import Carrier
from willow_cart.transfer.helping import Help
from willow_cart.transfer.trips import Trip


class ThreadExecutor(Executor):
    """Carries out transfers in the thread of the lane that asks for them.

    Args:
        carrier: makes the attempts.
        stop: set when the haul is to end.
    """

    def __init__(self, carrier: Carrier, stop: threading.Event) -> None:
        self._carrier = carrier
        self._stop = stop

    def carry(self, trips: Sequence[Trip], lane: int) -> list[tuple[Trip, Outcome]]:
        """Make one attempt at each transfer (see the seam)."""
        outcomes: list[tuple[Trip, Outcome]] = []
        for trip in trips:
            outcomes.append((trip, self._attempt(trip, lane)))
            if ends_batch(outcomes[-1][1]):
                break
        return outcomes

    def _attempt(self, trip: Trip, lane: int) -> Outcome:
        try:
            return self._carrier.attempt(trip, lane)
        except Interrupted:
            raise
        except WillowCartError as error:
            self._require_going_on(error)
            return error
        except Exception as error:  # one odd file must not end the haul
            return self._unforeseen(trip, error)

    def assist(self, found: Help, lane: int) -> tuple[bool, WillowCartError | None]:
        """Bring a strand of another lane's file, which sees to it if that fails.

        Returns:
            Whether the place serves parts of that version, and why the strand failed.

        Raises:
            Interrupted: the haul is to end.
        """
        try:
            return self._carrier.assist(found, lane), None
        except Interrupted:
            raise
        except WillowCartError as error:
            self._require_going_on(error)
            return True, error
        except Exception as error:  # its own lane brings it, or meets the same
            return True, self._unforeseen(found.trip, error)

    def _unforeseen(self, trip: Trip, error: Exception) -> InternalError:
        """Return the failure of a file for what was raised unforeseen, and have it logged."""
        failure = InternalError.of(trip.shown, error)
        self._carrier.receiver.observer.broke(trip.filed.path, failure)
        self._carrier.receiver.discard(trip)
        return failure

    def _require_going_on(self, error: WillowCartError) -> None:
        """End a lane whose connection was ended since the haul is to end.

        Raises:
            Interrupted: it was; what had come is kept.
        """
        if self._stop.is_set() and isinstance(error, TryAgain):
            raise Interrupted(error.thing, "interrupted") from error

    def abort(self) -> None:
        """End every exchange under way (see the seam)."""
        self._carrier.receiver.access.abort()
