"""Check the content of files, as far as their format can be read here."""

from __future__ import annotations

import csv
import io
import json
import os
from collections.abc import Callable, Mapping
from contextlib import ExitStack, closing
from typing import BinaryIO

from willow_cart.archives.extract import open_members
from willow_cart.archives.reader import Bounds, Damaged, Member, MemberSort, Outflow
from willow_cart.checks.media_lengths import (
    Unsound,
    check_aiff,
    check_au,
    check_boxes,
    check_ogg,
    check_pdf,
    check_riff,
)
from willow_cart.checks.soft_failures import INSPECTED_BYTES, looks_like_page, may_be_page
from willow_cart.errors import NotUnpacked, WillowCartError
from willow_cart.kinds import extension_of

_CHUNK_BYTES = 1 << 20

# JSON is read whole; what is larger is not opened.
_MAX_DOCUMENT_BYTES = 256 << 20


def inspect(
    file: BinaryIO,
    name: str,
    bounds: Bounds | None = None,
    read: Callable[[int], None] = lambda _: None,
) -> str:
    """Read and check a whole file.

    Args:
        file: open at its beginning.
        name: its name, which shows its kind.
        bounds: how far an archive may swell; None for `Bounds()`.
        read: called with the number of bytes unpacked; may raise to stop.

    Returns:
        The problem, as a clause; empty if it is sound, or of a kind that is not opened.

    Raises:
        OSError: the disk would not give it back.
    """
    if not may_be_page(name) and looks_like_page(file.read(INSPECTED_BYTES)):
        return "it is a web page, which does not match its name"
    file.seek(0)
    extension = extension_of(name)
    try:
        if extension in _ARCHIVES:
            size = os.fstat(file.fileno()).st_size
            _read_archive(file, name, Outflow(name, size, bounds or Bounds(), read))
        elif (look := _BY_EXTENSION.get(extension)) is not None:
            look(file)
    except (Unsound, Damaged) as error:
        return str(error)
    except NotUnpacked as error:
        return f"it {error.reason}"
    except RecursionError:
        return "it cannot be read: it is nested too deeply"
    except (csv.Error, ValueError) as error:
        return f"it cannot be read: {str(error).rstrip('.').lower()}"
    except (OSError, WillowCartError):
        raise
    except Exception as error:  # libraries raise any exception on bad data
        return f"it cannot be read: {type(error).__name__}"
    return ""


def _read_archive(file: BinaryIO, name: str, outflow: Outflow) -> None:
    """Read every member of an archive, or the content of a compressed file, and discard it."""
    with ExitStack() as stack:
        members, is_single = open_members(file, name, outflow, None, stack)
        stack.enter_context(closing(members))
        for member in members:
            if member.sort is MemberSort.FILE and not member.is_encrypted:
                _read_member(member, is_single=is_single)


def _read_member(member: Member, *, is_single: bool) -> None:
    try:
        source = member.open()
        while source.read(_CHUNK_BYTES):
            pass
    except Damaged as error:
        if error.is_unknown:
            return  # packed in a way that is not known here
        if is_single:
            raise
        raise Unsound(f"{member.name} in it is damaged: {error}") from None


def _ends(beginning: bytes, end: bytes, what: str) -> Callable[[BinaryIO], None]:
    """Return a check for formats that have an end marker."""

    def look(file: BinaryIO) -> None:
        if file.read(len(beginning)) != beginning:
            raise Unsound(f"it does not start like {what}")
        file.seek(max(0, os.fstat(file.fileno()).st_size - 4096))
        # Cameras and programs put more after the end.
        if end not in file.read():
            raise Unsound(f"the end of {what} is missing")

    return look


def _table(file: BinaryIO) -> None:
    beginning = file.read(INSPECTED_BYTES)
    file.seek(0)
    is_wide = beginning.startswith((b"\xff\xfe", b"\xfe\xff"))
    if b"\0" in beginning and not is_wide:
        raise Unsound("it contains bytes that are not text")
    csv.field_size_limit(_MAX_DOCUMENT_BYTES)  # outlines of lakes are longer than the usual limit
    encoding = "utf-16" if is_wide else "utf-8-sig"
    text = io.TextIOWrapper(file, encoding, errors="surrogateescape", newline="")
    try:
        delimiter = "\t" if "\t" in text.readline(_CHUNK_BYTES) else ","
        text.seek(0)
        for _ in csv.reader(text, strict=True, delimiter=delimiter):
            pass
    finally:
        text.detach()


def _document(file: BinaryIO) -> None:
    if os.fstat(file.fileno()).st_size <= _MAX_DOCUMENT_BYTES:
        json.load(file)


def _documents(file: BinaryIO) -> None:
    number = 0
    while line := file.readline(_MAX_DOCUMENT_BYTES):
        number += 1
        try:
            if line.strip():
                json.loads(line)
        except (ValueError, RecursionError) as error:
            why = "nested too deeply" if isinstance(error, RecursionError) else error
            raise Unsound(f"line {number} cannot be read: {why}") from None


_PNG = _ends(b"\x89PNG\r\n\x1a\n", b"IEND\xaeB`\x82", "a PNG image")  # PNG, 5.2 and 11.2.5
_JPEG = _ends(b"\xff\xd8", b"\xff\xd9", "a JPEG image")  # ITU-T T.81, B.2.1

_ARCHIVES = frozenset({
    "zip", "xlsx", "docx", "ods", "kmz", "npz", "tar", "tar.gz", "tgz", "tar.bz2", "tbz2",
    "tar.xz", "txz", "tar.zst", "gz", "bz2", "xz", "zst",
})  # fmt: skip
_BY_EXTENSION: Mapping[str, Callable[[BinaryIO], None]] = {
    "png": _PNG, "jpg": _JPEG, "jpeg": _JPEG,
    **dict.fromkeys(("wav", "avi", "webp"), check_riff),
    **dict.fromkeys(("aif", "aiff"), check_aiff),
    "au": check_au,
    **dict.fromkeys(("mp4", "m4v", "mov", "m4a", "heic", "avif"), check_boxes),
    **dict.fromkeys(("ogg", "oga", "ogv", "opus"), check_ogg),
    "pdf": check_pdf,
    "csv": _table, "tsv": _table,
    "json": _document, "geojson": _document, "jsonl": _documents, "ndjson": _documents,
}  # fmt: skip
