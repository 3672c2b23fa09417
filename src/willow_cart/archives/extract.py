"""Extract an archive into a folder of numbered files.

No name from an archive is ever a name on the disk here, so nothing can escape. What paths they are
to have is made safe, and is for others to give.
"""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Callable, Generator, Iterable, Iterator
from contextlib import ExitStack, closing, suppress
from typing import BinaryIO

from willow_cart.archives.reader import Bounds, Damaged, ForwardReader, Member, MemberSort, Outflow
from willow_cart.archives.tars import (
    is_tar,
    members_of_tar,
    open_packed,
    packing_of,
    peek,
    single,
)
from willow_cart.archives.zips import members_of_zip
from willow_cart.destination import FileTree, fold, safe_path
from willow_cart.errors import NotUnpacked
from willow_cart.kinds import kind_of, stem_of
from willow_cart.structs import Record, Value, field, replace

_CHUNK_BYTES = 1 << 20

# APPNOTE, 4.3.7 and 4.3.16: a member's header, or the end of an archive without any.
_ZIPS = (b"PK\x03\x04", b"PK\x05\x06")

_OTHERS = {b"7z\xbc\xaf\x27\x1c": "7z", b"Rar!": "rar"}

_DRIVE = re.compile(r"[A-Za-z]:")


class ExtractedMember(Value):
    """A file that was extracted from an archive.

    Attributes:
        name: its path there, as the archive has it; of one in a nested archive both, with `/`.
        path: the same, made safe.
        file: where its bytes are now, below the folder's tree.
        size: in bytes.
        sha256: hexadecimal.
    """

    name: str
    path: str
    file: str
    size: int
    sha256: str


class LeftOut(Value):
    """A member that was not extracted.

    Attributes:
        name: its path in the archive.
        why: as a clause.
        is_final: whether it would be so again: by what it is, and not by damage or a password.
    """

    name: str
    why: str
    is_final: bool = False


class Emptied(Record):
    """The result of extracting an archive.

    Attributes:
        taken: the files that came out of it, each path once.
        left_out: what did not, and why; folders are not counted.
        not_chosen: how many files were not requested.
        is_single: whether it was a packed file rather than an archive.
    """

    taken: list[ExtractedMember] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)
    not_chosen: int = 0
    is_single: bool = False


def empty(
    file: BinaryIO,
    name: str,
    tree: FileTree,
    into: str,
    *,
    chosen: Callable[[str], bool] = lambda _: True,
    nested: bool = False,
    bounds: Bounds | None = None,
    password: bytes | None = None,
    unpacked: Callable[[int], None] = lambda _: None,
) -> Emptied:
    """Extract an archive, or a single compressed file, into a folder.

    Args:
        file: the archive, open.
        name: its name.
        tree: what the folder is in.
        into: an empty folder; it is filled with numbered files, also if an error ends it.
        chosen: whether a member is wanted, by its safe path.
        nested: whether archives in it are emptied too, once.
        bounds: how far it may swell; None for `Bounds()`.
        password: of encrypted members; None for none.
        unpacked: called with the number of bytes unpacked; may raise to stop.

    Raises:
        NotUnpacked: its format is unknown, it is damaged, or it exceeds the limits.
        OSError: the disk would not give or take bytes.
    """
    outflow = Outflow(name, os.fstat(file.fileno()).st_size, bounds or Bounds(), unpacked)
    worker = _Emptying(tree, into, outflow, password)
    emptied = worker.empty(file, name, chosen if not nested else _all_or_nested(chosen))
    if nested:
        worker.empty_nested(emptied, chosen)
    emptied.taken = list(_apart(emptied.taken))
    return emptied


def without_top(taken: Iterable[ExtractedMember]) -> list[ExtractedMember]:
    """Return the files without the top folder that all of them share.

    They are unchanged without such a folder.

    An archive with a folder of its own name in it is one folder too many.
    """
    files = list(taken)
    tops = {each.path.partition("/")[0] for each in files}
    if len(tops) != 1 or not all("/" in each.path for each in files):
        return files
    return [replace(each, path=each.path.partition("/")[2]) for each in files]


def _all_or_nested(chosen: Callable[[str], bool]) -> Callable[[str], bool]:
    return lambda path: chosen(path) or kind_of(path.rpartition("/")[2]) == "archive"


