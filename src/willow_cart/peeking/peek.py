"""Inspect a remote file: fetch its beginning, and other parts that its format needs."""

from __future__ import annotations

import csv
import io
import logging
import struct
import tarfile
import warnings
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from functools import partial
from io import BytesIO
from itertools import islice
from typing import BinaryIO, cast
from zipfile import ZipFile

from willow_cart.addresses import file_name_in
from willow_cart.archives.reader import Damaged, LimitedReader, reading
from willow_cart.archives.tars import is_tar, open_packed, packing_of
from willow_cart.archives.zips import is_encrypted, moment_of_member, path_of_member
from willow_cart.checks.soft_failures import looks_like_page, title_of
from willow_cart.errors import NoParts, TransferFailed
from willow_cart.kinds import begins_like, extension_of, kind_of, stem_of
from willow_cart.outside_values import moment_at
from willow_cart.peeking.content import Content, Fact, Look, PeekedColumn, Sample, Unreadable
from willow_cart.peeking.data_files import (
    look_at_hdf5,
    look_at_netcdf,
    look_at_parquet,
    look_at_workbook,
)
from willow_cart.peeking.json_texts import look_at_json, looks_like_json
from willow_cart.protocols.base import Access
from willow_cart.protocols.http.http_rules import parse_date
from willow_cart.protocols.remote_file import RemoteFile, read_beginning
from willow_cart.structs import Value, replace
from willow_cart.tables.column_types import TableColumn, strings
from willow_cart.tables.combined import Type
from willow_cart.tables.dialect import (
    Dialect,
    dialect_of,
    encoding_label,
    encoding_of,
    lines_before_table,
    looks_like_table,
)
from willow_cart.tables.table_files import unique_names
from willow_cart.units import format_duration, format_size
from willow_cart.workbooks import EXTENSIONS

_TABLES = frozenset({"csv", "tsv", "tab"})

# A line that is longer is shown with its beginning.
_MAX_LINE_CHARACTERS = 500


def look_at_text(sample: Sample, rows: int) -> Content:
    """Tell what a text is: a table, a web page, or lines."""
    beginning = _whole_lines(sample)
    extension = extension_of(sample.name)
    if looks_like_page(beginning):
        facts: dict[str, Fact] = {"title": title_of(beginning)} if title_of(beginning) else {}
        return Content("web page", facts, notes=["survey lists the files that it links to"])
    if extension in _TABLES or sample.skip_lines or looks_like_table(beginning):
        return _table(sample, beginning, rows)
    return _lines(sample, beginning, rows)


def _whole_lines(sample: Sample) -> bytes:
    """Return the beginning up to the end of its last whole line."""
    if sample.is_whole:
        return sample.beginning
    end = sample.beginning.rfind(b"\n") + 1
    return sample.beginning[:end] or sample.beginning


def _table(sample: Sample, beginning: bytes, rows: int) -> Content:
    dialect = dialect_of(beginning, sample.skip_lines)
    text = beginning.decode(dialect.encoding, "replace")
    lines = text.splitlines(keepends=True)[sample.skip_lines :]
    reader = _rows_of(lines, dialect)
    header = next(reader, None)
    if header is None:
        return Content("empty table")
    try:
        names = unique_names(header)
    except ValueError as error:
        raise Unreadable(str(error)) from None
    body = [(row + [""] * len(names))[: len(names)] for row in reader]
    first = lines[0].encode(dialect.encoding, "replace")
    facts: dict[str, Fact] = {
        "format": str(dialect),
        "columns": len(names),
        **_count_of("rows", sample, len(body), len(beginning) - len(first)),
    }
    cells = zip(*body, strict=True) if body else [()] * len(names)
    columns = [
        PeekedColumn(name, _type_of(column, dialect))
        for name, column in zip(names, cells, strict=True)
    ]
    return Content("table", facts, columns, body[:rows], "row", _doubts(sample, beginning))


def _doubts(sample: Sample, beginning: bytes) -> list[str]:
    """Return a note if the table seems to begin after some lines."""
    skip = 0 if sample.skip_lines else lines_before_table(beginning)
    if not skip:
        return []
    lines = "first line does" if skip == 1 else f"first {skip} lines do"
    return [f"the {lines} not look like part of the table; --skip-lines {skip} skips them"]


_DATE_CHARACTERS = len("2031-05-01")


def _rows_of(lines: Sequence[str], dialect: Dialect) -> Iterator[list[str]]:
    """Yield the rows that are not empty, up to one that cannot be read."""
    try:
        for row in csv.reader(lines, delimiter=dialect.delimiter):
            if any(row):
                yield row
    except csv.Error:
        return  # a cell that is cut in two, or one as long as no table has


