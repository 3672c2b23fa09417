"""The error for a link where none is followed."""

from __future__ import annotations

import errno


class LinkFound(OSError):
    """A link in place of a folder or file; `filename` is its path."""

    def __init__(self, path: str) -> None:
        super().__init__(errno.ELOOP, "is a link", path)


def leads_astray(part: str) -> bool:
    """Whether a part leads elsewhere than to a name in its folder."""
    return part in ("", ".", "..") or "\0" in part
