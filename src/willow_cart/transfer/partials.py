"""Partial files: the received bytes of a file, under names that no program takes for a file."""

from __future__ import annotations

import errno
import hashlib
import os
import threading
import zlib
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field

from willow_cart.checks.digests import RunningDigest, digest_in_memory, read_checksum
from willow_cart.destination import PARTIAL, Destination
from willow_cart.identity import AddressId, LedgerKey
from willow_cart.ledger.entries import Arrival, PartRecord
from willow_cart.model import Checksum, Metadata, Offer, Origin
from willow_cart.platform import disks, files
from willow_cart.protocols import Download, Resumability
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value, replace
from willow_cart.transfer.spans import (
    VOUCHED,
    Piece,
    Spans,
    crc32_between,
    cut_to,
    delete_note,
    leave_digests,
    leave_note,
    open_note,
    settle_end,
    spans_in,
    vouched_in,
)

# Marks a checksum in the ledger that only looks like one.
HINT = "hint_"


# A large file is written out in pieces of this size while it is received; left to the end, the
# sync of a gigabyte took a third as long again as receiving it.
class Mark(Value):
    """A request to sync bytes of a partial file and record them.

    Attributes:
        id: the identifier of the file's address.
        name: of its file.
        spans: which bytes are there, as byte ranges.
        digests: of those that are hashed; see `transfer.partials.Piece`.
    """

    id: AddressId
    name: str
    spans: str
    digests: str


_WRITE_OUT_BYTES = 16 << 20

# A lane that looks for a strand waits no longer for a lock, because others wait for that lane.
_LOCK_SECONDS = 0.05

# A strand that would fetch fewer bytes is not worth its request.
_MIN_STRAND_BYTES = 1 << 20


@dataclass(slots=True, eq=False)
class Segment:
    """A range of a file that one lane fetches, and its progress.

    It is the lane's handle to the partial file: once the file is removed, nothing is
    written through it any more.

    Attributes:
        partial: the file that it is a stretch of.
        start: its first byte.
        asked: the byte after the last that is requested; None if unknown.
        end: the byte after the last that is wanted: nearer while another strand fetches the rest.
        at: the byte that comes next.
        digested: the byte after the last that it has hashed by itself.
    """

    partial: PartialFile
    start: int
    asked: int | None
    end: int | None = field(init=False)
    at: int = field(init=False)
    digested: int = field(init=False)
    _crc32: int = field(init=False, default=0)

    def __post_init__(self) -> None:
        self.at, self.end, self.digested = self.start, self.asked, self.start

    def write(self, data: bytes) -> int:
        """Append bytes; return how many were accepted: fewer if another lane has the rest.

        Raises:
            OSError: they cannot be written; what was written before stays.
        """
        return self.partial.write(self, data)

    def release(self) -> None:
        """Release the range; its missing part becomes a gap."""
        self.partial.release(self)

    def digest(self, data: memoryview) -> None:
        """Hash bytes of this range that the digest of the whole file has not reached."""
        if self.digested == self.at:
            self._crc32 = zlib.crc32(data, self._crc32)
            self.digested += len(data)

    @property
    def piece(self) -> Piece | None:
        """Return the piece that it hashed itself, or None."""
        if self.digested == self.start:
            return None
        return Piece(self.start, self.digested, f"{self._crc32:08x}")

    @property
    def left(self) -> int:
        """Return how many bytes are left; 0 also if unknown."""
        return 0 if self.end is None else self.end - self.at


