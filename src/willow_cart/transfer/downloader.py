"""Receive the content of a file into its partial file, in one strand or several."""

from __future__ import annotations

import errno
import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field

from willow_cart.checks.soft_failures import (
    INSPECTED_BYTES,
    SNIFFED_BYTES,
    asks_to_sign_in,
    looks_like_index,
    looks_like_page,
    may_be_page,
    stands_for_error,
    title_of,
)
from willow_cart.destination import DiskRoom
from willow_cart.errors import (
    ConnectionLost,
    Interrupted,
    PageInstead,
    ProtocolError,
    SurplusBytes,
    TransferFailed,
    Unproved,
    WrongContent,
)
from willow_cart.events import Received, Started, StrandStarted
from willow_cart.kinds import kind_of
from willow_cart.model import Checksum, Validators
from willow_cart.observer import Observer
from willow_cart.platform import processes
from willow_cart.protocols import CHUNK, Access, Download, Resumability, Unchanged
from willow_cart.protocols.http.http_rules import HOW_TO_SIGN_IN
from willow_cart.structs import Value
from willow_cart.transfer.commit import ForgetPart, KeepPart, LedgerWriter, Note
from willow_cart.transfer.partials import PartialFile, PartialStore, Segment, mark_of
from willow_cart.transfer.policy import HaulPolicy
from willow_cart.transfer.rates import Meter, SpeedCap, require_size
from willow_cart.transfer.segments import fits
from willow_cart.transfer.transfers import Transfer

UNPROVED_ADVICE = "give a list with --checksums, or leave out --must-check"

# Longer files come in pieces that are worth keeping memory for.
_LARGE_BYTES = 4 << 20

# How long the last strands of other lanes are waited for, before looking again, in seconds.
_POLL_SECONDS = 0.2


class ReceivedFile(Value):
    """A complete file that is not checked yet.

    Attributes:
        partial: its bytes.
        found: what they hash to, by algorithm.
        earlier: what the download before hashed to, which was not as promised either; None for
            none.
    """

    partial: PartialFile
    found: dict[str, Checksum]
    earlier: Checksum | None = None


