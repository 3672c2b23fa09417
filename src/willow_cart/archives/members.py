"""The members of archives, independent of the format."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from enum import Enum
from typing import Protocol


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


@dataclass(frozen=True, slots=True)
class Member:
    """One member of an archive; it can be opened until the next one is requested.

    Attributes:
        name: its path, as the archive has it; with `/` between the parts.
        sort: what it is.
        modified: when it was changed last; None where the archive does not say, or says nonsense.
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
    """A damaged member or archive; the text says why, as a clause.

    Attributes:
        is_unknown: whether it may be sound, and is packed in a way that is not known here.
    """

    def __init__(self, why: str, *, is_unknown: bool = False) -> None:
        super().__init__(why)
        self.is_unknown = is_unknown
