"""The carrier: one file's trip, from what lies here already to the file under its name."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path

from willow_cart.access import Joining, Unchanged
from willow_cart.access.http_rules import parse_date
from willow_cart.checks import inspect, proves_composite, verdict_of, weakness_of, written
from willow_cart.checks.verdicts import LENGTH_ONLY, NOTHING
from willow_cart.destination import Destination, cannot_store
from willow_cart.errors import CheckFailed, TooSlow, TryAgain, Unproved
from willow_cart.model import Checksum, Origin, State
from willow_cart.records import Arrival, Held, Result, timestamp
from willow_cart.redaction import without_secrets
from willow_cart.transfer.filer import Landing
from willow_cart.transfer.held_here import HeldHere
from willow_cart.transfer.helping import Help
from willow_cart.transfer.partials import Partial
from willow_cart.transfer.presence import Presence
from willow_cart.transfer.receiving import UNPROVED_ADVICE, Receiver, Whole
from willow_cart.transfer.trips import Trip

_PROGRESS_BYTES = 64 << 10

# What fits in 64 bits, as the ledger keeps it: up to the year 2262.
_LATEST_NANOSECONDS = (1 << 63) - 1


@dataclass(frozen=True, slots=True)
class Carrier:
    """Carries files home; serves all lanes at once.

    Attributes:
        receiver: brings their bytes.
        destination: where files go.
        held: what the ledger knows; None for nothing yet.
    """

    receiver: Receiver
    destination: Destination
    held: Held | None
    here: HeldHere = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "here", HeldHere(self.destination, self.held))

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
        before = trip.partial.size if trip.partial else 0
        replaces = self.receiver.wishes.presence is Presence.REPLACE
        trip.set_out()
        try:
            if not trip.attempts:
                if not replaces and (proved := self.here.proved(trip)):
                    return proved
                self.receiver.find(trip)
                before = trip.partial.size if trip.partial else 0
            trip.begin_attempt()
            held = None
            # A promised checksum that the file here does not have cannot be answered by
            # "unchanged".
            if not (trip.partial or trip.offer.checksums or replaces):
                unharmed = self.here.unharmed(trip)
                held = (unharmed and unharmed.validators) or None
            came = self.receiver.bring(trip, lane, held)
            if isinstance(came, Whole) and _broken_promise(trip, came):
                # What comes wrong is wrong on the way more often than at its place: joined from
                # parts that do not belong together, or changed in the midst. Once more, in one.
                trip.come_alone()
                self.receiver.discard(trip)
                came = self.receiver.bring(trip, lane, None)
            if isinstance(came, Unchanged):
                return trip.result(State.UNCHANGED, arrival=trip.restamped)
            return self._land(trip, came)
        except TryAgain as error:
            gained = trip.partial.size - before if trip.partial else 0
            trip.failed(gained=gained >= _enough(trip) and not isinstance(error, TooSlow))
            raise
        except OSError as error:
            raise cannot_store(trip.filed.path, error) from error
        finally:
            trip.rest()

    def assist(self, help_: Help, lane: int) -> bool:
        """Bring a strand of a file that another lane carries.

        Returns:
            False if the place does not serve parts of that version.

        Raises:
            WillowCartError: as for an attempt; nothing of it counts against the file.
        """
        trip = help_.trip
        try:
            return self.receiver.help(trip, help_.partial, help_.strand, help_.address, lane)
        except OSError as error:
            raise cannot_store(trip.filed.path, error) from error

    def turn(self, trip: Trip) -> bool:
        """Have a file that did not come asked for at its next mirror; False if it has none left.

        What has come of it is gone on with there if a checksum will prove that it fits.
        """
        if not trip.turn():
            return False
        if trip.partial is not None and trip.offer.checksums:
            trip.partial.joining = Joining.BLIND
        else:
            self.receiver.discard(trip)
        return True

    def _land(self, trip: Trip, whole: Whole) -> Result | Landing:
        """Check a whole file, and hand it over to get its name."""
        partial = whole.partial
        verdict = self._check(trip, whole)
        unsound = ""
        if self.receiver.wishes.inspect:
            with self.destination.open(partial.file) as file:
                unsound = inspect(
                    file,
                    trip.filed.path.rpartition("/")[2],
                    self.receiver.wishes.bounds,
                    self.receiver.require_going_on,
                )
        sha256 = whole.found["sha256"]
        size = trip.offer.size
        if size is not None and size != partial.size and not partial.facts.coding:
            trip.note(f"{partial.size:,} bytes arrived, {size:,} were listed")
        modified = _modified(trip, partial)
        arrival = Arrival(
            address=trip.shown,
            final_address=without_secrets(partial.facts.address),
            path=trip.filed.path,
            time=timestamp(),
            size=partial.size,
            sha256=sha256.digest,
            entity_tag=partial.facts.validators.entity_tag,
            last_modified=partial.facts.validators.last_modified,
            expected=written(_promised(trip, partial)),
            verdict=verdict,
            mtime_ns=self._stamp(partial.file, modified, whole.modified),
            decoded=partial.facts.coding,
            media_type=partial.facts.content_type,
            modified="" if modified is None else modified.isoformat(timespec="seconds"),
        )
        unharmed = self.here.unharmed(trip)
        if present := self.here.same(trip, unharmed, sha256):
            self.receiver.discard(trip)
            stands = unharmed.instead if unharmed else ""
            arrival = replace(arrival, mtime_ns=present.mtime_ns, instead=stands)
            return trip.result(State.HERE, arrival=arrival)
        trip.let_go()
        return Landing(
            partial.file,
            trip.result(State.ARRIVED, unsound, arrival),
            unharmed.own_stamp if unharmed else None,
            partial.record(trip.offer, arrival) if partial.recorded else None,
        )

    def _stamp(self, file: str, modified: datetime | None, stamp: int) -> int:
        """Give a file the time of its place, if it is to have that; return what it has then.

        Args:
            file: its path below the destination.
            modified: when it was changed last at its place.
            stamp: the time that it has, in nanoseconds.
        """
        if modified is None or not self.receiver.wishes.keep_times:
            return stamp
        nanoseconds = round(modified.timestamp() * 1_000_000) * 1000
        if abs(nanoseconds) > _LATEST_NANOSECONDS:
            return stamp
        try:
            return self.destination.set_modified(file, nanoseconds)
        except (OSError, OverflowError):
            return stamp  # a time that this disk cannot write

    def _check(self, trip: Trip, whole: Whole) -> str:
        """Hold what came against what was promised, and say by what it is proved.

        Raises:
            CheckFailed: it is not what was promised; the bytes are put where they can be seen.
            Unproved: it has to be proved, and is not; likewise.
        """
        partial = whole.partial
        if promised := _broken_promise(trip, whole):
            measured = whole.found[promised.algorithm]
            kept = self._refuse(trip, partial)
            raise CheckFailed(
                trip.shown,
                f"its {promised.algorithm} is {_short(measured)}, promised by {promised.origin} was"
                f" {_short(promised)}, and so it came twice",
                f"the bytes are kept in {kept}",
                expected=str(promised),
                found=str(measured),
                kept=kept,
            )
        verdict = verdict_of(_promised(trip, partial), partial.facts.length)
        composite = partial.facts.composite
        if verdict == LENGTH_ONLY and composite and self._proves(partial, *composite):
            verdict = f"md5 of its {composite[1]} parts from {Origin.STORE}{weakness_of('md5')}"
        if self.receiver.wishes.must_check and verdict in (LENGTH_ONLY, NOTHING):
            kept = self._refuse(trip, partial)
            reason = f"nothing proves it; the bytes are kept in {kept}"
            raise Unproved(trip.shown, reason, UNPROVED_ADVICE)
        return verdict

    def _proves(self, partial: Partial, digest: str, parts: int) -> bool:
        with self.destination.open(partial.file) as file:
            return proves_composite(file, digest, parts)

    def _refuse(self, trip: Trip, partial: Partial) -> Path:
        kept = self.destination.refuse(partial.file, trip.filed.path)
        self.receiver.discard(trip)
        return kept


def _enough(trip: Trip) -> int:
    """How many bytes of an attempt count as progress: 64 KiB, or a twentieth of a small file.

    A server that drips would otherwise never be given up.
    """
    length = trip.partial.facts.length if trip.partial else None
    return _PROGRESS_BYTES if length is None else min(_PROGRESS_BYTES, max(1, length // 20))


def _modified(trip: Trip, partial: Partial) -> datetime | None:
    """When a file was changed last, by its place, or else by what lists it."""
    facts = partial.facts
    return facts.modified or parse_date(facts.validators.last_modified) or trip.offer.modified


def _promised(trip: Trip, partial: Partial) -> tuple[Checksum, ...]:
    """All that is promised of a file, by whoever offered it and by its place."""
    return (*trip.offer.checksums, *partial.facts.checksums)


def _broken_promise(trip: Trip, whole: Whole) -> Checksum | None:
    """The first promise that what came does not keep."""
    promised = _promised(trip, whole.partial)
    return next((each for each in promised if whole.found[each.algorithm] != each), None)


def _short(checksum: Checksum) -> str:
    return f"{checksum.digest[:12]}..."
