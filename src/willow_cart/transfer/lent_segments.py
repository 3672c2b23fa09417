"""A segment of a partial file that another process owns, fetched by this one.

The owner has the file's digest, its note of what is there, and its record. Who borrows a segment
writes the bytes of that segment, and nothing else.
"""

from __future__ import annotations

import os
from dataclasses import dataclass

from willow_cart.destination import PARTIAL, Destination
from willow_cart.model import Metadata
from willow_cart.platform import files
from willow_cart.protocols import Resumability
from willow_cart.transfer.partials import PartialFile, Segment
from willow_cart.transfer.spans import Spans


@dataclass(frozen=True, slots=True)
class LentSegment:
    """A segment that a process lends to another one.

    Attributes:
        number: tells it from others that the same process has lent.
        file: the name of the partial file.
        facts: what the place said about the whole, its address without secrets.
        start: its first byte.
        end: the byte behind its last.
    """

    number: int
    file: str
    facts: Metadata
    start: int
    end: int


class BorrowedFile(PartialFile):
    """The partial file of another process, for the segment that is fetched here.

    Args:
        destination: where both processes have it.
        lent: the segment.

    Attributes:
        segment: what is to be fetched.
    """

    def __init__(self, destination: Destination, lent: LentSegment) -> None:
        others = Spans.of([(0, lent.start), (lent.end, lent.facts.length or lent.end)])
        super().__init__(
            destination, lent.file, lent.facts, Resumability.NEVER, (), spans=others, boot=""
        )
        self.segment = Segment(self, lent.start, lent.end)
        self._strands.append(self.segment)

    def open(self) -> None:
        """Open the file; the note in it is its owner's.

        Raises:
            OSError: it is gone.
        """
        self._file = self._destination.open_for(f"{PARTIAL}/{self.name}", os.O_RDWR)

    def close(self) -> None:
        """Close the file; the owner, perhaps on another machine, can read what was written."""
        try:
            files.sync(self._file)
        finally:
            os.close(self._file)

    def _take_in(self, strand: Segment, view: memoryview) -> None:
        strand.at += len(view)
        self.size += len(view)
