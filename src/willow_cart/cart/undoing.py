"""Undo the last change of a cart, whose previous state is stored next to it."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from willow_cart.errors import BadOption, CannotStore, plainly
from willow_cart.platform import files


@contextmanager
def keeping_for_undo(path: Path) -> Iterator[None]:
    """Store a copy of a cart next to it if the block changes the cart; see `undo`.

    Raises:
        CannotStore: no room for it.
    """
    fresh = _fresh(path)
    try:
        _complete_undo(path)
        _copy(path, fresh)
    except OSError as error:
        raise _cannot_keep(path, error) from None
    try:
        yield
        kept = _kept(path)
        files.replace(fresh, kept)
        _pair(kept, path)
    finally:
        with suppress(FileNotFoundError):
            fresh.unlink()


def undo(path: Path) -> None:
    """Restore the state of a cart before the last change; a second undo is a redo.

    Raises:
        BadOption: there is nothing to undo, or the cart has been changed since.
        CannotStore: the files cannot be exchanged.
    """
    kept = _kept(path)
    try:
        _complete_undo(path)
    except OSError as error:
        raise _cannot_keep(path, error) from None
    if not path.is_file() or not kept.is_file():
        raise BadOption(
            f"--undo {path}", "there is nothing to undo", "pick stores the previous state"
        )
    if kept.stat().st_mtime_ns != path.stat().st_mtime_ns:
        raise BadOption(
            f"--undo {path}",
            "was changed after the last picking, and undoing would lose that",
            f"the previous state is in {kept}; copy it to restore it",
        )
    between = _fresh(path)
    try:
        # After each step there is a cart, and the other state beside it.
        _copy(path, between)
        files.replace(kept, path)
        files.replace(between, kept)
        _pair(kept, path)
    except OSError as error:
        raise _cannot_keep(path, error) from None


def _complete_undo(path: Path) -> None:
    """Complete an undo that was killed before the state after it was stored."""
    if _fresh(path).is_file() and path.is_file() and not _kept(path).exists():
        files.replace(_fresh(path), _kept(path))
        _pair(_kept(path), path)


def _copy(path: Path, to: Path) -> None:
    with suppress(FileNotFoundError):
        to.unlink()
    try:
        os.link(path, to)
    except OSError:  # some file systems have no links
        shutil.copy2(path, to)


def _kept(path: Path) -> Path:
    return path.with_name(f".{path.name}.before")


def _fresh(path: Path) -> Path:
    return path.with_name(f".{path.name}.before.new")


def _pair(kept: Path, path: Path) -> None:
    """Give both files the same time stamp, which shows that the cart was not changed since."""
    stamp = path.stat().st_mtime_ns
    os.utime(kept, ns=(stamp, stamp))


def _cannot_keep(path: Path, error: OSError) -> CannotStore:
    return CannotStore(
        str(path), f"cannot be kept for --undo: {plainly(error)}", "check its folder"
    )
