"""Tar archives (POSIX.1-2017, pax), compressed or not, and single compressed files.

They are read from the beginning to the end, and never held.
"""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import tarfile
from collections.abc import Generator
from typing import IO, BinaryIO, cast

from willow_cart.archives.reader import (
    ArchiveFile,
    ForwardReader,
    GuardedReader,
    Member,
    MemberSort,
    Outflow,
    reading,
)
from willow_cart.kinds import extension_of
from willow_cart.outside_values import moment_at

_BLOCK_BYTES = 512
_CHUNK_BYTES = 1 << 20

# How each packing begins: RFC 1952, 2.3.1; bzip2; the .xz format, 2.1.1.1; RFC 8878, 3.1.1.
_PACKINGS = {
    b"\x1f\x8b": "gz", b"BZh": "bz2", b"\xfd7zXZ\x00": "xz", b"\x28\xb5\x2f\xfd": "zst",
}  # fmt: skip

_SORTS = {
    tarfile.DIRTYPE: MemberSort.FOLDER,
    tarfile.LNKTYPE: MemberSort.AGAIN,
    tarfile.SYMTYPE: MemberSort.LINK,
    tarfile.CHRTYPE: MemberSort.DEVICE,
    tarfile.BLKTYPE: MemberSort.DEVICE,
    tarfile.FIFOTYPE: MemberSort.DEVICE,
}


def packing_of(beginning: bytes) -> str:
    """Return the compression that some first bytes indicate; empty if none is known."""
    return next((name for mark, name in _PACKINGS.items() if beginning.startswith(mark)), "")


def open_packed(file: BinaryIO, packing: str) -> BinaryIO:
    """Return the members of a compressed file.

    Args:
        file: at its beginning.
        packing: as `packing_of` tells it; empty to read the file as it is.
    """
    match packing:
        case "gz":
            return cast(BinaryIO, gzip.open(file))
        case "bz2":
            return cast(BinaryIO, bz2.open(file))
        case "xz":
            return cast(BinaryIO, lzma.open(file))
        case "zst":
            import zstandard  # few need it

            reader = zstandard.ZstdDecompressor().stream_reader(file, read_across_frames=True)
            return cast(BinaryIO, reader)
        case _:
            return file


def is_tar(beginning: bytes) -> bool:
    """Whether bytes start with the header of a tar member; an empty archive starts with zeros."""
    block = beginning[:_BLOCK_BYTES]
    if not block.strip(b"\0"):
        return len(block) == _BLOCK_BYTES
    try:
        tarfile.TarInfo.frombuf(block, tarfile.ENCODING, "surrogateescape")
    except tarfile.HeaderError:
        return False
    return True


def members_of_tar(file: ArchiveFile, outflow: Outflow) -> Generator[Member]:
    """Yield the members of a tar archive in order.

    Args:
        file: its bytes, unpacked.
        outflow: counts them.

    Raises:
        Damaged: it cannot be read on.
        NotUnpacked: it swells beyond its bounds.
    """
    forward = cast(BinaryIO, ForwardReader(file, outflow))
    with reading(), tarfile.open(fileobj=forward, mode="r:") as archive:
        while (info := archive.next()) is not None:
            outflow.count_member()
            yield _member(archive, info)
            archive.members = []  # type: ignore[attr-defined]  # it would hold them all


def single(file: ArchiveFile, name: str, packing: str) -> Member:
    """Return the content of a compressed file that is not an archive.

    It is one file, with the name less its ending.
    """
    ending = f".{packing}"
    inside = name[: -len(ending)] if name.lower().endswith(ending) else name
    if inside == name:
        extension = extension_of(name)
        inside = name[: -len(extension) - 1] if extension else f"{name} (unpacked)"
    return Member(inside, MemberSort.FILE, None, "", lambda: file)


def peek(file: BinaryIO) -> tuple[bytes, BinaryIO]:
    """Return the first bytes of a file, and the file at its start again.

    Raises:
        Damaged: it cannot be read.
    """
    beginning = b""
    with reading():
        while len(beginning) < _BLOCK_BYTES and (piece := file.read(_BLOCK_BYTES - len(beginning))):
            beginning += piece
    return beginning, cast(BinaryIO, io.BufferedReader(_Joined(beginning, file), _CHUNK_BYTES))


def _member(archive: tarfile.TarFile, info: tarfile.TarInfo) -> Member:
    sort = MemberSort.FILE if info.isreg() else _SORTS.get(info.type, MemberSort.DEVICE)

    def opened() -> ArchiveFile:
        file: IO[bytes] | None = archive.extractfile(info)
        assert file is not None, "only files are opened"
        return GuardedReader(file)

    return Member(
        info.name, sort, moment_at(info.mtime) if info.mtime > 0 else None, info.linkname, opened
    )


class _Joined(io.RawIOBase):
    """A stream of the bytes already read, followed by the rest of the file."""

    def __init__(self, beginning: bytes, rest: BinaryIO) -> None:
        self._beginning = beginning
        self._rest = rest

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: bytearray) -> int:  # type: ignore[override]
        if self._beginning:
            piece, self._beginning = self._beginning[: len(buffer)], self._beginning[len(buffer) :]
        else:
            piece = self._rest.read(len(buffer))
        buffer[: len(piece)] = piece
        return len(piece)
