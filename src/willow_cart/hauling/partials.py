"""Partial files: what has come of a file so far, where no other program takes it for the file."""

from __future__ import annotations

import errno
import hashlib
import os
import threading
import zlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from willow_cart.access import Delivery, Joining
from willow_cart.addresses import without_secrets
from willow_cart.checks import RunningDigest, read_checksum, written
from willow_cart.hauling.disk import begin_to_write_out
from willow_cart.hauling.spans import Spans
from willow_cart.model import Checksum, Facts, Offer, Origin
from willow_cart.records import Arrival, PartRecord

# A large file is sent to the disk in pieces of so many bytes while it comes; left to its end, the
# sync of a gigabyte took a third as long again as receiving it.
_WORTH_WRITING_OUT = 16 << 20

# Who asks for a strand waits no longer than so many seconds: others wait for them in turn.
_BRIEFLY = 0.05

# A strand that would bring fewer bytes is not worth its request.
_WORTH_A_STRAND = 1 << 20


@dataclass(slots=True, eq=False)
class Strand:
    """A stretch of a file, and who brings it how far it is.

    Attributes:
        start: its first byte.
        asked: the byte behind the last that is asked for; None where nobody knows.
        end: the byte behind the last that is wanted: nearer while another strand brings the rest.
        at: the byte that comes next.
    """

    start: int
    asked: int | None
    end: int | None = field(init=False)
    at: int = field(init=False)

    def __post_init__(self) -> None:
        self.at, self.end = self.start, self.asked

    @property
    def left(self) -> int:
        """How many bytes it has before it; 0 also where nobody knows."""
        return 0 if self.end is None else self.end - self.at


