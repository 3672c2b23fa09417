"""Inspection: whether a file is sound inside, as far as its kind can be opened here."""

from __future__ import annotations

import bz2
import csv
import gzip
import json
import lzma
import os
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from typing import BinaryIO, Protocol

from willow_cart.checks.soft_failures import BEGINNING, looks_like_page, may_be_page
from willow_cart.kinds import extension_of

_PIECE = 1 << 20

# What is packed is read on to so many times its size; what goes beyond is meant to do harm.
_MOST_SWELLING = 1000
_LITTLE = 1 << 30

# JSON is read whole; what is larger is not opened.
_LARGEST_DOCUMENT = 256 << 20


_NOT_UNPACKED = (zipfile.BadZipFile, tarfile.TarError, lzma.LZMAError, zlib.error, OSError)


class _Reader(Protocol):
    def read(self, size: int, /) -> bytes:
        """Read up to so many bytes."""


class _Unsound(Exception):
    """Something is wrong inside; the text says what."""


def inspect(path: str, name: str) -> str:
    """Open a file and read it through.

    Args:
        path: where it lies.
        name: what it is called, by which its kind is known.

    Returns:
        What is wrong with it, as a clause; empty if it is sound, or of a kind that is not opened.

    Raises:
        OSError: the disk would not give it back.
    """
    with open(path, "rb") as file:
        if not may_be_page(name) and looks_like_page(file.read(BEGINNING)):
            return "it is a page, and not what its name says"
    look = _BY_EXTENSION.get(extension_of(name))
    if look is None:
        return ""
    try:
        look(path)
    except _Unsound as error:
        return str(error)
    except EOFError:
        return "it ends too soon"
    except _NOT_UNPACKED as error:
        if isinstance(error, OSError) and error.errno is not None:
            raise  # the disk says so; what the modules say of bad data has no number
        return f"it cannot be unpacked: {str(error).rstrip('.').lower()}"
    except (csv.Error, ValueError) as error:
        return f"it cannot be read: {str(error).rstrip('.').lower()}"
    return ""


def _drain(reader: _Reader, size: int) -> None:
    """Read to the end, and keep nothing."""
    total = 0
    while piece := reader.read(_PIECE):
        total += len(piece)
        if total > max(_LITTLE, _MOST_SWELLING * size):
            raise _Unsound(f"it swells to more than {_MOST_SWELLING} times its size")


def _zip(path: str) -> None:
    size = os.path.getsize(path)
    with zipfile.ZipFile(path) as archive:
        for member in archive.infolist():
            if member.flag_bits & 1:
                continue  # encrypted, and nobody has the key here
            try:
                with archive.open(member) as file:
                    _drain(file, size)
            except zipfile.BadZipFile:
                raise _Unsound(f"{member.filename} in it is damaged") from None
            except NotImplementedError:
                continue  # packed in a way that is not known here


def _tar(path: str) -> None:
    size = os.path.getsize(path)
    with tarfile.open(path, "r|*") as archive:
        for member in archive:
            if member.isfile() and (file := archive.extractfile(member)) is not None:
                _drain(file, size)


def _packed(opened: Callable[[str], BinaryIO]) -> Callable[[str], None]:
    def look(path: str) -> None:
        with opened(path) as file:
            _drain(file, os.path.getsize(path))

    return look


def _ends(beginning: bytes, end: bytes, what: str) -> Callable[[str], None]:
    """For kinds that say at their end that it is one."""

    def look(path: str) -> None:
        with open(path, "rb") as file:
            if file.read(len(beginning)) != beginning:
                raise _Unsound(f"it does not begin as {what} does")
            file.seek(max(0, os.path.getsize(path) - 4096))
            # Cameras and programs put more behind the end.
            if end not in file.read():
                raise _Unsound(f"it lacks the end of {what}")

    return look


def _table(path: str) -> None:
    with open(path, "rb") as file:
        beginning = file.read(BEGINNING)
    is_wide = beginning.startswith((b"\xff\xfe", b"\xfe\xff"))
    if b"\0" in beginning and not is_wide:
        raise _Unsound("it holds bytes that are no text")
    csv.field_size_limit(_LARGEST_DOCUMENT)  # outlines of lakes are longer than the usual limit
    encoding = "utf-16" if is_wide else "utf-8-sig"
    with open(path, encoding=encoding, errors="surrogateescape", newline="") as text:
        delimiter = "\t" if "\t" in text.readline() else ","
        text.seek(0)
        for _ in csv.reader(text, strict=True, delimiter=delimiter):
            pass


def _document(path: str) -> None:
    if os.path.getsize(path) <= _LARGEST_DOCUMENT:
        with open(path, "rb") as file:
            json.load(file)


def _documents(path: str) -> None:
    for number, line in enumerate(_lines(path), 1):
        try:
            if line.strip():
                json.loads(line)
        except ValueError as error:
            raise _Unsound(f"line {number} cannot be read: {error}") from None


def _lines(path: str) -> Iterator[bytes]:
    with open(path, "rb") as file:
        yield from file


_PNG = _ends(b"\x89PNG\r\n\x1a\n", b"IEND\xaeB`\x82", "a PNG picture")  # PNG, 5.2 and 11.2.5
_JPEG = _ends(b"\xff\xd8", b"\xff\xd9", "a JPEG picture")  # ITU-T T.81, B.2.1

_BY_EXTENSION: Mapping[str, Callable[[str], None]] = {
    "zip": _zip, "xlsx": _zip, "docx": _zip, "ods": _zip, "kmz": _zip, "npz": _zip,
    "tar": _tar, "tar.gz": _tar, "tgz": _tar, "tar.bz2": _tar, "tbz2": _tar, "tar.xz": _tar,
    "txz": _tar,
    "gz": _packed(gzip.open),  # type: ignore[arg-type]
    "bz2": _packed(bz2.open),  # type: ignore[arg-type]
    "xz": _packed(lzma.open),  # type: ignore[arg-type]
    "png": _PNG, "jpg": _JPEG, "jpeg": _JPEG,
    "csv": _table, "tsv": _table,
    "json": _document, "geojson": _document, "jsonl": _documents, "ndjson": _documents,
}  # fmt: skip
