"""What lies in the destination already, and whether it is what it should be."""

from __future__ import annotations

import os
from dataclasses import dataclass, replace

from willow_cart.checks import digest_file, verdict_of, written
from willow_cart.hauling.destination import Destination
from willow_cart.hauling.trips import Trip
from willow_cart.model import Checksum, State
from willow_cart.records import Arrival, Held, Result, timestamp


@dataclass(frozen=True, slots=True)
class HeldHere:
    """Looks at what lies where files are to be filed.

    Attributes:
        destination: where that is.
        held: what the ledger knows; None for nothing yet.
    """

    destination: Destination
    held: Held | None

    def proved(self, trip: Trip) -> Result | None:
        """The result for a file that its promised checksums prove right, its place unasked."""
        promised = trip.offer.checksums
        if not promised:
            return None
        arrival = self.unharmed(trip)
        if arrival and {str(each) for each in promised} <= set(arrival.expected.split()):
            return trip.result(State.HERE, arrival=trip.restamped)
        path = self.destination.full_path(trip.filed.path)
        if not os.path.isfile(path):
            return None
        found = digest_file(path, {"sha256", *(each.algorithm for each in promised)})
        if any(found[each.algorithm] != each for each in promised):
            return None
        return trip.result(State.HERE, arrival=self._describe(trip, path, found["sha256"]))

    def unharmed(self, trip: Trip) -> Arrival | None:
        """What the ledger says of a file, provided that it still lies there as it was filed."""
        arrival = trip.restamped or self._known(trip)
        if arrival is None or self.destination.holds(arrival):
            return arrival
        if arrival.instead == "members":
            return arrival if self._members_are_here(arrival) else None
        # A folder that was copied or restored has the same bytes under other time stamps.
        path = self.destination.full_path(arrival.lies_at)
        if not os.path.isfile(path) or os.path.getsize(path) != arrival.size:
            return None
        stamp = os.stat(path).st_mtime_ns
        if digest_file(path, ["sha256"])["sha256"].digest != arrival.sha256:
            return None
        trip.restamped = replace(arrival, mtime_ns=stamp)
        return trip.restamped

    def same(self, trip: Trip, unharmed: Arrival | None, sha256: Checksum) -> str | None:
        """Where a file lies already that has the same bytes as what came.

        Args:
            trip: what came.
            unharmed: what the ledger says of what lies there, if that can be believed.
            sha256: of what came.
        """
        path = self.destination.full_path(unharmed.lies_at if unharmed else trip.filed.path)
        if unharmed:
            if unharmed.instead == "members":
                return None
            return path if unharmed.sha256 == sha256.digest else None
        if os.path.isfile(path) and digest_file(path, ["sha256"])["sha256"] == sha256:
            return path
        return None

    def _members_are_here(self, archive: Arrival) -> bool:
        """Whether what was unpacked from an archive lies here, which was done away with then."""
        if self.held is None:
            return False
        members = [
            each for each in self.held.members_of(archive.address) if each.archive == archive.sha256
        ]
        return bool(members) and all(map(self.destination.holds, members))

    def _known(self, trip: Trip) -> Arrival | None:
        return None if self.held is None else self.held.get(trip.shown)

    def _describe(self, trip: Trip, path: str, sha256: Checksum) -> Arrival:
        """The ledger's entry for a file that lies here and was proved right, however it came."""
        known = self._known(trip)
        if known is not None and known.sha256 != sha256.digest:
            known = None
        status = os.stat(path)
        return Arrival(
            address=trip.shown,
            final_address=known.final_address if known else trip.shown,
            path=trip.filed.path,
            time=timestamp(),
            size=status.st_size,
            sha256=sha256.digest,
            entity_tag=known.entity_tag if known else None,
            last_modified=known.last_modified if known else None,
            expected=written(trip.offer.checksums),
            verdict=verdict_of(trip.offer.checksums, status.st_size),
            mtime_ns=status.st_mtime_ns,
        )
