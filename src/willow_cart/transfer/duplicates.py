"""The policy for files whose content exists under another name."""

from __future__ import annotations

from enum import StrEnum


class DuplicatePolicy(StrEnum):
    """What a haul does about a file that has the same content as another file here, by SHA-256."""

    KEEP = "keep"
    """File it anyway."""
    LINK = "link"
    """Have both names lead to one file on the disk (a hard link, POSIX `link`)."""
    SKIP = "skip"
    """Leave it out; the ledger knows which file stands for it."""