def _type_of(cells: Sequence[str], dialect: Dialect) -> str:
    column = TableColumn(dialect.decimal)
    column.look_at(strings(cells))
    if column.type is Type.TIME and all(len(cell) == _DATE_CHARACTERS for cell in cells if cell):
        return "date"
    return str(column.type)


def _count_of(what: str, sample: Sample, count: int, bytes_of_all: int) -> dict[str, Fact]:
    """Return the number of rows or lines, or an estimate by the length of those that are here."""
    if sample.is_whole:
        return {what: count}
    if sample.length is None or not count:
        return {}
    each = max(1.0, bytes_of_all / count)
    return {f"{what} (estimated)": round(sample.length / each)}


def _lines(sample: Sample, beginning: bytes, rows: int) -> Content:
    encoding = encoding_of(beginning)
    lines = beginning.decode(encoding, "replace").splitlines()
    count = _count_of("lines", sample, len(lines), len(beginning))
    shown = [[line[:_MAX_LINE_CHARACTERS]] for line in islice(lines, rows)]
    return Content(
        "text",
        {"encoding": encoding_label(encoding), **count},
        [PeekedColumn("line")],
        shown,
        "line",
    )


_AU_HEADER = struct.Struct(">4s5I")
_AU_ENCODINGS = {
    1: ("8-bit mu-law", 1), 2: ("8-bit PCM", 1), 3: ("16-bit PCM", 2), 4: ("24-bit PCM", 3),
    5: ("32-bit PCM", 4), 6: ("32-bit float", 4), 7: ("64-bit float", 8),
}  # fmt: skip


