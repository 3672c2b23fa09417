"""The carrier: one file's trip, from what lies here already to the file under its name."""

from __future__ import annotations

import errno
import os
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace

from willow_cart.access import CHUNK, Access, Delivery, Joining, Unchanged
from willow_cart.access.http_rules import HOW_TO_SIGN_IN
from willow_cart.addresses import without_secrets
from willow_cart.checks import digest_file
from willow_cart.checks.soft_failures import (
    BEGINNING,
    asks_to_sign_in,
    looks_like_page,
    may_be_page,
    title_of,
)
from willow_cart.errors import (
    CannotStore,
    CheckFailed,
    ConnectionLost,
    Interrupted,
    PageInstead,
    StrangeAnswer,
    TryAgain,
)
from willow_cart.haul.destination import Destination, cannot_store
from willow_cart.haul.filer import Filer, Landing, Note
from willow_cart.haul.observer import Observer
from willow_cart.haul.pace import Meter, SpeedCap
from willow_cart.haul.partials import Partial, PartialStore
from willow_cart.haul.presence import Presence
from willow_cart.haul.trips import Trip
from willow_cart.haul.wishes import Wishes
from willow_cart.model import Checksum, Offer, Proof, State
from willow_cart.records import Arrival, Held, Result, timestamp
from willow_cart.units import format_size


