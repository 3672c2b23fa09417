"""Check that sounds, films and documents are as long as their headers say."""

from __future__ import annotations

import logging
import os
import struct
from collections.abc import Iterator
from typing import BinaryIO


class Unsound(Exception):
    """Damage inside a file; the text describes it."""


# Where a writer could not go back to fill in a length, it leaves one of these.
_UNKNOWN_LENGTHS = frozenset({0, 0xFFFFFFFF})

_OGG_PAGE = struct.Struct("<4sBB20xB")  # RFC 3533, 6
_OGG_LAST_PAGE = 4
_OGG_MAX_PAGE_BYTES = 65_307

_PDF_END_BYTES = 2048


def check_riff(file: BinaryIO) -> None:
    """Check a file of the Resource Interchange File Format: WAV, AVI, WebP.

    Raises:
        Unsound: it is not a RIFF file, or is cut off.
    """
    head = file.read(12)
    if head[:4] not in (b"RIFF", b"RF64", b"BW64"):
        raise Unsound("it does not start like a RIFF file")
    _require_length(file, int.from_bytes(head[4:8], "little"), 8)


def check_aiff(file: BinaryIO) -> None:
    """Check an AIFF recording (EA IFF 85).

    Raises:
        Unsound: it is not an AIFF file, or is cut off.
    """
    head = file.read(12)
    if head[:4] != b"FORM" or head[8:12] not in (b"AIFF", b"AIFC"):
        raise Unsound("it does not start like an AIFF file")
    _require_length(file, int.from_bytes(head[4:8], "big"), 8)


def check_au(file: BinaryIO) -> None:
    """Check an AU recording.

    Raises:
        Unsound: it is not an AU file, or is cut off.
    """
    head = file.read(12)
    if head[:4] != b".snd" or len(head) < 12:
        raise Unsound("it does not start like an AU file")
    offset = int.from_bytes(head[4:8], "big")
    _require_length(file, int.from_bytes(head[8:12], "big"), offset)


def check_boxes(file: BinaryIO) -> None:
    """Check a film or a recording of boxes (ISO/IEC 14496-12): MP4, MOV, M4A, HEIC, AVIF.

    Raises:
        Unsound: it has no boxes, the last is cut off, or the one with the description is missing.
    """
    length = _length_of(file)
    kinds = set()
    for kind, end in _boxes(file, length):
        if end > length:
            raise Unsound(f"it ends too soon: its last part needs {end - length:,} bytes more")
        kinds.add(kind)
    if not kinds & {b"ftyp", b"moov", b"mdat"}:
        raise Unsound("it has none of the parts of such a file")
    if b"mdat" in kinds and not kinds & {b"moov", b"moof", b"meta"}:
        raise Unsound("the part that describes it is missing")


def _boxes(file: BinaryIO, length: int) -> Iterator[tuple[bytes, int]]:
    """Yield the kinds of the outermost boxes, and where they end."""
    at = 0
    while at < length:
        file.seek(at)
        head = file.read(16)
        if len(head) < 8:
            raise Unsound("it ends too soon: its last part has no header")
        size, kind = struct.unpack_from(">I4s", head)
        if size == 1 and len(head) == 16:
            (size,) = struct.unpack_from(">Q", head, 8)
        elif size == 0:  # it reaches to the end
            size = length - at
        if size < 8:
            raise Unsound("its parts have impossible lengths")
        yield kind, at + size
        at += size


def check_ogg(file: BinaryIO) -> None:
    """Check an Ogg file (RFC 3533): Vorbis, Opus, Theora.

    Raises:
        Unsound: it is not an Ogg file, or its last page is cut off or missing.
    """
    if file.read(4) != b"OggS":
        raise Unsound("it does not start like an Ogg file")
    length = _length_of(file)
    start = max(0, length - 2 * _OGG_MAX_PAGE_BYTES)
    file.seek(start)
    tail = file.read()
    last = tail.rfind(b"OggS")
    if last < 0 or len(tail) < last + _OGG_PAGE.size:
        raise Unsound("its last page is cut off")
    _, _, flags, segments = _OGG_PAGE.unpack_from(tail, last)
    table = tail[last + _OGG_PAGE.size : last + _OGG_PAGE.size + segments]
    if last + _OGG_PAGE.size + segments + sum(table) > len(tail) or len(table) < segments:
        raise Unsound("its last page is cut off")
    if not flags & _OGG_LAST_PAGE:
        raise Unsound("its last page is missing")


def check_pdf(file: BinaryIO) -> None:
    """Check a PDF document (ISO 32000, 7.5).

    Raises:
        Unsound: it is not a PDF document, its end is missing, or its pages cannot be found.
    """
    if not file.read(1024).lstrip().startswith(b"%PDF-"):
        raise Unsound("it does not start like a PDF document")
    file.seek(max(0, _length_of(file) - _PDF_END_BYTES))
    if b"%%EOF" not in file.read():
        raise Unsound("the end of a PDF document is missing")
    from pypdf import PdfReader  # slow to import
    from pypdf.errors import PyPdfError

    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    file.seek(0)
    try:
        reader = PdfReader(file)
        if not reader.is_encrypted:
            len(reader.pages)
    except PyPdfError as error:
        raise Unsound(f"its pages cannot be found: {str(error).rstrip('.').lower()}") from None


def _length_of(file: BinaryIO) -> int:
    return os.fstat(file.fileno()).st_size


def _require_length(file: BinaryIO, size: int, header: int) -> None:
    """Require that a file has as many bytes as its header says; more do no harm.

    Raises:
        Unsound: it has fewer.
    """
    length = _length_of(file)
    if size not in _UNKNOWN_LENGTHS and length < header + size:
        raise Unsound(f"it ends too soon: {length:,} of {header + size:,} bytes")