def look_at_picture(sample: Sample, _rows: int) -> Content:
    """Tell the format and the size of a picture, from its header.

    Raises:
        Unreadable: it cannot be read.
    """
    from PIL import Image, UnidentifiedImageError

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # nothing is decoded, so that large pictures do no harm
        try:
            with Image.open(io.BytesIO(sample.beginning)) as picture:
                width, height = picture.size
                form, mode = picture.format or "", picture.mode
        except UnidentifiedImageError:
            raise Unreadable("it is not a picture that can be read") from None
        except (OSError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
            raise Unreadable(str(error).lower()) from None
    facts: dict[str, Fact] = {"format": form, "width": width, "height": height, "colours": mode}
    return Content("picture", facts)


def look_at_pdf(sample: Sample, _rows: int) -> Content:
    """Tell the pages and the title of a PDF document (ISO 32000).

    Raises:
        Unreadable: it cannot be read.
    """
    from pypdf import PdfReader
    from pypdf.errors import PyPdfError

    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    try:
        reader = PdfReader(sample.file())
        if reader.is_encrypted and not reader.decrypt(""):
            return Content("PDF document", notes=["it is encrypted"])
        facts: dict[str, Fact] = {"pages": len(reader.pages)}
        if reader.metadata is not None and reader.metadata.title:
            facts["title"] = str(reader.metadata.title)
    except (PyPdfError, ValueError, KeyError, TypeError, RecursionError) as error:
        raise Unreadable(f"it is not a readable PDF document: {error}") from None
    return Content("PDF document", facts)


def look_at_sound(sample: Sample, _rows: int) -> Content:
    """Tell the format and the duration of a recording or a film, from its headers.

    Raises:
        Unreadable: it cannot be read.
    """
    if sample.beginning.startswith(b".snd"):
        return _look_at_au(sample)
    from tinytag import TinyTag, TinyTagException

    try:
        tag = TinyTag.get(sample.name, file_obj=io.BufferedReader(sample.file()))  # type: ignore[type-var]
    except (TinyTagException, struct.error, ValueError, IndexError, KeyError) as error:
        raise Unreadable(f"its headers cannot be read: {error}") from None
    facts: dict[str, Fact] = {"format": extension_of(sample.name).upper()}
    if tag.duration:
        facts |= _duration(tag.duration)
    if tag.samplerate:
        facts["samples a second"] = tag.samplerate
    if tag.channels:
        facts["channels"] = tag.channels
    if tag.title:
        facts["title"] = tag.title
    return Content("recording", facts)


def _duration(seconds: float) -> dict[str, Fact]:
    """Return a duration in seconds, and in minutes and hours where it has any."""
    facts: dict[str, Fact] = {"seconds": round(seconds, 2)}
    return facts if seconds < 60 else {"duration": format_duration(seconds), **facts}


def _look_at_au(sample: Sample) -> Content:
    """Return the duration of an AU recording, whose header has 24 bytes."""
    if len(sample.beginning) < _AU_HEADER.size:
        raise Unreadable("its header is cut off")
    _, offset, size, encoding, rate, channels = _AU_HEADER.unpack_from(sample.beginning)
    name, width = _AU_ENCODINGS.get(encoding, (f"encoding {encoding}", 0))
    facts: dict[str, Fact] = {"format": f"AU, {name}"}
    if size == 0xFFFFFFFF and sample.length is not None:
        size = sample.length - offset
    if width and rate and channels and size != 0xFFFFFFFF:
        facts |= _duration(size / (width * rate * channels))
    return Content("recording", {**facts, "samples a second": rate, "channels": channels})


_COLUMNS = (PeekedColumn("member"), PeekedColumn("size", "bytes"), PeekedColumn("modified", "time"))


def look_at_zip(sample: Sample, rows: int) -> Content:
    """List the members of a zip archive (APPNOTE 6.3), from its directory.

    Raises:
        Unreadable: it cannot be read.
    """
    try:
        with reading(), ZipFile(LimitedReader(sample.file())) as archive:
            infos = [info for info in archive.infolist() if not info.is_dir()]
    except Damaged as error:
        raise Unreadable(str(error)) from None
    facts: dict[str, Fact] = {
        "members": len(infos),
        "unpacked": format_size(sum(info.file_size for info in infos)),
    }
    if encrypted := sum(map(is_encrypted, infos)):
        facts["encrypted"] = encrypted
    listed = [
        [path_of_member(info), str(info.file_size), _moment(moment_of_member(info))]
        for info in infos[:rows]
    ]
    return Content("zip archive", facts, _COLUMNS, listed, "member")


def look_at_tar(sample: Sample, rows: int) -> Content:
    """List the first members of a tar archive, which has no directory.

    Raises:
        Unreadable: not even the first can be read.
    """
    members = _members_of(sample)
    listed = [*islice(members, rows)]
    if not listed and not sample.is_whole:
        raise Unreadable("its first member cannot be read")
    facts: dict[str, Fact] = {}
    notes: list[str] = []
    if sample.is_whole:
        facts["members"] = len(listed) + sum(1 for _ in members)
    else:
        notes.append("a tar archive has no list of its members; these are the first")
    return Content("tar archive", facts, _COLUMNS, listed, "member", notes)


def _members_of(sample: Sample) -> Iterator[list[str]]:
    """Yield the files in a tar archive, up to one that is cut in two."""
    try:
        with reading(), tarfile.open(fileobj=io.BytesIO(sample.beginning), mode="r:") as archive:
            for info in archive:
                if not info.isdir():
                    modified = moment_at(info.mtime) if info.mtime else None
                    yield [info.name, str(info.size), _moment(modified)]
    except Damaged:
        return  # the rest has not been fetched


def _moment(moment: datetime | None) -> str:
    return f"{moment:%Y-%m-%d %H:%M:%S}" if moment else ""


# Some hundred rows of a usual table, and more than the headers of most formats.
_BEGINNING_BYTES = 64 << 10

# Directories and footers are shorter; what needs more is better hauled.
_MAX_FETCHED_BYTES = 4 << 20

# Where the directory of a zip archive or the footer of a Parquet file begins, nearly always.
_TAIL_BYTES = 64 << 10

# What is unpacked of a compressed file.
_MAX_UNPACKED_BYTES = 1 << 20
_UNPACKED_AT_A_TIME = 16 << 10

# What is shown of a file of an unknown kind.
_SHOWN_BYTES = 16

_PACKINGS = {"gz": "gzip", "bz2": "bzip2", "xz": "xz", "zst": "Zstandard"}


class Peeked(Value):
    """The content of a file, and the bytes fetched for it.

    Attributes:
        size: in bytes; None for unknown.
        modified: when it was changed last; None if the server does not state it.
        media_type: from the server; empty for none.
        fetched: how many of its bytes were fetched.
    """

    address: str
    name: str
    size: int | None
    modified: datetime | None
    media_type: str
    content: Content
    fetched: int


def peek(access: Access, address: str, rows: int, skip_lines: int = 0) -> Peeked:
    """Look into a file.

    Args:
        access: client for all protocols.
        rows: how many rows, records or members are wanted.
        skip_lines: the number of lines before the header of a table.

    Raises:
        TransferFailed: its beginning could not be fetched.
    """
    facts, beginning = access.retrier.run(
        partial(read_beginning, access, address, _BEGINNING_BYTES)
    )
    length = facts.length
    if len(beginning) < _BEGINNING_BYTES and (length is None or facts.coding):
        length = len(beginning)  # it has come to its end
    file = None
    if length is not None and not facts.coding:
        file = RemoteFile(
            access, address, facts, length,
            tail_bytes=_TAIL_BYTES, beginning=beginning, most=_MAX_FETCHED_BYTES,
        )  # fmt: skip
    name = facts.file_name or file_name_in(facts.address) or file_name_in(address)
    opened = None if file is None else partial(_from_start, file)
    content = _look(Sample(name, beginning, length, skip_lines, opened), rows, file)
    fetched = len(beginning) if file is None else file.fetched
    modified = facts.modified or parse_date(facts.validators.last_modified)
    return Peeked(address, name, length, modified, facts.media_type, content, fetched)


def _from_start(file: RemoteFile) -> BinaryIO:
    file.seek(0)
    return cast(BinaryIO, file)


def _look(sample: Sample, rows: int, file: RemoteFile | None) -> Content:
    """Inspect a sample; show its first bytes if its format cannot be read."""
    try:
        return _looker_for(sample)(sample, rows)
    except NoParts:
        why = "the server sends files only whole; haul it to see more"
    except TransferFailed:
        raise
    except Exception as error:  # libraries raise any exception on bad data
        why = str(error) if isinstance(error, Unreadable) else f"it cannot be read: {error}"
        if file is not None and file.is_exhausted:
            why = f"more than {format_size(_MAX_FETCHED_BYTES)} of it would be needed; haul it"
    return replace(_look_at_bytes(sample, rows), notes=[why])


def _looker_for(sample: Sample) -> Look:
    """Return what tells the content of a file, by its first bytes, and by its name."""
    beginning, extension = sample.beginning, extension_of(sample.name)
    if not beginning:
        return _look_at_bytes
    if look := _by_signature(beginning):
        return look
    if begins_like("zip", beginning):
        return look_at_workbook if extension in EXTENSIONS else look_at_zip
    if packing_of(beginning):
        return _look_inside
    if len(beginning) >= _TAR_BLOCK_BYTES and is_tar(beginning) and beginning.strip(b"\0"):
        return look_at_tar
    kind = kind_of(sample.name)
    if kind in ("sound", "video"):
        return look_at_sound
    is_wide = beginning.startswith((b"\xff\xfe", b"\xfe\xff"))
    if b"\0" in beginning and not is_wide:
        return look_at_picture if kind == "image" else _look_at_bytes
    return look_at_json if looks_like_json(sample.name, beginning) else look_at_text


def _by_signature(beginning: bytes) -> Look | None:
    for extension, look in _BY_SIGNATURE.items():
        if begins_like(extension, beginning):
            return look
    for mark, look in _BY_BEGINNING.items():
        if beginning.startswith(mark):
            return look
    return None


_TAR_BLOCK_BYTES = 512
# HDF5 comes before NetCDF, whose newer files are of that format.
_BY_SIGNATURE: Mapping[str, Look] = {
    "parquet": look_at_parquet,
    "h5": look_at_hdf5,
    "nc": look_at_netcdf,
    "pdf": look_at_pdf,
    "png": look_at_picture,
    "jpg": look_at_picture,
    "gif": look_at_picture,
    "flac": look_at_sound,
    "ogg": look_at_sound,
}
_BY_BEGINNING: Mapping[bytes, Look] = {
    b"II*\0": look_at_picture,  # TIFF 6.0, 2
    b"MM\0*": look_at_picture,
    b".snd": look_at_sound,
    b"ID3": look_at_sound,  # ID3v2.4.0, 3.1
}


def _look_inside(sample: Sample, rows: int) -> Content:
    """Unpack the beginning of a compressed file, and inspect it."""
    packing = packing_of(sample.beginning)
    unpacked, is_whole = _unpack(sample, packing)
    name = stem_of(sample.name) if extension_of(sample.name) == packing else sample.name
    inner = Sample(name, unpacked, len(unpacked) if is_whole else None, sample.skip_lines)
    content = _look(inner, rows, None)
    return replace(content, facts={"compressed by": _PACKINGS[packing], **content.facts})


def _unpack(sample: Sample, packing: str) -> tuple[bytes, bool]:
    """Return what the beginning of a compressed file unpacks to, and whether it is all."""
    unpacked = bytearray()
    try:
        with reading(), open_packed(BytesIO(sample.beginning), packing) as file:
            while piece := file.read(_UNPACKED_AT_A_TIME):
                unpacked += piece
                if len(unpacked) >= _MAX_UNPACKED_BYTES:
                    return bytes(unpacked), False
    except Damaged as error:
        if sample.is_whole or not unpacked:
            raise Unreadable(str(error)) from None
        return bytes(unpacked), False  # it goes on where the beginning ends
    return bytes(unpacked), sample.is_whole


def _look_at_bytes(sample: Sample, _rows: int) -> Content:
    """Tell what a file begins with, where nothing else can be told."""
    if not sample.beginning:
        return Content("empty file")
    first = sample.beginning[:_SHOWN_BYTES]
    text = "".join(chr(each) if 32 <= each < 127 else "." for each in first)
    return Content("other file", {"first bytes": first.hex(" "), "as text": text})