@dataclass(frozen=True, slots=True)
class Downloader:
    """Receives files; shared by all lanes.

    Attributes:
        partials: where files grow.
        commit_thread: who writes the ledger.
        stop: set when the user wants to stop.
        room: on the disk of the destination.
        clock: a monotonic clock in seconds.
        closed: set once no file may be changed any more.
    """

    access: Access
    partials: PartialStore
    commit_thread: LedgerWriter
    observer: Observer
    stop: threading.Event
    policy: HaulPolicy
    room: DiskRoom
    clock: Callable[[], float] = field(default=time.monotonic)
    closed: threading.Event = field(default_factory=threading.Event)
    cap: SpeedCap | None = field(init=False)

    def __post_init__(self) -> None:
        speed = self.policy.pace.speed_cap
        cap = SpeedCap(speed, self.clock) if speed else None
        object.__setattr__(self, "cap", cap)  # made here once, and never changed

    def bring(
        self,
        transfer: Transfer,
        lane: int,
        held: Validators | None,
        came: Download | TransferFailed | None = None,
    ) -> ReceivedFile | Unchanged:
        """Fetch the missing parts of a file.

        Args:
            transfer: the file; what has come of it is kept in `transfer.partial` on every way out
                if the rest can be joined to it.
            lane: the lane that fetches it.
            held: the version that exists already; None if it does not matter.
            came: the answer to a request that was sent before, or why it failed; None for none.

        Raises:
            TransferFailed: it could not be fetched.
            CannotStore, OSError: no room for it, or it cannot be written.
            Interrupted: the user wants to stop.
        """
        if isinstance(came, TransferFailed):
            raise came
        another: Download | Unchanged | None = came
        if transfer.partial is None and came is None:
            another = self.access.open(transfer.address, validators=held)
        while not isinstance(another, Unchanged):
            if another is not None:
                self._require_one_version(transfer, another)
                self.discard(transfer)
                transfer.adopt(self.partials.begin(transfer.offer, another))
            assert transfer.partial is not None, "the partial file exists or was started"
            filled = self._fill(transfer, transfer.partial, lane, another)
            if isinstance(filled, ReceivedFile):
                return filled
            another = filled
        return another

    def _require_one_version(self, transfer: Transfer, delivery: Download) -> None:
        """Refuse different lengths for one version: a strong entity tag means the same bytes.

        RFC 9110, 8.8.1. The first time all is fetched again; the second time nothing is believed.

        Raises:
            ConnectionLost: it is the first time.
            ProtocolError: it is the second.
        """
        tag, length = delivery.facts.validators.entity_tag, delivery.facts.length
        if tag is None or tag.startswith("W/") or length is None:
            return
        if not transfer.is_contradicted(tag, length):
            return
        delivery.close()
        self.discard(transfer)
        if transfer.contradicted:
            reason = "the server sends different lengths for one version"
            raise ProtocolError(transfer.shown, reason, "report it to the server")
        transfer.contradict()
        raise ConnectionLost(transfer.shown, "the server sent different lengths for one version")

    def help(self, transfer: Transfer, strand: Segment, address: str, lane: int) -> bool:
        """Fetch one more strand of a file that another lane is fetching.

        Args:
            strand: the stretch to fetch; bytes that are not received become a gap again.
            address: where to ask: its own address, or a mirror of the same bytes.
            lane: the lane that fetches it.

        Returns:
            False if the server does not serve parts of that version.

        Raises:
            TransferFailed, OSError, Interrupted: as for `bring`.
        """
        partial = strand.partial
        try:
            partial.open()
            try:
                delivery = self._ask_for(partial, strand, address, of_origin=transfer.address)
                try:
                    if not fits(delivery, partial, strand):
                        return False
                    transfer.note_ranges_served()
                    self.observer.note(
                        StrandStarted(lane, transfer.filed, strand.start, strand.end or 0)
                    )
                    self._receive(transfer, partial, strand, delivery, lane)
                finally:
                    delivery.close()
            finally:
                partial.close()
        finally:
            strand.release()
        return True

    def find(self, transfer: Transfer) -> None:
        """Use the partial file of an earlier run for a transfer, if it can be resumed.

        Only bytes that a digest vouches for are used; if they were changed, this is reported.

        Raises:
            OSError: it cannot be read.
        """
        partial = self.partials.find(transfer.offer)
        if partial is None:
            return
        transfer.adopt(partial)
        if not partial.is_as_vouched():
            self.discard(transfer)
            transfer.note("the partial file was changed since the last run; fetched from the start")

    def require_going_on(self, _count: int = 0) -> None:
        """Raise Interrupted if the user wants to stop.

        Raises:
            Interrupted: they do.
        """
        if self.stop.is_set():
            raise Interrupted("a file", "interrupted")

    def close(self) -> None:
        """Change no more files: the haul has ended, and its files may belong to another one."""
        self.closed.set()

    def discard(self, transfer: Transfer) -> None:
        """Discard the partial file; nothing can be joined to it."""
        if self.closed.is_set():
            return
        partial = transfer.release_partial()
        if partial is None:
            return
        partial.abandon()
        if partial.recorded:
            self.commit_thread.take(Note(ForgetPart(transfer.id)))
        with suppress(FileNotFoundError):
            partial.delete()

    def _fill(
        self, transfer: Transfer, partial: PartialFile, lane: int, delivery: Download | None
    ) -> ReceivedFile | Download:
        """Fetch the missing part of a version; all of it if the server has another version now."""
        try:
            if delivery is not None and self._is_whole(delivery, partial):
                return self._take_whole(transfer, partial, lane, delivery)
            if partial.facts.length is None or partial.facts.length > _LARGE_BYTES:
                processes.keep_freed_memory()
            partial.open()
            try:
                transfer.note_resumed_at(partial.size)
                require_size(self.policy.pace, transfer.shown, partial.facts.length or 0)
                self._require_proof(transfer, partial)
                length = partial.facts.length
                self.observer.note(Started(lane, transfer.filed, length, partial.size))
                self.room.require(transfer.filed.path, length or 0, partial.size)
                if another := self._bring_strands(transfer, partial, lane, delivery):
                    return another
                return ReceivedFile(partial, partial.finish())
            finally:
                partial.close()
        except BaseException as error:
            if delivery is not None:
                delivery.close()
            if (
                isinstance(error, (ProtocolError, SurplusBytes, PageInstead, WrongContent))
                or not partial.size
                or not partial.recorded
            ):
                self.discard(transfer)
            else:
                self._vouch(transfer, partial, last=True)
            raise

    def _is_whole(self, delivery: Download, partial: PartialFile) -> bool:
        """Whether all of a file has come with its response."""
        if delivery.whole is None or delivery.start or partial.size or self.cap is not None:
            return False
        return partial.facts.length in (None, len(delivery.whole))

    def _take_whole(
        self, transfer: Transfer, partial: PartialFile, lane: int, delivery: Download
    ) -> ReceivedFile:
        """Write a file that has come whole."""
        content = delivery.whole or b""
        transfer.comes(delivery)
        require_size(self.policy.pace, transfer.shown, len(content))
        self._require_proof(transfer, partial)
        self.observer.note(Started(lane, transfer.filed, partial.facts.length, 0))
        self.room.require(transfer.filed.path, len(content), 0)
        self.require_content(transfer, delivery, content, is_all=True)
        found = partial.fill(content)
        transfer.count(len(content))
        self.observer.note(Received(lane, len(content)))
        delivery.close()
        return ReceivedFile(partial, found)

    def _bring_strands(
        self, transfer: Transfer, partial: PartialFile, lane: int, delivery: Download | None
    ) -> Download | None:
        """Fetch strands until the file is complete; other lanes may fetch some.

        The first is in flight already, or has to be requested. What is returned is the whole of
        another version, if that is what comes now.
        """
        try:
            if partial.is_whole and delivery is not None:
                self.require_content(transfer, delivery, b"", is_all=True)  # it is empty
            while not partial.is_whole:
                strand = partial.take()
                if strand is None:
                    self._wait_for_others(transfer, partial)
                    continue
                try:
                    if delivery is None:
                        delivery = self._ask_for(partial, strand, transfer.address)
                        if not fits(delivery, partial, strand):
                            another, delivery = delivery, None
                            return self._from_its_beginning(transfer, another)
                        partial.learn(delivery.facts)
                    transfer.comes(delivery)
                    self._receive(transfer, partial, strand, delivery, lane)
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

    def _wait_for_others(self, transfer: Transfer, partial: PartialFile) -> None:
        partial.wait_for_others(_POLL_SECONDS)
        if self.stop.is_set():
            raise Interrupted(transfer.filed.path, "interrupted")

    def _ask_for(
        self, partial: PartialFile, strand: Segment, address: str, of_origin: str | None = None
    ) -> Download:
        """Request a strand, from the address of the version or from a mirror."""
        blind = partial.joining is Resumability.BLIND or (of_origin or address) != address
        delivery = self.access.open(
            address,
            start=strand.start,
            end=None if strand.end == partial.facts.length else strand.end,
            validators=None if blind else partial.facts.validators,
        )
        assert isinstance(delivery, Download), "a range was asked for"
        return delivery

    def _from_its_beginning(self, transfer: Transfer, delivery: Download) -> Download:
        """Return a response that starts at the first byte."""
        if not delivery.start:
            return delivery
        # The version has changed under a mark that has not.
        delivery.close()
        whole = self.access.open(transfer.address)
        assert isinstance(whole, Download), "no condition was made"
        return whole

    def _receive(
        self,
        transfer: Transfer,
        partial: PartialFile,
        strand: Segment,
        delivery: Download,
        lane: int,
    ) -> None:
        """Write the content of a strand until it is complete or no longer wanted."""
        length = partial.facts.length
        pace = self.policy.pace
        meter = Meter(transfer.shown, pace, self.cap, self.stop.wait, self.clock)
        counted = 0
        for data in self._pieces(transfer, partial, strand, delivery, meter):
            if partial.size + len(data) != length:
                self._record(transfer, partial)
            count = strand.write(data)
            came = delivery.line_bytes
            transfer.count(count if came is None else came - counted)
            counted = came or 0
            self.observer.note(Received(lane, count))
            if length is not None and partial.size > length:
                reason = "the server sent more bytes than announced"
                if transfer.contradicted:
                    raise ProtocolError(transfer.shown, reason, "report it to the server")
                transfer.contradict()
                raise SurplusBytes(transfer.shown, reason, "try again later")
            if not partial.is_whole and self.room.free() < CHUNK:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            meter.count(count, partial.size, is_whole=partial.is_whole)
            self._vouch(transfer, partial)
            if self.stop.is_set():
                raise Interrupted(transfer.filed.path, "interrupted")

    def _pieces(
        self,
        transfer: Transfer,
        partial: PartialFile,
        strand: Segment,
        delivery: Download,
        meter: Meter,
    ) -> Iterator[bytes]:
        """Yield the content of a strand; end at once if it is not the file.

        Raises:
            PageInstead: it is a page.
            WrongContent: it is an error document, or nothing.
        """
        suspect = not (self.policy.handling.accept_anything or strand.at)
        while not partial.abandoned and (strand.end is None or strand.left):
            if suspect:
                data = self._beginning_of(transfer, delivery, SNIFFED_BYTES, meter)
            else:
                data = delivery.read()
            if not data and strand.end is not None:
                raise ConnectionLost(transfer.shown, "the connection ended before the file did")
            if suspect:
                is_all = len(data) < SNIFFED_BYTES or len(data) == partial.facts.length
                self.require_content(transfer, delivery, data, is_all=is_all, meter=meter)
                suspect = False
            if not data:
                return
            yield data

    def require_content(
        self,
        transfer: Transfer,
        delivery: Download,
        beginning: bytes,
        *,
        is_all: bool,
        meter: Meter | None = None,
    ) -> None:
        """Refuse content that cannot be a file of that name, unless anything is accepted.

        Raises:
            PageInstead: it is a page.
            WrongContent: it is an error document, or nothing.
        """
        if self.policy.handling.accept_anything:
            return
        name = transfer.offer.file_name
        if looks_like_page(beginning) and kind_of(name) != "page":
            if meter is not None:
                more = INSPECTED_BYTES
                beginning = self._beginning_of(transfer, delivery, more, meter, beginning)
            # What a page links may lead to another page.
            adds_slash = delivery.facts.address == f"{transfer.address}/"
            is_index = looks_like_index(beginning) or (adds_slash and not transfer.offer.text)
            if is_index and not self.policy.takes_pages:
                raise PageInstead(
                    transfer.shown,
                    "is a folder: the server sent its index",
                    "haul it by its address with a slash at the end",
                    title=title_of(beginning),
                )
            if not may_be_page(name):
                raise _page_instead(transfer, beginning)
        if instead := stands_for_error(name, beginning, is_all=is_all):
            raise WrongContent(
                transfer.shown,
                f"the server sent {instead} instead of the file",
                "check the address and the sign-in; --accept-anything saves it anyway",
            )

    def _beginning_of(
        self, transfer: Transfer, delivery: Download, enough: int, meter: Meter, read: bytes = b""
    ) -> bytes:
        """Read enough of the start of a file to recognise its type.

        Args:
            enough: how many bytes, unless it has fewer.
            meter: limits the time that they take.
            read: what was read of it already.

        Raises:
            TookTooLong, TooSlow: it takes too long.
            Interrupted: the user wants to stop.
        """
        pieces = [read]
        count = len(read)
        while count < enough and (data := delivery.read()):
            pieces.append(data)
            count += len(data)
            if count < enough:
                meter.check(count)
                if self.stop.is_set():
                    raise Interrupted(transfer.filed.path, "interrupted")
        return b"".join(pieces)

    def _require_proof(self, transfer: Transfer, partial: PartialFile) -> None:
        """Refuse a file without a checksum if one is required, before it is fetched.

        Raises:
            Unproved: no checksum known.
        """
        facts = partial.facts
        if self.policy.handling.must_check and not (
            transfer.offer.checksums or facts.checksums or facts.composite
        ):
            raise Unproved(transfer.shown, "no checksum known", UNPROVED_ADVICE)

    def _record(self, transfer: Transfer, partial: PartialFile) -> None:
        """Record a partial file in the ledger before it has any content.

        Whatever a crash leaves of it can then be resumed. What could not be joined to is not
        recorded, nor what comes in one piece.
        """
        proved = partial.joining is Resumability.BLIND and bool(transfer.offer.checksums)
        if not partial.recorded and (partial.joining is Resumability.SAFE or proved):
            record = partial.record(transfer.offer)
            partial.marked = self.clock()
            self.commit_thread.take_at_once(Note(KeepPart(transfer.id, record)))

    def _vouch(self, transfer: Transfer, partial: PartialFile, *, last: bool = False) -> None:
        """Sync what has arrived now and then, and record its extent in the ledger."""
        if mark := mark_of(transfer.id, partial, self.clock(), last=last):
            self.commit_thread.take(mark)


def _page_instead(transfer: Transfer, beginning: bytes) -> PageInstead:
    """Return the error for a web page in place of a file, with its title as the reason."""
    title = title_of(beginning)
    named = f', "{title}"' if title else ""
    if asks_to_sign_in(beginning):
        return PageInstead(
            transfer.shown,
            f"the server sent a sign-in page{named}",
            HOW_TO_SIGN_IN,
            title=title,
        )
    return PageInstead(
        transfer.shown,
        f"the server sent a page{named}",
        "open it in a browser to see what it asks for; --accept-anything saves it anyway",
        title=title,
    )
