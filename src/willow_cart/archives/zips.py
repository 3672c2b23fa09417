"""Zip archives (PKWARE, APPNOTE 6.3), including zip64 and encrypted ones."""

from __future__ import annotations

import stat
import zipfile
from collections.abc import Generator, Iterable
from datetime import UTC, datetime
from typing import BinaryIO

from willow_cart.archives.reader import (
    ArchiveFile,
    Damaged,
    LimitedReader,
    Member,
    MemberSort,
    Outflow,
    reading,
)

_MADE_BY_UNIX = 3
_FLAG_ENCRYPTED = 1
_METHOD_AES = 99
_FLAG_UTF_8 = 0x800

_LOCAL_HEADER_BYTES = 30  # APPNOTE, 4.3.7; without name and extra field


def members_of_zip(
    file: BinaryIO, outflow: Outflow, password: bytes | None = None
) -> Generator[Member]:
    """Yield the members of a zip archive in the order of its central directory.

    Args:
        file: the archive, open.
        outflow: counts the unpacked bytes.
        password: of its encrypted members; None for none.

    Raises:
        Damaged: it cannot be read.
        NotUnpacked: it swells beyond its bounds.
    """
    with reading(), _open(LimitedReader(file)) as archive:
        infos = archive.infolist()
        require_apart(infos)
        for info in infos:
            outflow.count_member()
            opener = _Opener(archive, info, password, outflow)
            yield Member(
                path_of_member(info),
                _sort_of(info),
                moment_of_member(info),
                "",
                opener,
                is_encrypted(info),
            )


def require_apart(infos: Iterable[zipfile.ZipInfo]) -> None:
    """Refuse overlapping members, with which a few kilobytes unpack to any size.

    Raises:
        Damaged: two do.
    """
    ends = 0
    for info in sorted(infos, key=lambda each: each.header_offset):
        if info.header_offset < ends:
            raise Damaged("its members overlap")
        ends = info.header_offset + _LOCAL_HEADER_BYTES + info.compress_size


def path_of_member(info: zipfile.ZipInfo) -> str:
    """Return the path of a member, with `/` as separator.

    Many programs write UTF-8 without saying so, and some write backslashes between the parts
    (against APPNOTE, 4.4.17.1).
    """
    name = info.orig_filename
    if not info.flag_bits & _FLAG_UTF_8:
        try:
            name = name.encode("cp437").decode("utf-8")
        except UnicodeError:
            return name.replace("\\", "/")  # it is what the format says it is
    return name.replace("\\", "/")


def moment_of_member(info: zipfile.ZipInfo) -> datetime | None:
    """Return when a member was modified, as UTC; zip times have no zone (APPNOTE, 4.4.6)."""
    try:
        return datetime(*info.date_time, tzinfo=UTC)
    except ValueError:
        return None


def is_encrypted(info: zipfile.ZipInfo) -> bool:
    """Whether a member requires a password."""
    return bool(info.flag_bits & _FLAG_ENCRYPTED)


def _open(file: LimitedReader) -> zipfile.ZipFile:
    archive = zipfile.ZipFile(file)
    if not any(info.compress_type == _METHOD_AES for info in archive.infolist()):
        return archive
    import pyzipper  # encryption by AES, which the standard library lacks; few need it

    aes: zipfile.ZipFile = pyzipper.AESZipFile(file)
    return aes


def _sort_of(info: zipfile.ZipInfo) -> MemberSort:
    mode = stat.S_IFMT(info.external_attr >> 16) if info.create_system == _MADE_BY_UNIX else 0
    if path_of_member(info).endswith("/") or mode == stat.S_IFDIR:
        return MemberSort.FOLDER
    if mode == stat.S_IFLNK:
        return MemberSort.LINK
    return MemberSort.FILE if mode in (0, stat.S_IFREG) else MemberSort.DEVICE


class _Opener:
    """Opens a member; errors in its data are raised as `Damaged`."""

    def __init__(
        self,
        archive: zipfile.ZipFile,
        info: zipfile.ZipInfo,
        password: bytes | None,
        outflow: Outflow,
    ) -> None:
        self._archive = archive
        self._outflow = outflow
        self._info = info
        self._password = password
        self._file: ArchiveFile | None = None

    def __call__(self) -> _Opener:
        if is_encrypted(self._info) and self._password is None:
            raise Damaged("it is encrypted; name its password with --archive-password env:NAME")
        with reading():
            self._file = self._archive.open(self._info, pwd=self._password)
        return self

    def read(self, size: int) -> bytes:
        assert self._file is not None, "the archive is open"
        try:
            with reading():
                data = self._file.read(size)
        except Damaged as error:
            if is_encrypted(self._info):
                # One wrong password in 256 passes the check before the data (APPNOTE, 6.1.6).
                raise Damaged(f"wrong password, or it is damaged: {error}") from None
            raise
        self._outflow.count(len(data))
        return data
