"""Fetch files inside zip archives by byte ranges (PKWARE, APPNOTE 6.3).

A zip archive says at its end what is in it and where, so a server that serves ranges need not send
the rest: a few kilobytes are enough to list an archive of any size, and a member can be fetched
    alone.
"""

from __future__ import annotations

import bz2
import struct
import threading
import zipfile
import zlib
from bisect import bisect_right
from collections.abc import Iterator
from typing import BinaryIO, Protocol, cast

from willow_cart.addresses import address_inside, take_inside
from willow_cart.archives.reader import Bounds, LimitedReader, Outflow
from willow_cart.archives.zips import moment_of_member, path_of_member, require_apart
from willow_cart.errors import (
    ConnectionLost,
    NoParts,
    NotServed,
    ProtocolError,
    WillowCartError,
)
from willow_cart.model import Checksum, Metadata, Origin, Validators
from willow_cart.protocols.base import Access, DirectoryEntry, Download, Resumability, Unchanged
from willow_cart.protocols.remote_file import RemoteFile, open_range
from willow_cart.redaction import without_secrets
from willow_cart.structs import Value, replace

# The end of an archive, with what it says of itself, is nearly always in here (APPNOTE, 4.3.16: its
# comment has up to 64 KiB), and so is the list of some hundred members before it.
_TAIL_BYTES = 80 << 10

_LOCAL_HEADER = struct.Struct("<4s22xHH")  # APPNOTE, 4.3.7
_FLAG_ENCRYPTED = 1
_UNPACK_INSTEAD = "haul it, and unpack it with --unpack"


class _Unpacker(Protocol):
    def decompress(self, data: bytes, /) -> bytes:
        """Return the decompressed bytes."""


class _Stored:
    """A decompressor for stored members, which are not compressed."""

    def decompress(self, data: bytes) -> bytes:
        return data


class _Contents(Value):
    """The directory of an archive.

    Attributes:
        facts: of the archive.
        members: by their paths; folders are none.
        offsets: where something begins in it, in order.
        outflow: counts the unpacked bytes.
    """

    facts: Metadata
    members: dict[str, zipfile.ZipInfo]
    offsets: list[int]
    outflow: Outflow

    def end_of(self, info: zipfile.ZipInfo) -> int:
        """Return the offset before which a member ends."""
        place = bisect_right(self.offsets, info.header_offset)
        return self.offsets[min(place, len(self.offsets) - 1)]


