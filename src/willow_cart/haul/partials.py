"""Partial files: what has come of a file so far, where no other program takes it for the file."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Mapping
from pathlib import Path

from willow_cart.access import Delivery, Joining
from willow_cart.addresses import without_secrets
from willow_cart.checks import RunningDigest
from willow_cart.haul.disk import begin_to_write_out
from willow_cart.model import Checksum, Facts, Offer
from willow_cart.records import Arrival, PartRecord

# A large file is sent to the disk in pieces of so many bytes while it comes; left to its end, the
# sync of a gigabyte took a third as long again as receiving it.
_WORTH_WRITING_OUT = 16 << 20


class Partial:
    """The bytes of one version of one file that have come so far.

    Between attempts it rests: the file is closed, and the digest keeps its state.

    Attributes:
        path: where the bytes are.
        facts: what the place said about the whole.
        joining: whether the rest can be joined to them later.
        size: how many there are.
        recorded: whether the ledger knows of them.
    """

    def __init__(
        self, path: str, facts: Facts, joining: Joining, algorithms: Iterable[str], size: int
    ) -> None:
        self.path = path
        self.facts = facts
        self.joining = joining
        self.size = size
        self.recorded = False
        self._digest = RunningDigest(algorithms)
        self._file = -1
        self._on_its_way = size

    @property
    def is_whole(self) -> bool:
        """Whether all has come, as far as the place said how much that is."""
        return self.size == self.facts.length

    def wake(self) -> None:
        """Open the file to go on with it; what it holds already is read for the digest.

        Raises:
            OSError: it cannot be opened.
        """
        flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | (0 if self.size else os.O_TRUNC)
        self._file = os.open(self.path, flags, 0o666)
        if self.size:
            # After a lost connection the count is right; after a crash it was taken from the file.
            os.lseek(self._file, self.size, os.SEEK_SET)
            self._digest.reach(self.size, self._file)

    def write(self, data: bytes) -> None:
        """Add bytes at the end.

        Raises:
            OSError: they cannot be written; what was written before stays.
        """
        view = memoryview(data)
        while view:
            count = os.write(self._file, view)
            self._digest.add(view[:count], self._file)
            self.size += count
            view = view[count:]
        if self.size - self._on_its_way >= _WORTH_WRITING_OUT:
            begin_to_write_out(self._file, self._on_its_way, self.size)
            self._on_its_way = self.size

    def rest(self) -> None:
        """Close the file for now."""
        if self._file >= 0:
            try:
                self._digest.settle()
            finally:
                os.close(self._file)
                self._file = -1

    def finish(self) -> tuple[dict[str, Checksum], int]:
        """Close a whole file; one that took more than a moment to come is made safe on the disk.

        Returns:
            The checksums, and the file's time stamp in nanoseconds.

        Raises:
            OSError: the disk would not take them or give them back.
        """
        if self.recorded:
            # The digest may lag behind; it catches up while the disk is busy.
            os.fsync(self._file)
        modified = os.fstat(self._file).st_mtime_ns
        self.rest()
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
        )


class PartialStore:
    """The folder of partial files.

    Args:
        folder: where they are.
        records: what earlier runs have left, by address without secrets.
    """

    def __init__(self, folder: Path, records: Mapping[str, PartRecord]) -> None:
        self._folder = folder
        self._records = records

    def begin(self, offer: Offer, delivery: Delivery) -> Partial:
        """Start an empty one for a delivery.

        Its name is made of the address and the version, so that bytes of two versions never meet
        in one file, whatever is interrupted when.
        """
        facts = delivery.facts
        marks = (offer.address, facts.length, facts.validators.entity_tag,
                 facts.validators.last_modified)  # fmt: skip
        name = hashlib.sha256(repr(marks).encode()).hexdigest()[:24]
        return Partial(f"{self._folder}/{name}", facts, delivery.joining, _algorithms(offer), 0)

    def find(self, offer: Offer) -> Partial | None:
        """The one that an earlier run left of an offer, if it can be gone on with."""
        record = self._records.get(without_secrets(offer.address)) if self._records else None
        if record is None:
            return None
        joining = Joining(record.joining)
        if joining is Joining.BLIND and not offer.checksums:
            return None  # an earlier haul had a checksum to prove the joined parts; this has none
        path = f"{self._folder}/{record.file}"
        size = os.path.getsize(path) if os.path.isfile(path) else 0
        if not size or (record.length is not None and size > record.length):
            return None
        facts = Facts(record.final_address, record.length, record.validators)
        partial = Partial(path, facts, joining, _algorithms(offer), size)
        partial.recorded = True
        return partial

    def sweep(self) -> None:
        """Delete what no record speaks of: it can never be gone on with."""
        wanted = {record.file for record in self._records.values()}
        for path in self._folder.iterdir():
            if path.name not in wanted and path.is_file():
                path.unlink()


def _algorithms(offer: Offer) -> Iterable[str]:
    return (checksum.algorithm for checksum in offer.checksums)
