"""Store which bytes of a partial file exist: all up to its end, or those in a note behind it."""

from __future__ import annotations

import os
import zlib

from willow_cart.platform import files
from willow_cart.transfer.spans import Spans

# More than any note has.
_MAX_NOTE_BYTES = 1 << 20


def cut_to(file: int, spans: Spans, length: int | None) -> None:
    """Truncate a file to its ranges."""
    size = os.fstat(file).st_size
    if spans.pairs and spans.pairs[-1][1] > size:
        spans = Spans()  # it is another file than the one that was synced
    settle_end(file, spans, length)


def settle_end(file: int, spans: Spans, length: int | None) -> None:
    """Make a file end so that its ranges can be found."""
    if spans.is_in_order:
        os.ftruncate(file, spans.total)
    else:
        leave_note(file, spans, length)


def leave_note(file: int, spans: Spans, length: int | None) -> None:
    """Write the existing ranges behind the file's future end."""
    assert length is not None, "only a file of known length comes in several strands"
    text = str(spans).encode()
    # The sum is for a kill in the middle of the write.
    files.write_at(file, b"%08x %s\n" % (zlib.crc32(text), text), length)


def spans_in(file: int, length: int | None) -> Spans | None:
    """Return the ranges in a file; None if its note is damaged."""
    size = os.fstat(file).st_size
    if length is None or size <= length:
        return Spans.of([(0, size)])
    line = files.read_at(file, min(size - length, _MAX_NOTE_BYTES), length).partition(b"\n")[0]
    check, _, text = line.partition(b" ")
    if check != b"%08x" % zlib.crc32(text):
        return None
    try:
        spans = Spans.read(text.decode("ascii"))
    except ValueError:
        return None
    return spans if spans.fits(length) else None