class Inside(Access):
    """Access to files inside zip archives.

    Args:
        outside: how the archives are talked to; not closed here.
        bounds: how far an archive may swell; None for `Bounds()`.
    """

    def __init__(self, outside: Access, bounds: Bounds | None = None) -> None:
        self._outside = outside
        self._bounds = bounds or Bounds()
        self._lock = threading.RLock()
        self._contents: dict[str, _Contents] = {}

    def entries(self, archive: str) -> Iterator[DirectoryEntry]:
        """Yield the members of an archive in order, with addresses of files inside it.

        Raises:
            TransferFailed: it does not arrive, is not an archive, or byte ranges are not served.
        """
        for path, info in self._contents_of(archive).members.items():
            yield DirectoryEntry(
                address_inside(archive, path), info.file_size, moment_of_member(info)
            )

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Request a file; a compressed one always starts at its beginning."""
        archive, path = take_inside(address)
        contents = self._contents_of(archive)
        facts = self._facts_of(address, contents, path)
        same = validators is not None and _agree(validators, facts.validators)
        if same and not start and end is None:
            return Unchanged(facts)
        info = contents.members[path]
        if info.flag_bits & _FLAG_ENCRYPTED:
            raise NotServed(without_secrets(address), "is encrypted", _UNPACK_INSTEAD, status=403)
        stored = info.compress_type == zipfile.ZIP_STORED
        first = start if stored and (same or validators is None) else 0
        end_of_member = contents.end_of(info)
        delivery = self._open_part(archive, contents.facts, info.header_offset, end_of_member)
        return MemberDelivery(delivery, facts, info, contents.outflow, first)

    def ask(self, address: str) -> Metadata:
        """Request the metadata of a file; see `Access.ask`."""
        archive, path = take_inside(address)
        return self._facts_of(address, self._contents_of(archive), path)

    def close(self) -> None:
        """Do nothing."""

    def _facts_of(self, address: str, contents: _Contents, path: str) -> Metadata:
        info = contents.members.get(path)
        if info is None:
            shown = without_secrets(address)
            raise NotServed(shown, "not in the archive", "list the archive with survey", status=404)
        checksum = Checksum("crc32", f"{info.CRC:08x}", Origin.ARCHIVE)
        return replace(
            contents.facts,
            address=address,
            length=info.file_size,
            modified=moment_of_member(info),
            media_type="",
            file_name="",
            checksums=(checksum,),
            composite=None,
            proofs=(),
        )

    def _contents_of(self, archive: str) -> _Contents:
        """Return the directory of an archive, which is fetched once."""
        with self._lock:  # lanes that want members of the same archive wait for its contents
            contents = self._contents.get(archive)
            if contents is None:
                contents = self._contents[archive] = self._read_contents(archive)
            return contents

    def _read_contents(self, archive: str) -> _Contents:
        facts = self._outside.ask(archive)
        shown = without_secrets(archive)
        if facts.length is None:
            raise NoParts(shown, "has no known length", _UNPACK_INSTEAD)
        if facts.coding:
            raise NoParts(shown, "is sent with a content coding", _UNPACK_INSTEAD)
        file = RemoteFile(self._outside, archive, facts, facts.length, tail_bytes=_TAIL_BYTES)
        try:
            with zipfile.ZipFile(LimitedReader(cast(BinaryIO, file))) as listed:
                require_apart(listed.infolist())
                members = {path_of_member(info): info for info in listed.infolist()}
                offsets = {info.header_offset for info in listed.infolist()}
                offsets.add(listed.start_dir)
        except NoParts as error:
            raise _whole_only(error) from None
        except WillowCartError:
            raise
        except Exception as error:  # the library raises whatever it comes to
            said = str(error).rstrip(".").lower()
            raise ProtocolError(
                shown, f"not a zip archive: {said}", "haul it as an ordinary file"
            ) from None
        return _Contents(
            facts,
            {path: info for path, info in members.items() if not path.endswith("/")},
            [*sorted(offset for offset in offsets if offset < facts.length), facts.length],
            Outflow(shown, facts.length, self._bounds),
        )

    def _open_part(self, archive: str, facts: Metadata, start: int, end: int) -> Download:
        """Request a range of an archive; see `open_range`."""
        try:
            return open_range(self._outside, archive, facts, start, end)
        except ConnectionLost:
            with self._lock:
                self._contents.pop(archive, None)  # what it has may be elsewhere now
            raise
        except NoParts as error:
            raise _whole_only(error) from None


class MemberDelivery(Download):
    """A member that is received from its archive.

    Args:
        delivery: of the archive, from the member's header on.
        facts: of the member.
        info: what the archive's list says of it.
        outflow: counts what comes out of the archive.
        start: which of its bytes are wanted first; above 0 only for one that is not packed.

    Raises:
        ProtocolError: no member at an offset in the directory.
    """

    def __init__(
        self,
        delivery: Download,
        facts: Metadata,
        info: zipfile.ZipInfo,
        outflow: Outflow,
        start: int = 0,
    ) -> None:
        self.facts = facts
        self.start = start
        stored = info.compress_type == zipfile.ZIP_STORED
        self.joining = delivery.joining if stored else Resumability.NEVER
        self._delivery = delivery
        self._outflow = outflow
        self._came = 0
        self._to_skip = start
        self._packed = info.compress_size
        self._left = info.file_size
        self._at_hand = b""
        self._unpacker = _unpacker_for(info, facts)
        try:
            header = self._take(_LOCAL_HEADER.size)
            mark, name, extra = _LOCAL_HEADER.unpack(header)
            if mark != b"PK\x03\x04":
                raise self._strange("has no header at its offset")
            self._take(name + extra)
        except BaseException:
            delivery.close()
            raise

    def read(self) -> bytes:
        """Return the next bytes."""
        while self._left:
            piece = self._next_packed()
            if not piece and self._packed:
                raise ConnectionLost(without_secrets(self.facts.address), "stopped short")
            try:
                data = self._unpacker.decompress(piece)
            except (zlib.error, OSError, EOFError):
                raise self._strange("cannot be unpacked") from None
            if len(data) > self._left or not (data or piece):
                raise self._strange("has a different length from the archive's directory")
            self._left -= len(data)
            self._outflow.count(len(data))
            skipped = min(self._to_skip, len(data))
            self._to_skip -= skipped
            if len(data) > skipped:
                return data[skipped:]
        return b""

    @property
    def line_bytes(self) -> int:
        """Return the bytes received from the archive."""
        return self._came

    def close(self) -> None:
        """Close the archive."""
        self._delivery.close()

    def _next_packed(self) -> bytes:
        """Return the next compressed bytes; empty at the end."""
        if not self._packed:
            return b""
        piece = self._at_hand or self._receive()
        self._at_hand = b""
        piece = piece[: self._packed]
        self._packed -= len(piece)
        return piece

    def _receive(self) -> bytes:
        piece = self._delivery.read()
        self._came += len(piece)
        return piece

    def _take(self, count: int) -> bytes:
        while len(self._at_hand) < count:
            piece = self._receive()
            if not piece:
                raise ConnectionLost(without_secrets(self.facts.address), "stopped short")
            self._at_hand += piece
        taken, self._at_hand = self._at_hand[:count], self._at_hand[count:]
        return taken

    def _strange(self, reason: str) -> ProtocolError:
        advice = "the archive may be damaged; haul the whole archive"
        return ProtocolError(without_secrets(self.facts.address), reason, advice)


def _unpacker_for(info: zipfile.ZipInfo, facts: Metadata) -> _Unpacker:
    """Return the decompressor for a member.

    Raises:
        NotServed: unsupported compression method.
    """
    match info.compress_type:
        case zipfile.ZIP_STORED:
            return _Stored()
        case zipfile.ZIP_DEFLATED:
            return zlib.decompressobj(-zlib.MAX_WBITS)
        case zipfile.ZIP_BZIP2:
            return bz2.BZ2Decompressor()
        case _:
            raise NotServed(
                without_secrets(facts.address),
                "uses a compression method that cannot be read in parts",
                _UNPACK_INSTEAD,
                status=415,
            )


def _whole_only(error: NoParts) -> NoParts:
    """Return the error for an archive of which no parts are served."""
    return NoParts(error.thing, error.reason, _UNPACK_INSTEAD)


def _agree(one: Validators, other: Validators) -> bool:
    """Whether two versions are certainly the same."""
    if one.entity_tag or other.entity_tag:
        return one.entity_tag == other.entity_tag
    return bool(one.last_modified) and one.last_modified == other.last_modified
