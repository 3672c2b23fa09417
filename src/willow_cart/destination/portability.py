"""Paths that are fine on one system and not on another, for folders and archives that travel."""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator
from enum import StrEnum
from itertools import pairwise

from willow_cart.destination.names import fold, is_safe_path
from willow_cart.structs import Value

# MAX_PATH is 260 with the drive, the folder that it is put into and a null; that leaves 19.
_MAX_PATH_CHARACTERS = 240


class Obstacle(StrEnum):
    """Why a path does not work everywhere."""

    CASE = "case"
    """Another path differs in case, or in how accents are composed, alone (Windows, macOS)."""
    NAME = "name"
    """A name in it is reserved, or has a character or an end that is not taken (Windows)."""
    LENGTH = "length"
    """It is too long (Windows)."""


class Unportable(Value):
    """A path that does not work on every system.

    Attributes:
        path: with `/` between its parts.
        obstacle: why.
        other: for `Obstacle.CASE`, the path that it clashes with.
    """

    path: str
    obstacle: Obstacle
    other: str = ""


def unportable(paths: Iterable[str]) -> Iterator[Unportable]:
    """Yield the paths that do not work everywhere, each with the first reason.

    Args:
        paths: of the files of one folder; gone through twice.
    """
    # Paths are compared by hashes first: a million are never in memory.
    in_order = sorted(array("q", (hash(fold(path)) for path in paths)))
    shared = {one for one, other in pairwise(in_order) if one == other}
    seen: dict[str, str] = {}
    for path in paths:
        folded = fold(path)
        other = seen.setdefault(folded, path) if hash(folded) in shared else path
        if other != path:
            yield Unportable(path, Obstacle.CASE, other)
        elif not is_safe_path(path):
            yield Unportable(path, Obstacle.NAME)
        elif len(path) > _MAX_PATH_CHARACTERS:
            yield Unportable(path, Obstacle.LENGTH)
