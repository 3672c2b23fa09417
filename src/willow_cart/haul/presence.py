"""Presence: what becomes of a file that lies here already."""

from __future__ import annotations

from enum import StrEnum


class Presence(StrEnum):
    """What a haul does about a file that lies where it would file one."""

    RENEW = "renew"
    """Ask its place whether it has changed, and fetch it if so."""
    KEEP = "keep"
    """Leave it, and ask nobody."""
    REPLACE = "replace"
    """Fetch it anew, changed or not."""
    FAIL = "fail"
    """Leave it, and count it as a failure."""
