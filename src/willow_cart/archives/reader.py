"""File objects for the archive libraries: they count bytes, can be stopped, and enforce limits.

The libraries trust an archive's own headers: they read a header of any length into memory,
and skip as far as these tell.
"""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from enum import Enum
from typing import BinaryIO, Protocol

from willow_cart.errors import BadOption, NotUnpacked, WillowCartError
from willow_cart.structs import Value
from willow_cart.units import format_size, parse_size

MAX_MEMBERS = 1_000_000
"""What holds more is meant to fill the disk with names."""

# So little fills no disk, and tables of zeros swell by more than any ratio.
_ALWAYS_ALLOWED_BYTES = 100_000_000

_RATIO = re.compile(r"(\d{1,6}(?:\.\d{1,6})?)x", re.IGNORECASE)


class Bounds(Value):
    """The limits on the unpacked size of one archive, nested archives included.

    Attributes:
        ratio: how many times its own size, where that is more than 100 MB.
        most: how many bytes; None for as many as there is room for.
    """

    ratio: float = 1000.0
    most: int | None = None

    @classmethod
    def parse(cls, text: str) -> Bounds:
        """Parse limits: `200x`, `50GB`, or both with a comma.

        Raises:
            BadOption: they cannot be read.
        """
        bounds = cls()
        for part in text.split(","):
            if found := _RATIO.fullmatch(part.strip()):
                bounds = cls(float(found[1]), bounds.most)
            else:
                try:
                    bounds = cls(bounds.ratio, parse_size(part))
                except BadOption:
                    raise BadOption(
                        text,
                        "not a valid limit",
                        "write times its size, a size, or both: 200x,50GB",
                    ) from None
        return bounds

    def most_of(self, packed: int) -> int:
        """Return the maximum unpacked size of an archive, given its size in bytes."""
        most = max(_ALWAYS_ALLOWED_BYTES, int(self.ratio * packed))
        return most if self.most is None else min(most, self.most)


class Outflow:
    """The bytes and members unpacked so far from one archive; enforces its limits.

    Bytes count as they are unpacked, also those of members that are skipped to reach others.

    Args:
        archive: its name.
        packed: its size in bytes.
        bounds: how far it may swell.
        unpacked: called with the number of bytes unpacked; may raise to stop.
    """

    def __init__(
        self,
        archive: str,
        packed: int,
        bounds: Bounds,
        unpacked: Callable[[int], None] = lambda _: None,
    ) -> None:
        self.archive = archive
        self._packed = packed
        self._most = bounds.most_of(packed)
        self._unpacked = unpacked
        self._bytes = self._members = 0

    def count(self, size: int) -> None:
        """Count unpacked bytes.

        Raises:
            NotUnpacked: they are too many.
        """
        self._bytes += size
        if self._bytes > self._most:
            raise NotUnpacked(
                self.archive,
                f"has {format_size(self._packed)} and decompresses to more than"
                f" {format_size(self._most)}",
                "if this is expected, raise --unpacked-at-most",
            )
        self._unpacked(size)

    def count_member(self) -> None:
        """Count a member.

        Raises:
            NotUnpacked: they are too many.
        """
        self._members += 1
        if self._members > MAX_MEMBERS:
            raise NotUnpacked(
                self.archive, f"contains more than {MAX_MEMBERS:,} files", "check its content"
            )


class ArchiveFile(Protocol):
    """A binary file that an archive can be read from."""

    def read(self, size: int, /) -> bytes:
        """Read at most this many bytes; empty at the end."""


class MemberSort(Enum):
    """The type of a member."""

    FILE = "a file"
    FOLDER = "a folder"
    AGAIN = "another name of a file"
    """A hard link: the bytes are those of an earlier member."""
    LINK = "a link"
    DEVICE = "a device or a pipe"


class Member(Value):
    """One member of an archive; it can be opened until the next one is requested.

    Attributes:
        name: its path, as the archive has it; with `/` between the parts.
        modified: when it was changed last; None if the server does not state it.
        target: of a hard link, the name of the member whose bytes it has.
        open: gives its bytes.
        is_encrypted: whether a password is needed for them.
    """

    name: str
    sort: MemberSort
    modified: datetime | None
    target: str
    open: Callable[[], ArchiveFile]
    is_encrypted: bool = False


