"""Receiving: the bytes of a file into its partial file, in one strand or in several."""

from __future__ import annotations

import errno
import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field

from willow_cart.access import CHUNK, Access, Delivery, Joining, Unchanged
from willow_cart.access.http_rules import HOW_TO_SIGN_IN
from willow_cart.checks.soft_failures import (
    BEGINNING,
    ENOUGH,
    asks_to_sign_in,
    looks_like_page,
    may_be_page,
    stands_for_error,
    title_of,
)
from willow_cart.errors import (
    CannotStore,
    ConnectionLost,
    Interrupted,
    PageInstead,
    StrangeAnswer,
    Unproved,
    WrongContent,
)
from willow_cart.model import Checksum, Validators
from willow_cart.transfer.filer import Mark, Note, Taker
from willow_cart.transfer.observer import Observer
from willow_cart.transfer.pace import Meter, SpeedCap
from willow_cart.transfer.partial_store import PartialStore
from willow_cart.transfer.partials import Partial, Strand
from willow_cart.transfer.trips import Trip
from willow_cart.transfer.wishes import Wishes
from willow_cart.units import format_size

# What has come is made safe against a power cut every so many seconds.
_BETWEEN_MARKS = 10.0

UNPROVED_ADVICE = "give a list with --checksums, or leave out --must-check"

# How long the last strands of other lanes are waited for, before looking again, in seconds.
_MOMENT = 0.2


@dataclass(frozen=True, slots=True)
class Whole:
    """A file of which all is here, not yet checked.

    Attributes:
        partial: its bytes.
        found: what they hash to, by algorithm.
        modified: the file's time stamp in nanoseconds.
    """

    partial: Partial
    found: dict[str, Checksum]
    modified: int