class _Emptying:
    """One archive and the archives nested in it, which share their limits."""

    def __init__(self, tree: FileTree, into: str, outflow: Outflow, password: bytes | None) -> None:
        self._tree = tree
        self._into = into
        self._outflow = outflow
        self._password = password
        self._files = 0

    def empty(self, file: BinaryIO, name: str, chosen: Callable[[str], bool]) -> Emptied:
        """Extract the chosen members of one archive."""
        emptied = Emptied()
        with ExitStack() as stack:
            try:
                members, emptied.is_single = open_members(
                    file, name, self._outflow, self._password, stack
                )
                stack.enter_context(closing(members))
                self._take(members, emptied, chosen)
            except Damaged as error:
                raise NotUnpacked(
                    name, str(error), "haul it again, or report it to the server"
                ) from None
        return emptied

    def empty_nested(self, emptied: Emptied, chosen: Callable[[str], bool]) -> None:
        """Replace archives among the files by their content."""
        outer, emptied.taken = emptied.taken, []
        for each in outer:
            folder, _, name = each.path.rpartition("/")
            if kind_of(name) != "archive":
                emptied.taken.append(each)
                continue
            try:
                with self._tree.open(each.file) as file:
                    inner = self.empty(file, name, lambda _: True)
            except NotUnpacked as error:
                if error.thing == self._outflow.archive:
                    raise  # with what is nested in it, it swells too far
                emptied.left_out.append(LeftOut(each.name, error.reason))
                continue
            self._tree.delete(each.file)
            place = folder if inner.is_single else "/".join(filter(None, (folder, stem_of(name))))
            for one in inner.taken:
                path = f"{place}/{one.path}" if place else one.path
                if chosen(path):
                    inside = f"{each.name}/{one.name}"
                    emptied.taken.append(replace(one, name=inside, path=path))
                else:
                    emptied.not_chosen += 1
                    self._tree.delete(one.file)
            emptied.left_out += [
                replace(one, name=f"{each.name}/{one.name}") for one in inner.left_out
            ]

    def _take(
        self, members: Iterator[Member], emptied: Emptied, chosen: Callable[[str], bool]
    ) -> None:
        by_name: dict[str, ExtractedMember] = {}
        unchosen: set[str] = set()
        for member in members:
            if member.sort is MemberSort.FOLDER:
                continue
            if why := _refusal(member):
                emptied.left_out.append(LeftOut(member.name, why, is_final=True))
                continue
            path = safe_path(member.name)
            if not chosen(path):
                emptied.not_chosen += 1
                unchosen.add(member.name)
                continue
            target = by_name.get(member.target)
            if member.sort is MemberSort.AGAIN and target is None:
                why = f"it leads to {member.target}, which was not taken"
                emptied.left_out.append(LeftOut(member.name, why, is_final=True))
                continue
            try:
                if target is not None and member.sort is MemberSort.AGAIN:
                    taken = self._take_again(member, path, target)
                else:
                    taken = self._take_one(member, path)
            except Damaged as error:
                emptied.left_out.append(LeftOut(member.name, str(error)))
                continue
            # What comes later under the same name is what was meant (POSIX, pax, -u).
            if (earlier := by_name.pop(member.name, None)) is not None:
                self._tree.delete(earlier.file)
            by_name[member.name] = taken
        emptied.taken = list(by_name.values())

    def _take_one(self, member: Member, path: str) -> ExtractedMember:
        """Write the content of a member.

        Raises:
            Damaged: they cannot be read; nothing of it is left.
        """
        file = self._next_file()
        digest = hashlib.sha256()
        size = 0
        try:
            with self._tree.create(file) as out:
                source = member.open()
                while piece := source.read(_CHUNK_BYTES):
                    out.write(piece)
                    digest.update(piece)
                    size += len(piece)
        except BaseException:
            self._tree.delete(file)
            raise
        self._set_time(file, member)
        return ExtractedMember(member.name, path, file, size, digest.hexdigest())

    def _take_again(self, member: Member, path: str, target: ExtractedMember) -> ExtractedMember:
        """Copy the target of a hard link, which comes before the link (POSIX, ustar, linkname)."""
        file = self._next_file()
        with self._tree.open(target.file) as source, self._tree.create(file) as out:
            while piece := source.read(_CHUNK_BYTES):
                self._outflow.count(len(piece))
                out.write(piece)
        self._set_time(file, member)
        return replace(target, name=member.name, path=path, file=file)

    def _next_file(self) -> str:
        self._files += 1
        return f"{self._into}/{self._files}"

    def _set_time(self, file: str, member: Member) -> None:
        if member.modified is not None:
            with suppress(OSError, OverflowError):  # a time that this disk cannot write
                self._tree.set_modified(file, int(member.modified.timestamp()) * 10**9)


def open_members(
    file: BinaryIO, name: str, outflow: Outflow, password: bytes | None, stack: ExitStack
) -> tuple[Generator[Member], bool]:
    """Return the members of an archive, and whether it is a single compressed file.

    Args:
        file: the archive, open at its beginning.
        name: its name.
        outflow: counts the unpacked bytes.
        password: of encrypted members; None for none.
        stack: closes the opened files.

    Raises:
        Damaged: it is nothing that is known here.
    """
    beginning = file.read(8)
    file.seek(0)
    if beginning.startswith(_ZIPS):
        return members_of_zip(file, outflow, password), False
    packing = packing_of(beginning)
    unpacking = open_packed(file, packing)
    if packing:
        stack.enter_context(closing(unpacking))
    inside, unpacked = peek(unpacking)
    if is_tar(inside):
        return members_of_tar(unpacked, outflow), False
    if packing:
        forward = ForwardReader(unpacked, outflow)
        return (each for each in [single(forward, name, packing)]), True
    known = "supported are zip, tar, gz, bz2, xz and zst"
    kind = next((kind for mark, kind in _OTHERS.items() if beginning.startswith(mark)), "")
    raise Damaged(
        f"unsupported archive format {kind}; {known}"
        if kind
        else f"unknown archive format; {known}"
    )


def _refusal(member: Member) -> str:
    """Return why a member cannot be extracted, whatever its content; empty if it can."""
    if member.sort in (MemberSort.LINK, MemberSort.DEVICE):
        return f"it is {member.sort.value}"
    parts = member.name.split("/")
    if member.name.startswith("/") or _DRIVE.match(member.name) or ".." in parts:
        return "its path leads outside its folder"
    if "\0" in member.name:
        return "its name contains a zero byte"
    return ""


def _apart(taken: Iterable[ExtractedMember]) -> Iterator[ExtractedMember]:
    """Give each file a path of its own, also on disks that ignore case."""
    given: set[str] = set()
    for each in taken:
        path, number = each.path, 1
        while fold(path) in given:
            number += 1
            folder, slash, name = each.path.rpartition("/")
            stem = stem_of(name)
            path = f"{folder}{slash}{stem} ({number}){name[len(stem) :]}"
        given.add(fold(path))
        yield replace(each, path=path)