class Damaged(Exception):
    """A damaged member or archive; the text is the reason, as a clause.

    Attributes:
        is_unknown: whether it may be sound, and is packed in a way that is not known here.
    """

    def __init__(self, why: str, *, is_unknown: bool = False) -> None:
        super().__init__(why)
        self.is_unknown = is_unknown


_CHUNK_BYTES = 1 << 20

# Headers with names and attributes are a thousandth of this; the list of a zip archive with a
# million members fits.
_MAX_HEADER_BYTES = 4 << 20
_MAX_DIRECTORY_BYTES = 256 << 20


@contextmanager
def reading() -> Iterator[None]:
    """Translate errors of the archive libraries into `Damaged`.

    Raises:
        Damaged: they cannot be unpacked.
    """
    try:
        yield
    except (Damaged, WillowCartError):
        raise
    except EOFError:
        raise Damaged("it ends too soon") from None
    except RecursionError:
        raise Damaged("its headers are nested too deeply") from None
    except NotImplementedError:
        raise Damaged("unsupported compression method", is_unknown=True) from None
    except OSError as error:
        if error.errno is not None:
            raise  # the disk states it; what the modules say of bad data has no number
        raise Damaged(_clause(error)) from None
    except RuntimeError as error:
        if "password" in str(error).lower():
            raise Damaged("wrong password") from None
        raise Damaged(_clause(error)) from None
    except Exception as error:  # libraries raise any exception on bad data
        raise Damaged(_clause(error)) from None


def _clause(error: Exception) -> str:
    said = str(error).rstrip(".").lower() or type(error).__name__
    if "unexpected end" in said or "end-of-stream" in said:
        return "it ends too soon"
    return said


class ForwardReader:
    """A forward-only stream of decompressed bytes, for the tar library.

    Args:
        source: gives the bytes.
        outflow: counts them, those that are skipped included.
    """

    def __init__(self, source: ArchiveFile, outflow: Outflow) -> None:
        self._source = source
        self._outflow = outflow
        self._at = 0

    def read(self, size: int) -> bytes:
        """Return this many bytes, or fewer at the end.

        Raises:
            Damaged: they are more than any header has.
            NotUnpacked: all are more than the archive may swell to.
        """
        if not 0 <= size <= _MAX_HEADER_BYTES:
            raise Damaged("one of its headers is too long")
        data = self._next(size)
        while len(data) < size and (more := self._next(size - len(data))):
            data += more
        return data

    def tell(self) -> int:
        """Return the number of bytes read."""
        return self._at

    def seek(self, offset: int, _whence: int = io.SEEK_SET) -> int:
        """Skip to a position, or to the end if that comes first.

        Raises:
            Damaged: it was read before.
            NotUnpacked: as for `read`.
        """
        if offset < self._at:
            raise Damaged("its members are not contiguous")
        while self._at < offset and self._next(min(_CHUNK_BYTES, offset - self._at)):
            pass
        return self._at

    def _next(self, size: int) -> bytes:
        with reading():
            data = self._source.read(size)
        self._at += len(data)
        self._outflow.count(len(data))
        return data


class GuardedReader:
    """The content of a member; errors in the data are raised as `Damaged`.

    Args:
        source: gives the bytes.
    """

    def __init__(self, source: ArchiveFile) -> None:
        self._source = source

    def read(self, size: int, /) -> bytes:
        """Return at most this many bytes; empty at the end.

        Raises:
            Damaged: they cannot be read.
        """
        with reading():
            return self._source.read(size)


class LimitedReader(io.RawIOBase):
    """A seekable archive file, for the zip library.

    Args:
        file: the archive.
    """

    def __init__(self, file: BinaryIO) -> None:
        self._file = file

    def readable(self) -> bool:
        """Return True."""
        return True

    def seekable(self) -> bool:
        """Return True."""
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Seek to a position.

        Raises:
            Damaged: the byte would be before the first.
        """
        if offset < 0 and whence == io.SEEK_SET:
            raise Damaged("it ends too soon")
        return self._file.seek(offset, whence)

    def tell(self) -> int:
        """Return the current position."""
        return self._file.tell()

    def read(self, size: int = -1) -> bytes:
        """Return this many bytes, or fewer at the end.

        Raises:
            Damaged: they are more than any list of members has.
        """
        if size > _MAX_DIRECTORY_BYTES:
            raise Damaged("its table of contents is too long")
        return self._file.read(size if size >= 0 else _MAX_DIRECTORY_BYTES)