@dataclass(frozen=True, slots=True)
class Receiver:
    """Receives files; serves all lanes at once.

    Attributes:
        access: how places are talked to.
        partials: where files grow.
        filer: who writes the ledger.
        observer: who is told.
        stop: set when the person wants it to end.
        wishes: how it is to be done.
        room: how many bytes may still be written.
        clock: a monotonic clock in seconds.
        closed: set once no file may be changed any more.
    """

    access: Access
    partials: PartialStore
    filer: Taker
    observer: Observer
    stop: threading.Event
    wishes: Wishes
    room: Callable[[], int]
    clock: Callable[[], float] = field(default=time.monotonic)
    closed: threading.Event = field(default_factory=threading.Event)
    cap: SpeedCap | None = field(init=False)

    def __post_init__(self) -> None:
        speed = self.wishes.pace.speed_cap
        cap = SpeedCap(speed, self.clock) if speed else None
        object.__setattr__(self, "cap", cap)  # made here once, and never changed

    def bring(self, trip: Trip, lane: int, held: Validators | None) -> Whole | Unchanged:
        """Bring all that is missing of a file.

        Args:
            trip: the file; what has come of it is kept in `trip.partial` on every way out if the
                rest can be joined to it.
            lane: the lane that it is brought on.
            held: the version that lies here already; None if it does not matter.

        Raises:
            TransferFailed: it did not come.
            CannotStore, OSError: there is no room for it, or the disk would not take it.
            Interrupted: the person wants it to end.
        """
        another: Delivery | Unchanged | None = None
        if trip.partial is None:
            another = self.access.open(trip.address, validators=held)
        while not isinstance(another, Unchanged):
            if another is not None:
                self._require_one_version(trip, another)
                self.discard(trip)
                trip.hold(self.partials.begin(trip.offer, another))
            assert trip.partial is not None, "it was there, or has been begun"
            came = self._fill(trip, trip.partial, lane, another)
            if isinstance(came, Whole):
                return came
            another = came
        return another

    def _require_one_version(self, trip: Trip, delivery: Delivery) -> None:
        """Refuse two lengths of one version: a strong entity tag stands for the same bytes.

        RFC 9110, 8.8.1. The first time all is fetched anew; the second time nothing is believed.

        Raises:
            ConnectionLost: it is the first time.
            StrangeAnswer: it is the second.
        """
        tag, length = delivery.facts.validators.entity_tag, delivery.facts.length
        if tag is None or tag.startswith("W/") or length is None:
            return
        if not trip.is_contradicted(tag, length):
            return
        delivery.close()
        self.discard(trip)
        if trip.contradicted:
            reason = "the server gives one version of it two lengths"
            raise StrangeAnswer(trip.shown, reason, "report it to the server")
        trip.contradict()
        raise ConnectionLost(trip.shown, "the server gave one version of it two lengths")

    def help(self, trip: Trip, partial: Partial, strand: Strand, address: str, lane: int) -> bool:
        """Bring one more strand of a file that another lane is bringing.

        Args:
            trip: the file.
            partial: where it grows.
            strand: the stretch to bring; what does not come of it is a gap again.
            address: where to ask: its own address, or a mirror of the same bytes.
            lane: the lane that brings it.

        Returns:
            False if the place does not serve parts of that version.

        Raises:
            TransferFailed, OSError, Interrupted: as for `bring`.
        """
        try:
            partial.wake()
            try:
                delivery = self._ask_for(partial, strand, address, of_origin=trip.address)
                try:
                    if not _fits(delivery, partial, strand):
                        return False
                    trip.comes_in_parts()
                    self.observer.joined(lane, trip.filed, strand.start, strand.end or 0)
                    self._receive(trip, partial, strand, delivery, lane)
                finally:
                    delivery.close()
            finally:
                partial.rest()
        finally:
            strand.release()
        return True

    def find(self, trip: Trip) -> None:
        """Have a transfer go on with what an earlier run left of its file, if it can be resumed.

        Bytes that were changed since they were marked as safe are deleted, and told.

        Raises:
            OSError: it cannot be read.
        """
        partial = self.partials.find(trip.offer)
        if partial is None:
            return
        trip.hold(partial)
        if not partial.is_as_marked(self.partials.pieces_of(trip.offer)):
            self.discard(trip)
            trip.note("the partial file was changed since the last run; all was fetched again")

    def require_going_on(self, _count: int = 0) -> None:
        """End what takes long once the person wants to stop.

        Raises:
            Interrupted: they do.
        """
        if self.stop.is_set():
            raise Interrupted("a file", "interrupted")

    def close(self) -> None:
        """Change no file any more: the haul has ended, and its files may be another's."""
        self.closed.set()

    def discard(self, trip: Trip) -> None:
        """Do away with what has come; nothing can be joined to it."""
        if self.closed.is_set():
            return
        partial = trip.let_go()
        if partial is None:
            return
        partial.abandon()
        if partial.recorded:
            self.filer.take(Note(lambda ledger: ledger.forget_part(trip.shown)))
        with suppress(FileNotFoundError):
            self.partials.delete(partial)

    def _fill(
        self, trip: Trip, partial: Partial, lane: int, delivery: Delivery | None
    ) -> Whole | Delivery:
        """Bring what is missing of a version; what the place sends if it has another by now."""
        try:
            partial.wake()
            try:
                trip.went_on(partial.size)
                self.wishes.limits.require_size(trip.shown, partial.facts.length or 0)
                self._require_proof(trip, partial)
                length = partial.facts.length
                self.observer.started(lane, trip.filed, length, partial.size)
                self._require_room(trip, partial)
                if another := self._bring_strands(trip, partial, lane, delivery):
                    return another
                return Whole(partial, *partial.finish())
            finally:
                partial.rest()
        except BaseException as error:
            if delivery is not None:
                delivery.close()
            if (
                isinstance(error, (StrangeAnswer, PageInstead, WrongContent))
                or not partial.size
                or not partial.recorded
            ):
                self.discard(trip)
            else:
                self._mark(trip, partial)
            raise

    def _bring_strands(
        self, trip: Trip, partial: Partial, lane: int, delivery: Delivery | None
    ) -> Delivery | None:
        """Bring strand after strand until all is here, of which other lanes may bring some.

        The first is on its way already, or has to be asked for. What is returned is the whole of
        another version, if that is what comes by now.
        """
        try:
            if partial.is_whole and delivery is not None and not self.wishes.accept_anything:
                self._require_content(trip, delivery, b"", is_all=True)  # it is empty
            while not partial.is_whole:
                strand = partial.take()
                if strand is None:
                    self._wait_for_others(trip, partial)
                    continue
                try:
                    if delivery is None:
                        delivery = self._ask_for(partial, strand, trip.address)
                        if not _fits(delivery, partial, strand):
                            another, delivery = delivery, None
                            return self._from_its_beginning(trip, another)
                        partial.learn(delivery.facts)
                    trip.comes(delivery)
                    self._receive(trip, partial, strand, delivery, lane)
                finally:
                    strand.release()
                if partial.facts.length is None:
                    break  # its end has come, wherever that is
                delivery.close()
                delivery = None
            return None
        finally:
            if delivery is not None:
                delivery.close()

    def _wait_for_others(self, trip: Trip, partial: Partial) -> None:
        partial.wait_for_others(_MOMENT)
        if self.stop.is_set():
            raise Interrupted(trip.filed.path, "interrupted")

    def _ask_for(
        self, partial: Partial, strand: Strand, address: str, of_origin: str | None = None
    ) -> Delivery:
        """Ask for a strand, at the address whose marks the version has or at a mirror of it."""
        blind = partial.joining is Joining.BLIND or (of_origin or address) != address
        delivery = self.access.open(
            address,
            start=strand.start,
            end=None if strand.end == partial.facts.length else strand.end,
            validators=None if blind else partial.facts.validators,
        )
        assert isinstance(delivery, Delivery), "a range was asked for"
        return delivery

    def _from_its_beginning(self, trip: Trip, delivery: Delivery) -> Delivery:
        """The whole of what comes, where only its rest may have been sent."""
        if not delivery.start:
            return delivery
        # The version has changed under a mark that has not.
        delivery.close()
        whole = self.access.open(trip.address)
        assert isinstance(whole, Delivery), "no condition was made"
        return whole

    def _receive(
        self, trip: Trip, partial: Partial, strand: Strand, delivery: Delivery, lane: int
    ) -> None:
        """Write what comes of a strand until it is all there, or nobody wants it any more."""
        length = partial.facts.length
        limits = self.wishes.limits
        meter = Meter(trip.shown, limits, self.cap, self.stop.wait, self.clock)
        counted = 0
        for data in self._pieces(trip, partial, strand, delivery):
            if partial.size + len(data) != length:
                self._record(trip, partial)
            count = strand.write(data)
            came = delivery.line_bytes
            trip.count(count if came is None else came - counted)
            counted = came or 0
            self.observer.received(lane, count)
            if length is not None and partial.size > length:
                raise StrangeAnswer(
                    trip.shown, "sends more than it announced", "tell the place's keeper"
                )
            if not partial.is_whole and self.room() < CHUNK:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            meter.count(count, partial.size, is_whole=partial.is_whole)
            if self.clock() - partial.marked > _BETWEEN_MARKS:
                self._mark(trip, partial)
            if self.stop.is_set():
                raise Interrupted(trip.filed.path, "interrupted")

    def _pieces(
        self, trip: Trip, partial: Partial, strand: Strand, delivery: Delivery
    ) -> Iterator[bytes]:
        """What comes of a strand; ends at once if it is something else than the file.

        Raises:
            PageInstead: it is a page.
            WrongContent: it is an error document, or nothing.
        """
        suspect = not (self.wishes.accept_anything or strand.at)
        while not partial.abandoned and (strand.end is None or strand.left):
            data = _enough_of(delivery) if suspect else delivery.read()
            if not data and strand.end is not None:
                raise ConnectionLost(trip.shown, "the connection ended before the file did")
            if suspect:
                is_all = len(data) < ENOUGH or len(data) == partial.facts.length
                self._require_content(trip, delivery, data, is_all=is_all)
                suspect = False
            if not data:
                return
            yield data

    def _require_content(
        self, trip: Trip, delivery: Delivery, beginning: bytes, *, is_all: bool
    ) -> None:
        """Refuse what is plainly something else than a file of that name.

        Raises:
            PageInstead: it is a page.
            WrongContent: it is an error document, or nothing.
        """
        name = trip.offer.file_name
        if not may_be_page(name) and looks_like_page(beginning):
            raise _page_instead(trip, delivery, beginning)
        if instead := stands_for_error(name, beginning, is_all=is_all):
            raise WrongContent(
                trip.shown,
                f"the server sent {instead} instead of the file",
                "check the address and the sign-in; --accept-anything files it as it is",
            )

    def _require_proof(self, trip: Trip, partial: Partial) -> None:
        """Refuse a file that nothing would prove, if it must be proved, before it comes.

        Raises:
            Unproved: nobody promises a checksum for it.
        """
        facts = partial.facts
        if self.wishes.must_check and not (
            trip.offer.checksums or facts.checksums or facts.composite
        ):
            raise Unproved(trip.shown, "nobody promises a checksum for it", UNPROVED_ADVICE)

    def _require_room(self, trip: Trip, partial: Partial) -> None:
        """Refuse a file that would fill the disk before it does, so that smaller ones still fit.

        Raises:
            CannotStore: there is not enough room for it.
        """
        to_come = (partial.facts.length or 0) - partial.size
        if to_come > CHUNK and to_come > (room := self.room()):
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
            partial.marked = self.clock()
            self.filer.take_at_once(Note(lambda ledger: ledger.keep_part(record)))

    def _mark(self, trip: Trip, partial: Partial) -> None:
        """Have what has come made safe on the disk, and the ledger know how much that is."""
        if partial.recorded:
            partial.marked = self.clock()
            digests = " ".join(map(str, partial.pieces()))
            self.filer.take(Mark(trip.shown, partial.name, str(partial.spans), digests))


def _enough_of(delivery: Delivery) -> bytes:
    """Read the beginning of a file, as much of it as tells what it is."""
    beginning = delivery.read()
    if 0 < len(beginning) < ENOUGH:
        while len(beginning) < ENOUGH and (more := delivery.read()):
            beginning += more
    return beginning


def _fits(delivery: Delivery, partial: Partial, strand: Strand) -> bool:
    """Whether what comes is a strand of the version that is here."""
    if delivery.start != strand.start:
        return False
    if partial.facts.length not in (None, delivery.facts.length):
        return False
    # Only a start that is not the file's own shows that the place went by the version.
    return strand.start > 0 or _marks(delivery.facts.validators) == _marks(partial.facts.validators)


def _marks(validators: Validators) -> tuple[str | None, str | None]:
    return validators.entity_tag, validators.last_modified


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