class PartialFile:
    """The bytes of one version of a file that have arrived.

    Strands fetch it: one, or several at a time, each a stretch of its own. Where they do not come
    in order the file keeps a note of what is there after its own end, so that whatever a kill
    leaves of it can be resumed. Between attempts it rests: the file is closed, and the digest
    keeps its state.

    Attributes:
        name: of the file with the bytes, in the folder of partial files.
        facts: the server's metadata of the whole.
        joining: whether the rest can be joined to them later.
        size: how many there are.
        recorded: whether the ledger knows of them.
        abandoned: whether they are not wanted any more.
        share: how many bytes one of its strands should fetch; None for as many as come.
        marked: when it was last asked to be made safe on the disk, by its user's clock.
        vouched: the pieces that an earlier run hashed of what is here.
    """

    def __init__(
        self,
        destination: Destination,
        name: str,
        facts: Metadata,
        joining: Resumability,
        algorithms: Iterable[str],
        *,
        spans: Spans,
        boot: str,
    ) -> None:
        self.name = name
        self._destination = destination
        self.facts = facts
        self.joining = joining
        self.size = spans.total
        self.recorded = False
        self.abandoned = False
        self._is_to_go = False
        self.share: int | None = None
        self.marked = 0.0
        self.vouched: list[Piece] = []
        self._note = -1
        self._boot = boot
        self._here = spans
        self._strands: list[Segment] = []
        self._hashed = 0
        self._has_note = False
        self._pieces: list[Piece] = []
        self._algorithms = tuple(algorithms)
        self._running: RunningDigest | None = None
        self._file = -1
        self._users = 0
        self._on_its_way = self.size
        self._change = threading.Condition()

    @property
    def _digest(self) -> RunningDigest:
        """The digest of the whole, which follows what is written."""
        if self._running is None:
            self._running = RunningDigest(self._algorithms)
        return self._running

    @property
    def is_whole(self) -> bool:
        """Whether it is complete, as far as its length is known."""
        return self.size == self.facts.length

    @property
    def length(self) -> int | None:
        """The length of the whole in bytes, or None."""
        return self.facts.length

    @property
    def can_be_shared(self) -> bool:
        """Whether several strands may fetch it: it is recorded, and its length is known."""
        return self.recorded and not self.abandoned and self.facts.length is not None

    @property
    def file(self) -> str:
        """The path of the file below the destination."""
        return f"{PARTIAL}/{self.name}"

    @property
    def spans(self) -> Spans:
        """Return the ranges of bytes that exist."""
        if not self._strands:
            return self._here
        return Spans.of([*self._here.pairs, *((each.start, each.at) for each in self._strands)])

    # Its strands

    def take(self) -> Segment | None:
        """Return the next range to fetch: a gap, or a part of the busiest strand's range.

        Returns:
            None if nothing is left that would be worth a request, or the file is just being
            closed, which may take as long as hashing what it holds.
        """
        if not self._change.acquire(timeout=_LOCK_SECONDS):
            return None
        try:
            gap = self._next_gap() or self._gap_from_busiest()
            if gap is None:
                return None
            start, end = gap
            if self.share and end is not None and end - start > self.share + _MIN_STRAND_BYTES:
                end = start + self.share
            strand = Segment(self, start, end)
            self._strands.append(strand)
            return strand
        finally:
            self._change.release()

    def _next_gap(self) -> tuple[int, int | None] | None:
        taken = [(each.start, each.end) for each in self._strands if each.end is not None]
        if len(taken) < len(self._strands):
            return None  # one goes on to an unknown end
        return Spans.of([*self._here.pairs, *taken]).first_gap(self.facts.length)

    def _gap_from_busiest(self) -> tuple[int, int] | None:
        """Return half of the busiest strand's range, or everything beyond its share."""
        busiest = max(self._strands, key=lambda each: each.left, default=None)
        if busiest is None or busiest.end is None or busiest.left < 2 * _MIN_STRAND_BYTES:
            return None
        end = busiest.end
        kept = min(busiest.left // 2, max(self.share or end, _MIN_STRAND_BYTES))
        busiest.end = busiest.at + kept
        return busiest.end, end

    def release(self, strand: Segment) -> None:
        """Release a strand.

        What it has not fetched is a gap again, which falls back to the strand before it as far as
        that has requested it.
        """
        with self._change:
            if strand in self._strands:
                self._here = Spans.of([*self._here.pairs, (strand.start, strand.at)])
                self._pieces += [strand.piece] if strand.piece else []
                self._strands.remove(strand)
                for each in self._strands:
                    if each.asked is not None:
                        others = [other.start for other in self._strands if other is not each]
                        starts = [*others, *(first for first, _ in self._here.pairs)]
                        each.end = min([each.asked, *(at for at in starts if at >= each.at)])
            self._change.notify_all()

    def learn(self, facts: Metadata) -> None:
        """Add facts about the whole file that were unknown.

        It may not have told the length at first, and what a part's record does not keep was
        forgotten with the run that began it.
        """
        with self._change:
            if not self.facts.media_type:
                known = replace(self.facts, media_type=facts.media_type, charset=facts.charset)
                self.facts = replace(known, modified=known.modified or facts.modified)
            if not self.facts.file_name:
                self.facts = replace(self.facts, file_name=facts.file_name)
            if self.facts.length is not None:
                return
            self.facts = replace(self.facts, length=facts.length)
            for strand in self._strands:
                if strand.end is None:
                    strand.end = strand.asked = facts.length

    def wait_for_others(self, seconds: float) -> None:
        """Wait until another strand ends, or for this many seconds."""
        with self._change:
            if self._strands:
                self._change.wait(seconds)

    def end_strands(self) -> None:
        """End all strands where they are; what they have fetched stays."""
        with self._change:
            for each in self._strands:
                each.asked = each.end = each.at

    def abandon(self) -> None:
        """Stop all strands of this file."""
        with self._change:
            self.abandoned = True

    def delete(self) -> None:
        """Delete the file; where it cannot be deleted while strands have it open, after the last.

        Raises:
            OSError: it is not there, or cannot be deleted.
        """
        with self._change:
            self.abandoned = True
            try:
                self._destination.delete(self.file)
            except PermissionError:
                if not self._users:
                    raise
                self._is_to_go = True

    # Its file

    def open(self) -> None:
        """Open the file to resume it; existing bytes are read for the digest.

        Raises:
            OSError: it cannot be opened.
        """
        with self._change:
            if self.abandoned:
                raise FileNotFoundError(errno.ENOENT, "is deleted", self.name)
            self._users += 1
            if self._users > 1:
                return
            self._file = self._destination.open_partial(self.name, is_new=not self.size)
            if self.size:
                self._follow()
                settle_end(self._file, self.spans, self.facts.length)

    def fill(self, content: bytes) -> dict[str, Checksum]:
        """Write a file that has come whole and was not opened before; return its checksums.

        Raises:
            OSError: the disk would not take it.
        """
        self._destination.write_partial(self.name, content)
        self.size = len(content)
        return digest_in_memory(content, self._algorithms)

    def write(self, strand: Segment, data: bytes) -> int:
        """Append bytes to a strand; return how many were accepted.

        Raises:
            OSError: they cannot be written; what was written before stays.
        """
        began = strand.at
        view = self._wanted(strand, memoryview(data))
        while view and not self.abandoned:
            count = files.write_at(self._file, view, strand.at)
            with self._change:
                # If it was cut short meanwhile, the other strand will write the same once more.
                self._take_in(strand, self._wanted(strand, view[:count]))
            view = self._wanted(strand, view[count:])
        self._vouch()
        if strand.at - began < len(data):
            # What comes next of its delivery is not what comes next of the file: it ends here for
            # good, also if what is after it becomes a gap again.
            with self._change:
                strand.asked = strand.end = strand.at
        if self.size - self._on_its_way >= _WRITE_OUT_BYTES:
            disks.begin_to_write_out(self._file)
            self._on_its_way = self.size
        return strand.at - began

    def _vouch(self) -> None:
        """Note the digests of the existing bytes; without them a later run starts over."""
        if not self.recorded or self.abandoned or self.is_whole:
            return
        with suppress(OSError):
            if self._note < 0:
                self._note = open_note(self._destination, self.name)
            leave_digests(self._note, self.pieces())

    def _wanted(self, strand: Segment, view: memoryview) -> memoryview:
        """Return the part of the bytes that a strand may write.

        At the file's end it takes all of them, so that surplus bytes are noticed.
        """
        return view if strand.end == self.facts.length else view[: strand.left]

    def _take_in(self, strand: Segment, view: memoryview) -> None:
        """Account for written bytes, and hash those that continue the digest."""
        if strand.at == self._hashed:
            self._digest.add(view, self._file)
            self._hashed += len(view)
        else:
            strand.digest(view)
        strand.at += len(view)
        spans = self.spans
        if self._has_note or not spans.is_in_order:
            self._has_note = True
            self._follow()
            leave_note(self._file, spans, self.facts.length)
        self.size += len(view)  # last: others wait until it is whole

    def _follow(self) -> None:
        """Advance the digest over contiguous bytes."""
        beginning = self.spans.beginning
        if beginning > self._hashed:
            self._hashed = beginning
            self._digest.reach(beginning, self._file)

    def pieces(self) -> list[Piece]:
        """Return the hashed pieces in order, without overlaps."""
        with self._change:
            hashed, sha256 = self._digest.so_far()
            own = (*self._pieces, *(each.piece for each in self._strands))
            self._pieces = [each for each in self._pieces if each.end > hashed]
            pieces = [Piece(0, hashed, sha256)] if hashed else []
            for piece in sorted(each for each in own if each is not None):
                if piece.start >= (pieces[-1].end if pieces else 0):
                    pieces.append(piece)
            return pieces

    def is_as_vouched(self) -> bool:
        """Whether its bytes are those that an earlier run hashed.

        Raises:
            OSError: it cannot be read.
        """
        file = self._destination.open_partial(self.name, is_new=False)
        try:
            for piece in self.vouched:
                if piece.start:
                    digest = crc32_between(file, piece.start, piece.end)
                    self._pieces.append(piece)
                else:
                    # The digest of the whole continues from here.
                    self._digest.reach(piece.end, file)
                    self._digest.settle()
                    self._hashed, digest = self._digest.so_far()
                if digest != piece.digest:
                    return False
            return True
        finally:
            os.close(file)

    def close(self) -> None:
        """Close the file for now, unless other strands still write to it."""
        with self._change:
            self._users -= 1
            if self._users:
                return
            try:
                self._digest.settle()
            finally:
                os.close(self._file)
                self._file = -1
                if self._note >= 0:
                    os.close(self._note)
                    self._note = -1
                if self._is_to_go:
                    delete_note(self._destination, self.name)
                    with suppress(OSError):  # the next haul deletes it otherwise
                        self._destination.delete(self.file)

    def finish(self) -> dict[str, Checksum]:
        """Finish a complete file; sync it if it took more than a moment. Return its checksums.

        Raises:
            OSError: the disk refuses them or give them back.
        """
        with self._change:
            if self._has_note:
                os.ftruncate(self._file, self.size)
        if self.recorded:
            # The digest may lag behind; it catches up while the disk is busy.
            files.sync(self._file)
        self._digest.settle()
        if self._note >= 0:
            with suppress(OSError):
                leave_digests(self._note, self.pieces())
        return self._digest.checksums()

    def record(self, offer: Offer, sealed: Arrival | None = None) -> PartRecord:
        """Return what the ledger needs to resume it in a later run."""
        self.recorded = True
        return PartRecord(
            without_secrets(offer.address),
            without_secrets(self.facts.address),
            self.name,
            self.facts.length,
            self.facts.validators,
            self.joining.value,
            sealed,
            boot=self._boot,
            promised=" ".join(f"{HINT if it.is_hint else ''}{it}" for it in self.facts.checksums),
        )


# What has arrived is synced at this interval, so that a power cut loses no more.
_CHECKPOINT_SECONDS = 10.0


class PartialStore:
    """The partial files of a destination.

    Args:
        destination: where they are.
        records: what earlier runs have left, by the keys of addresses.
        boot: distinguishes this start of the machine from every other; empty where nothing does.
        key_of: gives the key of an address in the records; its identifier, if they are of no
            ledger.
    """

    def __init__(
        self,
        destination: Destination,
        records: Mapping[LedgerKey, PartRecord],
        boot: str,
        key_of: Callable[[AddressId], LedgerKey] = LedgerKey,
    ) -> None:
        self._destination = destination
        self._records = records
        self._boot = boot
        self._key_of = key_of

    def delete_unusable(self) -> None:
        """Delete all partial files that cannot be resumed.

        What no record speaks of is deleted. What a program has written is there after its end,
        also after a kill; but once the machine has been restarted, only what was synced is sure
        to be, and the rest is cut off.

        Raises:
            OSError: the files cannot be changed.
        """
        wanted = {record.file for record in self._records.values()}
        for name in self._destination.names(PARTIAL):
            # A link by the name of a partial file is not one.
            if name not in wanted or self._destination.stamp(f"{PARTIAL}/{name}") is None:
                with suppress(IsADirectoryError, PermissionError):  # a folder is not ours
                    self._destination.delete(f"{PARTIAL}/{name}")
        with suppress(FileNotFoundError):  # no haul was interrupted here
            for name in self._destination.names(VOUCHED):
                if name not in wanted:
                    delete_note(self._destination, name)
        for record in self._records.values():
            if record.sealed is None:
                self.cut_to_what_is_sure(record)

    def cut_to_what_is_sure(self, record: PartRecord) -> None:
        """Cut off what was not synced, unless this start of the machine wrote it.

        Raises:
            OSError: the file cannot be changed.
        """
        is_sure = self._boot and record.boot == self._boot
        if is_sure or self._destination.stamp(f"{PARTIAL}/{record.file}") is None:
            return
        file = self._destination.open_partial(record.file, is_new=False)
        try:
            cut_to(file, Spans.read(record.synced), record.length)
        finally:
            os.close(file)

    def record_of(self, identifier: AddressId) -> PartRecord | None:
        """Return what an earlier run has left of an address, or None."""
        return self._records.get(self._key_of(identifier)) if self._records else None

    def begin(self, offer: Offer, delivery: Download) -> PartialFile:
        """Create an empty partial file for a download.

        Its name is made of the address and the version, so that bytes of two versions never meet
        in one file, whatever is interrupted when.
        """
        facts = delivery.facts
        marks = (offer.id, facts.length, facts.validators.entity_tag,
                 facts.validators.last_modified)  # fmt: skip
        name = hashlib.sha256(repr(marks).encode()).hexdigest()[:24]
        return self._make(name, offer, facts, delivery.joining, Spans())

    def _make(
        self, name: str, offer: Offer, facts: Metadata, joining: Resumability, spans: Spans
    ) -> PartialFile:
        algorithms = (each.algorithm for each in (*offer.checksums, *facts.checksums))
        return PartialFile(
            self._destination, name, facts, joining, algorithms, spans=spans, boot=self._boot
        )

    def find(self, offer: Offer) -> PartialFile | None:
        """Return the resumable partial file of an offer, or None."""
        record = self.record_of(offer.id)
        if record is None:
            return None
        joining = Resumability(record.joining)
        if joining is Resumability.BLIND and not offer.checksums:
            return None  # an earlier haul had a checksum to prove the joined parts; this has none
        try:
            with self._destination.read_partial(record.file) as file:
                spans = spans_in(file.fileno(), record.length)
        except OSError:
            return None  # it is gone, or not a file
        if spans is None:
            spans = Spans.read(record.synced)
        pieces = [*map(Piece.parse, record.digests.split())]
        if self._boot and record.boot == self._boot:  # a power cut may keep one without the other
            pieces += vouched_in(self._destination, record.file)
        vouched = _vouched(pieces, spans)
        spans = Spans.of((piece.start, piece.end) for piece in vouched)
        if not spans.total:
            return None
        promised = tuple(
            replace(
                read_checksum(each.removeprefix(HINT)),
                origin=Origin.SERVER,
                is_hint=each.startswith(HINT),
            )
            for each in record.promised.split()
        )
        facts = Metadata(record.final_address, record.length, record.validators, checksums=promised)
        partial = self._make(record.file, offer, facts, joining, spans)
        partial.recorded = True
        partial.vouched = vouched
        return partial


def _vouched(pieces: Iterable[Piece], spans: Spans) -> list[Piece]:
    """Return the largest pieces that an earlier run hashed of bytes that are there."""
    here = [
        piece
        for piece in pieces
        if any(first <= piece.start and piece.end <= end for first, end in spans.pairs)
    ]
    chosen: list[Piece] = []
    for piece in sorted(here, key=lambda each: (each.start, -each.end)):
        if not chosen or piece.start >= chosen[-1].end:
            chosen.append(piece)
    return chosen


def mark_of(
    identifier: AddressId, partial: PartialFile, now: float, *, last: bool = False
) -> Mark | None:
    """Return what is to be recorded of a partial file, from which a later run goes on.

    Args:
        identifier: of its address.
        now: by the clock that its times are of.
        last: whether no more comes for now.

    Returns:
        None if it was recorded a short while ago.
    """
    if not partial.recorded or not (last or now - partial.marked > _CHECKPOINT_SECONDS):
        return None
    partial.marked = now
    digests = " ".join(map(str, partial.pieces()))
    return Mark(identifier, partial.name, str(partial.spans), digests)