class Partial:
    """The bytes of one version of one file that have come so far.

    Strands bring it: one, or several at a time, each a stretch of its own. Where they do not come
    in order the file keeps a note of what is there behind its own end, so that whatever a kill
    leaves of it can be gone on with. Between attempts it rests: the file is closed, and the digest
    keeps its state.

    Attributes:
        path: where the bytes are.
        facts: what the place said about the whole.
        joining: whether the rest can be joined to them later.
        size: how many there are.
        recorded: whether the ledger knows of them.
        abandoned: whether nobody wants them any more.
        share: how many bytes one of its strands should bring; None for as many as come.
        marked: when it was last asked to be made safe on the disk, by its user's clock.
    """

    def __init__(
        self,
        path: str,
        facts: Facts,
        joining: Joining,
        algorithms: Iterable[str],
        *,
        spans: Spans,
        boot: str,
    ) -> None:
        self.path = path
        self.facts = facts
        self.joining = joining
        self.size = spans.total
        self.recorded = False
        self.abandoned = False
        self.share: int | None = None
        self.marked = 0.0
        self._boot = boot
        self._here = spans
        self._strands: list[Strand] = []
        self._hashed = 0
        self._has_note = False
        self._digest = RunningDigest(algorithms)
        self._file = -1
        self._users = 0
        self._on_its_way = self.size
        self._change = threading.Condition()

    @property
    def is_whole(self) -> bool:
        """Whether all has come, as far as the place said how much that is."""
        return self.size == self.facts.length

    @property
    def can_be_shared(self) -> bool:
        """Whether several strands may bring it: the ledger knows of it, and its end is known."""
        return self.recorded and not self.abandoned and self.facts.length is not None

    @property
    def spans(self) -> Spans:
        """Which bytes there are."""
        if not self._strands:
            return self._here
        return Spans.of([*self._here.pairs, *((each.start, each.at) for each in self._strands)])

    # Its strands

    def take(self) -> Strand | None:
        """The next stretch to bring: a gap, or what the busiest strand has to give away.

        Returns:
            None if nothing is left that would be worth a request, or the file is just being
            closed, which may take as long as hashing what it holds.
        """
        if not self._change.acquire(timeout=_BRIEFLY):
            return None
        try:
            gap = self._next_gap() or self._gap_from_busiest()
            if gap is None:
                return None
            start, end = gap
            if self.share and end is not None and end - start > self.share + _WORTH_A_STRAND:
                end = start + self.share
            strand = Strand(start, end)
            self._strands.append(strand)
            return strand
        finally:
            self._change.release()

    def _next_gap(self) -> tuple[int, int | None] | None:
        taken = [(each.start, each.end) for each in self._strands if each.end is not None]
        if len(taken) < len(self._strands):
            return None  # one goes on to an end that nobody knows
        return Spans.of([*self._here.pairs, *taken]).first_gap(self.facts.length)

    def _gap_from_busiest(self) -> tuple[int, int] | None:
        """Half of what the busiest strand has before it, or all of that beyond its share."""
        busiest = max(self._strands, key=lambda each: each.left, default=None)
        if busiest is None or busiest.end is None or busiest.left < 2 * _WORTH_A_STRAND:
            return None
        end = busiest.end
        kept = min(busiest.left // 2, max(self.share or end, _WORTH_A_STRAND))
        busiest.end = busiest.at + kept
        return busiest.end, end

    def let_go(self, strand: Strand) -> None:
        """Be done with a strand.

        What it has not brought is a gap again, which falls back to the strand before it as far as
        that has asked for it.
        """
        with self._change:
            if strand in self._strands:
                self._here = Spans.of([*self._here.pairs, (strand.start, strand.at)])
                self._strands.remove(strand)
                for each in self._strands:
                    if each.asked is not None:
                        others = [other.start for other in self._strands if other is not each]
                        starts = [*others, *(first for first, _ in self._here.pairs)]
                        each.end = min([each.asked, *(at for at in starts if at >= each.at)])
            self._change.notify_all()

    def learn(self, facts: Facts) -> None:
        """Take in what the place says of the whole that is not known yet.

        It may not have told the length at first, and what a part's record does not keep was
        forgotten with the run that began it.
        """
        with self._change:
            if not self.facts.media_type:
                known = replace(self.facts, media_type=facts.media_type, charset=facts.charset)
                self.facts = replace(known, modified=known.modified or facts.modified)
            if self.facts.length is not None:
                return
            self.facts = replace(self.facts, length=facts.length)
            for strand in self._strands:
                if strand.end is None:
                    strand.end = strand.asked = facts.length

    def wait_for_others(self, seconds: float) -> None:
        """Wait until a strand of somebody else's is done with, or for so many seconds."""
        with self._change:
            if self._strands:
                self._change.wait(seconds)

    def abandon(self) -> None:
        """Have everybody stop who still brings some of it."""
        with self._change:
            self.abandoned = True

    # Its file

    def wake(self) -> None:
        """Open the file to go on with it; what it holds already is read for the digest.

        Raises:
            OSError: it cannot be opened.
        """
        with self._change:
            if self.abandoned:
                raise FileNotFoundError(errno.ENOENT, "is done away with", self.path)
            self._users += 1
            if self._users > 1:
                return
            flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | (0 if self.size else os.O_TRUNC)
            self._file = os.open(self.path, flags, 0o666)
            if self.size:
                self._follow()
                _settle_end(self._file, self.spans, self.facts.length)

    def write(self, strand: Strand, data: bytes) -> int:
        """Add bytes to a strand, and return how many; the rest is another's by now.

        Raises:
            OSError: they cannot be written; what was written before stays.
        """
        began = strand.at
        view = self._wanted(strand, memoryview(data))
        while view:
            count = os.pwrite(self._file, view, strand.at)
            with self._change:
                # If it was cut short meanwhile, the other strand will write the same once more.
                self._take_in(strand, self._wanted(strand, view[:count]))
            view = self._wanted(strand, view[count:])
        if strand.at - began < len(data):
            # What comes next of its delivery is not what comes next of the file: it ends here for
            # good, also if what is behind it becomes a gap again.
            with self._change:
                strand.asked = strand.end = strand.at
        if self.size - self._on_its_way >= _WORTH_WRITING_OUT:
            begin_to_write_out(self._file)
            self._on_its_way = self.size
        return strand.at - began

    def _wanted(self, strand: Strand, view: memoryview) -> memoryview:
        """What a strand may take of bytes; all of them at the file's end, where too many tell."""
        return view if strand.end == self.facts.length else view[: strand.left]

    def _take_in(self, strand: Strand, view: memoryview) -> None:
        """Count bytes that were written, hash them in their turn, and note where they are."""
        if strand.at == self._hashed:
            self._digest.add(view, self._file)
            self._hashed += len(view)
        strand.at += len(view)
        spans = self.spans
        if self._has_note or not spans.is_in_order:
            self._has_note = True
            self._follow()
            _leave_note(self._file, spans, self.facts.length)
        self.size += len(view)  # last, for whoever waits until it is whole

    def _follow(self) -> None:
        """Have the digest go on to where the bytes are here without a gap."""
        beginning = self.spans.beginning
        if beginning > self._hashed:
            self._hashed = beginning
            self._digest.reach(beginning, self._file)

    def rest(self) -> None:
        """Close the file for now, unless others who have woken it still write it."""
        with self._change:
            self._users -= 1
            if self._users:
                return
            try:
                self._digest.settle()
            finally:
                os.close(self._file)
                self._file = -1

    def finish(self) -> tuple[dict[str, Checksum], int]:
        """End a whole file; one that took more than a moment to come is made safe on the disk.

        Returns:
            The checksums, and the file's time stamp in nanoseconds.

        Raises:
            OSError: the disk would not take them or give them back.
        """
        with self._change:
            if self._has_note:
                os.ftruncate(self._file, self.size)
        if self.recorded:
            # The digest may lag behind; it catches up while the disk is busy.
            os.fsync(self._file)
        modified = os.fstat(self._file).st_mtime_ns
        self._digest.settle()
        return self._digest.checksums(), modified

    def record(self, offer: Offer, sealed: Arrival | None = None) -> PartRecord:
        """What the ledger must know to go on with it in a later run."""
        self.recorded = True
        return PartRecord(
            without_secrets(offer.address),
            without_secrets(self.facts.address),
            os.path.basename(self.path),
            self.facts.length,
            self.facts.validators,
            self.joining.value,
            sealed,
            boot=self._boot,
            promised=written(self.facts.checksums),
        )


class PartialStore:
    """The folder of partial files.

    Args:
        folder: where they are.
        records: what earlier runs have left, by address without secrets.
        boot: tells this start of the machine from every other; empty where nothing does.
    """

    def __init__(self, folder: Path, records: Mapping[str, PartRecord], boot: str) -> None:
        self._folder = folder
        self._records = records
        self._boot = boot

    def make_good(self) -> None:
        """Leave only what can be gone on with.

        What no record speaks of is deleted. What a program has written is there after its end,
        also after a kill; but once the machine has been started anew, only what was synced is sure
        to be, and the rest is cut off.

        Raises:
            OSError: the files cannot be changed.
        """
        wanted = {record.file for record in self._records.values()}
        for path in self._folder.iterdir():
            if path.name not in wanted and path.is_file():
                path.unlink()
        for record in self._records.values():
            path = self._folder / record.file
            in_doubt = record.sealed is None and not (self._boot and record.boot == self._boot)
            if in_doubt and path.is_file():
                _cut_to(path, Spans.read(record.synced), record.length)

    def begin(self, offer: Offer, delivery: Delivery) -> Partial:
        """Start an empty one for a delivery.

        Its name is made of the address and the version, so that bytes of two versions never meet
        in one file, whatever is interrupted when.
        """
        facts = delivery.facts
        marks = (offer.address, facts.length, facts.validators.entity_tag,
                 facts.validators.last_modified)  # fmt: skip
        name = hashlib.sha256(repr(marks).encode()).hexdigest()[:24]
        path = f"{self._folder}/{name}"
        return Partial(
            path, facts, delivery.joining, _algorithms(offer, facts), spans=Spans(), boot=self._boot
        )

    def find(self, offer: Offer) -> Partial | None:
        """The one that an earlier run left of an offer, if it can be gone on with."""
        record = self._records.get(without_secrets(offer.address)) if self._records else None
        if record is None:
            return None
        joining = Joining(record.joining)
        if joining is Joining.BLIND and not offer.checksums:
            return None  # an earlier haul had a checksum to prove the joined parts; this has none
        path = f"{self._folder}/{record.file}"
        spans = _spans_in(path, record.length)
        if spans is None:
            spans = Spans.read(record.synced)
        if not spans.total:
            return None
        promised = tuple(
            replace(read_checksum(each), origin=Origin.SERVER) for each in record.promised.split()
        )
        facts = Facts(record.final_address, record.length, record.validators, checksums=promised)
        partial = Partial(
            path, facts, joining, _algorithms(offer, facts), spans=spans, boot=self._boot
        )
        partial.recorded = True
        return partial


# What is where in the file of a partial: all up to its end, or what a note behind that end says.


def _cut_to(path: Path, spans: Spans, length: int | None) -> None:
    """Leave no more of a file than its spans."""
    with path.open("r+b") as file:
        size = os.fstat(file.fileno()).st_size
        if spans.pairs and spans.pairs[-1][1] > size:
            spans = Spans()  # it is another file than the one that was synced
        _settle_end(file.fileno(), spans, length)


def _settle_end(file: int, spans: Spans, length: int | None) -> None:
    """Have a file end so that its spans are found in it, and nothing else."""
    if spans.is_in_order:
        os.ftruncate(file, spans.total)
    else:
        _leave_note(file, spans, length)


def _leave_note(file: int, spans: Spans, length: int | None) -> None:
    assert length is not None, "only a file of known length comes in several strands"
    text = str(spans).encode()
    # The sum is for a kill in the middle of the write.
    os.pwrite(file, b"%08x %s\n" % (zlib.crc32(text), text), length)


def _spans_in(path: str, length: int | None) -> Spans | None:
    """The spans that are found in a file; None if its note is damaged."""
    size = os.path.getsize(path) if os.path.isfile(path) else 0
    if length is None or size <= length:
        return Spans.of([(0, size)])
    with open(path, "rb") as file:
        file.seek(length)
        check, _, text = file.readline().rstrip(b"\n").partition(b" ")
    return Spans.read(text.decode()) if check == b"%08x" % zlib.crc32(text) else None


def _algorithms(offer: Offer, facts: Facts) -> Iterable[str]:
    return (checksum.algorithm for checksum in (*offer.checksums, *facts.checksums))
