"""Pack the files of a destination into one reproducible archive.

Two archives of the same files are the same: names are in order, and nothing in them is of the day
or of the machine on which they were made.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import tarfile
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from contextlib import ExitStack, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

from willow_cart.destination import Unportable, unportable
from willow_cart.errors import BadOption, Exit, NothingChosen, plainly
from willow_cart.formats.manifests import data_package, sha256_sums
from willow_cart.ledger.entries import Arrival
from willow_cart.model import Issue
from willow_cart.replacing import replacing_bytes, require_output
from willow_cart.stored_files import Holding
from willow_cart.structs import Record, field

MANIFEST = "SHA256SUMS"
"""The checksum list in an archive, as sha256sum(1) checks it."""

DESCRIPTOR = "datapackage.json"
"""The Data Package descriptor in an archive: what came from where, and when."""

_CHUNK_BYTES = 1 << 20

_COMMENT = "packed by willow-cart"

# The earliest that zip can say (APPNOTE, 4.4.6), for files without a time.
_LONG_AGO = datetime(1980, 1, 1, tzinfo=UTC)


class Packed(Record):
    """The result of packing.

    Attributes:
        files: how many files are in the archive, the lists of them not counted.
        size: of the archive.
        sha256: of the archive, in hexadecimal.
        troubles: files that could not be packed, or are not as they were hauled.
        unportable: paths in the archive that do not work on every system.
    """

    files: int = 0
    bytes: int = 0
    size: int = 0
    sha256: str = ""
    troubles: list[Issue] = field(default_factory=list)
    unportable: tuple[Unportable, ...] = ()

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return Exit.CHECK_FAILED if self.troubles else Exit.GOOD


class _Writer(ABC):
    """An archive that is being written."""

    @abstractmethod
    def add(self, path: str, file: BinaryIO, size: int, modified: datetime) -> None:
        """Add a file."""


class _Zip(_Writer):
    def __init__(self, archive: zipfile.ZipFile) -> None:
        self._archive = archive

    def add(self, path: str, file: BinaryIO, size: int, modified: datetime) -> None:
        info = zipfile.ZipInfo(path, max(modified, _LONG_AGO).timetuple()[:6])
        info.compress_type = zipfile.ZIP_DEFLATED
        info.create_system, info.external_attr = 3, 0o100644 << 16
        info.file_size = size  # decides whether it needs the form for large files
        with self._archive.open(info, "w") as out:
            while piece := file.read(_CHUNK_BYTES):
                out.write(piece)


class _Tar(_Writer):
    def __init__(self, archive: tarfile.TarFile) -> None:
        self._archive = archive

    def add(self, path: str, file: BinaryIO, size: int, modified: datetime) -> None:
        info = tarfile.TarInfo(path)
        info.size, info.mtime, info.mode = size, int(modified.timestamp()), 0o644
        self._archive.addfile(info, file)


def require_form(path: Path) -> None:
    """Refuse a name without a known archive extension.

    Raises:
        BadOption: it does not.
    """
    if not path.name.lower().endswith((".zip", ".tar.gz", ".tgz")):
        raise BadOption(f"--to {path}", "unknown file type", "use .zip or .tar.gz")


def pack(holdings: Iterable[Holding], to: Path, *, overwrite: bool = False) -> Packed:
    """Pack files with a checksum list and a descriptor of their origin.

    Files that are not as they were hauled are left out and reported.

    Args:
        holdings: the files.
        to: the archive; in place of one that is there, in one step at the end.
        overwrite: whether any other file there is replaced too.

    Raises:
        BadOption: its name has no known ending.
        NothingChosen: there is nothing to pack.
        CannotStore: it cannot be written.
    """
    require_form(to)
    require_output(to, _is_ours, overwrite=overwrite)
    packed = Packed()
    arrivals: list[Arrival] = []
    with replacing_bytes(to, is_ours=_is_ours, overwrite=overwrite) as file:
        with _open(to, file) as writer:
            for holding in sorted(holdings, key=lambda each: each.path):
                _add(holding, writer, packed, arrivals)
            if not packed.files:
                raise NothingChosen(
                    str(to), "nothing is left to pack", "see above", offered=0, rule=None
                )
            _add_lines(writer, MANIFEST, sha256_sums(arrivals))
            _add_lines(writer, DESCRIPTOR, data_package(each for each in arrivals if each.address))
        packed.unportable = tuple(unportable([each.path for each in arrivals]))
        packed.size = file.tell()
        file.seek(0)
        packed.sha256 = hashlib.file_digest(file, "sha256").hexdigest()  # type: ignore[arg-type]
    return packed


def _is_ours(content: bytes) -> bool:
    """Whether an archive was written by this program: its lists or its header show it."""
    lists = (MANIFEST.encode() in content) and (DESCRIPTOR.encode() in content)
    return _COMMENT.encode() in content or (lists and content.startswith(b"PK"))


def _add(holding: Holding, writer: _Writer, packed: Packed, arrivals: list[Arrival]) -> None:
    """Add a file if it is unchanged."""
    if holding.path in (MANIFEST, DESCRIPTOR):
        packed.troubles.append(Issue(holding.path, "is left out; a file of that name is added"))
        return
    try:
        with holding.open() as file:
            sha256 = hashlib.file_digest(file, "sha256").hexdigest()  # type: ignore[arg-type]
            known = holding.arrival
            if known is not None and known.sha256 != sha256:
                packed.troubles.append(
                    Issue(
                        holding.path,
                        "changed since the haul; left out (run willow-cart audit for details)",
                    )
                )
                return
            size = file.tell()
            file.seek(0)
            writer.add(holding.path, file, size, _modified(holding))
    except OSError as error:
        packed.troubles.append(Issue(holding.path, f"cannot be read: {plainly(error)}"))
        return
    packed.files += 1
    packed.bytes += size
    arrivals.append(known or _unknown(holding.path, size, sha256))


def _modified(holding: Holding) -> datetime:
    """Return the modification time at the origin, which is the same wherever the file is."""
    known = holding.arrival
    if known is None or not (known.last_modified or known.archive):
        return _LONG_AGO
    return holding.offer.modified or _LONG_AGO


def _unknown(path: str, size: int, sha256: str) -> Arrival:
    """Return the entry of a file that is in no ledger."""
    return Arrival("", "", path, "", size, sha256, None, None, "", "nothing", 0)


def _add_lines(writer: _Writer, name: str, lines: Iterator[str]) -> None:
    content = "".join(f"{line}\n" for line in lines).encode()
    writer.add(name, io.BytesIO(content), len(content), _LONG_AGO)


@contextmanager
def _open(to: Path, file: BinaryIO) -> Iterator[_Writer]:
    with ExitStack() as stack:
        if to.name.lower().endswith(".zip"):
            yield _Zip(stack.enter_context(zipfile.ZipFile(file, "w")))
        else:
            # Neither the name nor the time of packing (RFC 1952, 2.3.1) is in it.
            packed = stack.enter_context(gzip.GzipFile("", "wb", 6, file, mtime=0))
            yield _Tar(
                stack.enter_context(
                    tarfile.open(
                        fileobj=packed,
                        mode="w|",
                        format=tarfile.PAX_FORMAT,
                        pax_headers={"comment": _COMMENT},
                    )
                )
            )
