"""What archives hold: zip by its directory at the end, tar by its first members."""

from __future__ import annotations

import io
import tarfile
from collections.abc import Iterator
from datetime import datetime
from itertools import islice
from zipfile import ZipFile

from willow_cart.archives.members import Damaged
from willow_cart.archives.reader import LimitedReader, reading
from willow_cart.archives.zips import is_encrypted, moment_of_member, path_of_member
from willow_cart.outside_values import moment_at
from willow_cart.peeking.content import Content, Fact, PeekedColumn, Sample, Unreadable
from willow_cart.units import format_size

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