@dataclass(frozen=True, slots=True)
class Carrier:
    """Carries files home; serves all lanes at once.

    Attributes:
        access: how places are talked to.
        destination: where files go.
        partials: where they grow.
        filer: who writes the ledger.
        held: what the ledger knows; None for nothing yet.
        observer: who is told.
        stop: set when the person wants it to end.
        wishes: how it is to be done.
        clock: a monotonic clock in seconds.
    """

    access: Access
    destination: Destination
    partials: PartialStore
    filer: Filer
    held: Held | None
    observer: Observer
    stop: threading.Event
    wishes: Wishes
    clock: Callable[[], float] = field(default=time.monotonic)
    cap: SpeedCap | None = field(init=False)

    def __post_init__(self) -> None:
        speed = self.wishes.pace.speed_cap
        cap = SpeedCap(speed, self.clock) if speed else None
        object.__setattr__(self, "cap", cap)  # made here once, and never changed

    def attempt(self, trip: Trip, lane: int) -> Result | Landing:
        """Make one attempt at a file.

        Returns:
            What became of it, or the file itself, whole and checked, to be given its name.

        Raises:
            TryAgain: it did not come, and another attempt may bring it; what came is kept in
                `trip.partial` if the rest can be joined to it.
            Hopeless, CannotStore, NotWhatWasMeant: it did not come, and that is that for this run.
            Interrupted: the person wants it to end; what came is kept.
        """
        began = self.clock()
        before = trip.partial.size if trip.partial else 0
        try:
            if not trip.attempts:
                if here := self._proved_here(trip):
                    return here
                trip.partial = self.partials.find(trip.offer)
                before = trip.partial.size if trip.partial else 0
            trip.attempts += 1
            return self._fetch(trip, lane)
        except TryAgain:
            gained = trip.partial is not None and trip.partial.size > before
            trip.vain = 0 if gained else trip.vain + 1
            raise
        except OSError as error:
            raise cannot_store(trip.filed.path, error) from error
        finally:
            trip.seconds += self.clock() - began

    def turn(self, trip: Trip) -> bool:
        """Have a file that did not come asked for at its next mirror; False if it has none left.

        What has come of it is gone on with there if a checksum will prove that it fits.
        """
        if not trip.turn():
            return False
        if trip.partial is not None and trip.offer.checksums:
            trip.partial.joining = Joining.BLIND
        else:
            self._discard(trip)
        return True

    # What lies here already

    def _proved_here(self, trip: Trip) -> Result | None:
        """The result for a file that its promised checksum proves right, its place unasked."""
        if self.wishes.presence is Presence.REPLACE:
            return None
        promised = trip.offer.checksums
        if not promised:
            return None
        arrival = self._held_unharmed(trip)
        if arrival and {str(each) for each in promised} <= set(arrival.expected.split()):
            return trip.result(State.HERE, arrival=trip.restamped)
        path = self.destination.full_path(trip.filed.path)
        if not os.path.isfile(path):
            return None
        found = digest_file(path, {"sha256", *(each.algorithm for each in promised)})
        if any(found[each.algorithm] != each for each in promised):
            return None
        return trip.result(State.HERE, arrival=self._describe_file(trip, path, found["sha256"]))

    def _held_unharmed(self, trip: Trip) -> Arrival | None:
        """What the ledger says of the file, provided that it still lies there as it was filed."""
        arrival = trip.restamped or self._known(trip)
        if arrival is None or self.destination.holds(arrival):
            return arrival
        # A folder that was copied or restored has the same bytes under other time stamps.
        path = self.destination.full_path(arrival.path)
        if not os.path.isfile(path) or os.path.getsize(path) != arrival.size:
            return None
        stamp = os.stat(path).st_mtime_ns
        if digest_file(path, ["sha256"])["sha256"].digest != arrival.sha256:
            return None
        trip.restamped = replace(arrival, mtime_ns=stamp)
        return trip.restamped

    def _known(self, trip: Trip) -> Arrival | None:
        return None if self.held is None else self.held.get(trip.shown)

    def _describe_file(self, trip: Trip, path: str, sha256: Checksum) -> Arrival:
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
            expected=_written(trip.offer),
            verdict=Proof.CHECKSUM,
            mtime_ns=status.st_mtime_ns,
        )

    # Fetching

    def _fetch(self, trip: Trip, lane: int) -> Result | Landing:
        partial = trip.partial
        if partial is None or not partial.is_whole:
            delivery = self._ask(trip)
            if isinstance(delivery, Unchanged):
                return trip.result(State.UNCHANGED, arrival=trip.restamped)
            try:
                partial = self._receive(trip, lane, delivery)
            finally:
                delivery.close()
        else:
            # All had come when an earlier run was cut off; only its check is missing.
            partial.wake()
            trip.resumed = partial.size
            self.observer.started(lane, trip.filed, partial.facts.length, partial.size)
        return self._land(trip, partial)

    def _ask(self, trip: Trip) -> Delivery | Unchanged:
        """Ask for the rest of what is here, or for the whole unless it is here unchanged."""
        address = trip.address
        partial = trip.partial
        if partial is not None:
            blind = partial.joining is Joining.BLIND
            delivery = self.access.open(
                address, start=partial.size, validators=None if blind else partial.facts.validators
            )
            assert isinstance(delivery, Delivery), "a range was asked for"
            if delivery.start and delivery.facts.length != partial.facts.length:
                # The version has changed under a mark that has not.
                delivery.close()
                return self._open_whole(address)
            return delivery
        arrival = self._held_unharmed(trip)
        replaces = self.wishes.presence is Presence.REPLACE
        if arrival and arrival.validators and not trip.offer.checksums and not replaces:
            return self.access.open(address, validators=arrival.validators)
        # A promised checksum that the file here does not have cannot be answered by "unchanged".
        return self._open_whole(address)

    def _open_whole(self, address: str) -> Delivery:
        delivery = self.access.open(address)
        assert isinstance(delivery, Delivery), "no condition was made"
        return delivery

    def _receive(self, trip: Trip, lane: int, delivery: Delivery) -> Partial:
        """Write what comes into the partial file until all is there."""
        partial = trip.partial
        if partial is None or not delivery.start:
            self._discard(trip)
            partial = self.partials.begin(trip.offer, delivery)
        trip.partial = partial
        trip.resumed = partial.size
        length = partial.facts.length
        limits = self.wishes.limits
        meter = Meter(trip.shown, limits, self.cap, self.stop.wait, self.clock)
        try:
            limits.require_size(trip.shown, length or 0)
            partial.wake()
            self.observer.started(lane, trip.filed, length, partial.size)
            self._require_room(trip, partial)
            for data in self._pieces(trip, partial, delivery):
                if partial.size + len(data) != length:
                    self._record(trip, partial)
                partial.write(data)
                trip.received += len(data)
                self.observer.received(lane, len(data))
                if length is not None and partial.size > length:
                    raise StrangeAnswer(
                        trip.shown, "sends more than it announced",
                        "tell the place's keeper",
                    )  # fmt: skip
                if not partial.is_whole and self.destination.room() < CHUNK:
                    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
                meter.count(len(data), partial.size, is_whole=partial.is_whole)
                if self.stop.is_set():
                    raise Interrupted(trip.filed.path, "interrupted")
            if length is not None and not partial.is_whole:
                raise ConnectionLost(trip.shown, "the connection ended before the file did")
        except BaseException as error:
            partial.rest()
            if (
                isinstance(error, (StrangeAnswer, PageInstead))
                or not partial.size
                or not partial.recorded
            ):
                self._discard(trip)
            raise
        return partial

    def _pieces(self, trip: Trip, partial: Partial, delivery: Delivery) -> Iterator[bytes]:
        """What comes until all is there; ends at once if it is a page instead of a file.

        Raises:
            PageInstead: it is one.
        """
        may_be_anything = self.wishes.accept_anything or may_be_page(trip.offer.file_name)
        suspect = not (may_be_anything or partial.size)
        while not partial.is_whole and (data := delivery.read()):
            if suspect and looks_like_page(data):
                raise _page_instead(trip, delivery, data)
            suspect = False
            yield data

    def _require_room(self, trip: Trip, partial: Partial) -> None:
        """Refuse a file that would fill the disk before it does, so that smaller ones still fit.

        Raises:
            CannotStore: there is not enough room for it.
        """
        to_come = (partial.facts.length or 0) - partial.size
        if to_come > CHUNK and to_come > (room := self.destination.room()):
            raise CannotStore(
                trip.filed.path,
                f"{format_size(to_come)} are to come, and there is room for {format_size(room)}",
                "make room and run the same command again",
            )

    def _record(self, trip: Trip, partial: Partial) -> None:
        """Have the ledger know of a partial file before it holds anything.

        Whatever a crash leaves of it can then be gone on with. What could not be joined to is not
        recorded, nor what comes in one piece.
        """
        proved = partial.joining is Joining.BLIND and bool(trip.offer.checksums)
        if not partial.recorded and (partial.joining is Joining.SAFE or proved):
            record = partial.record(trip.offer)
            self.filer.take_at_once(Note(lambda ledger: ledger.keep_part(record)))

    def _discard(self, trip: Trip) -> None:
        """Do away with what has come; nothing can be joined to it."""
        partial = trip.partial
        trip.partial = None
        if partial is None:
            return
        partial.rest()
        if partial.recorded:
            self.filer.take(Note(lambda ledger: ledger.forget_part(trip.shown)))
        with suppress(FileNotFoundError):
            os.unlink(partial.path)

    # Checking and filing

    def _land(self, trip: Trip, partial: Partial) -> Result | Landing:
        """Check a whole file, and hand it over to get its name."""
        found, modified = partial.finish()
        self._check(trip, partial, found)
        arrival = Arrival(
            address=trip.shown,
            final_address=without_secrets(partial.facts.address),
            path=trip.filed.path,
            time=timestamp(),
            size=partial.size,
            sha256=found["sha256"].digest,
            entity_tag=partial.facts.validators.entity_tag,
            last_modified=partial.facts.validators.last_modified,
            expected=_written(trip.offer),
            verdict=_verdict(trip.offer, partial),
            mtime_ns=modified,
            decoded=partial.facts.coding,
        )
        if present := self._same_here(trip, found["sha256"]):
            self._discard(trip)
            arrival = replace(arrival, mtime_ns=os.stat(present).st_mtime_ns)
            return trip.result(State.HERE, arrival=arrival)
        trip.partial = None
        return Landing(
            partial.path,
            trip.result(State.ARRIVED, arrival=arrival),
            partial.record(trip.offer, arrival) if partial.recorded else None,
        )

    def _check(self, trip: Trip, partial: Partial, found: Mapping[str, Checksum]) -> None:
        """Hold what came against what was promised.

        Raises:
            ConnectionLost: it was joined from parts, which may be the fault: fetch it whole.
            CheckFailed: it is not what was promised; the bytes are put where they can be seen.
        """
        for promised in trip.offer.checksums:
            measured = found[promised.algorithm]
            if measured == promised:
                continue
            if trip.resumed:
                self._discard(trip)
                raise ConnectionLost(
                    trip.shown, f"the joined parts do not have the promised {promised.algorithm}"
                )
            kept = self.destination.refuse(partial.path, trip.filed.path)
            self._discard(trip)
            raise CheckFailed(
                trip.shown,
                f"its {promised.algorithm} is {_short(measured)}, promised was {_short(promised)}",
                f"the bytes are kept in {kept}",
                expected=str(promised),
                found=str(measured),
                kept=kept,
            )

    def _same_here(self, trip: Trip, sha256: Checksum) -> str | None:
        """The file that lies here, if it has the same bytes; another that is not ours makes way."""
        full = self.destination.full_path(trip.filed.path)
        if arrival := self._held_unharmed(trip):
            return full if arrival.sha256 == sha256.digest else None
        if not os.path.isfile(full):
            return None
        if digest_file(full, ["sha256"])["sha256"] == sha256:
            return full
        if kept := self.destination.make_way(trip.filed.path):
            self.observer.set_aside(trip.filed.path, kept)
        return None


def _page_instead(trip: Trip, delivery: Delivery, beginning: bytes) -> PageInstead:
    """The error for a page that comes instead of a file, with its title as the reason."""
    while len(beginning) < BEGINNING and (more := delivery.read()):
        beginning += more
    title = title_of(beginning)
    named = f', "{title}"' if title else ""
    if asks_to_sign_in(beginning):
        return PageInstead(
            trip.shown, f"what comes is a page for signing in{named}", HOW_TO_SIGN_IN, title=title
        )
    return PageInstead(
        trip.shown,
        f"what comes is a page{named}",
        "open it in a browser to see what it wants; --accept-anything files it all the same",
        title=title,
    )


def _verdict(offer: Offer, partial: Partial) -> Proof:
    if offer.checksums:
        return Proof.CHECKSUM
    return Proof.NOTHING if partial.facts.length is None else Proof.LENGTH


def _written(offer: Offer) -> str:
    return " ".join(str(checksum) for checksum in offer.checksums)


def _short(checksum: Checksum) -> str:
    return f"{checksum.digest[:12]}..."
