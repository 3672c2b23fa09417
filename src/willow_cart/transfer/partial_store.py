"""The partial files of a destination, from earlier runs and new ones."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress

from willow_cart.checks.digests import read_checksum
from willow_cart.destination import PARTIAL, Destination
from willow_cart.identity import AddressId, LedgerKey
from willow_cart.ledger.entries import PartRecord
from willow_cart.model import Metadata, Offer, Origin
from willow_cart.protocols import Download, Resumability
from willow_cart.structs import replace
from willow_cart.transfer.commit import Mark
from willow_cart.transfer.partials import HINT, PartialFile
from willow_cart.transfer.spans import (
    VOUCHED,
    Piece,
    Spans,
    cut_to,
    delete_note,
    spans_in,
    vouched_in,
)

# What has arrived is synced at this interval, so that a power cut loses no more.
_CHECKPOINT_SECONDS = 10.0


class PartialStore:
    """The partial files of a destination.

    Args:
        destination: where they are.
        records: what earlier runs have left, by the keys of addresses.
        boot: tells this start of the machine from every other; empty where nothing does.
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
        also after a kill; but once the machine has been started anew, only what was synced is sure
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
