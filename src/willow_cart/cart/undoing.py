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
    fresh = path.with_name(f".{path.name}.before.new")
    try:
        with suppress(FileNotFoundError):
            fresh.unlink()
        try:
            os.link(path, fresh)
        except OSError:  # some file systems have no links
            shutil.copy2(path, fresh)
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
    between = path.with_name(f".{path.name}.before.new")
    try:
        files.replace(path, between)
        files.replace(kept, path)
        files.replace(between, kept)
        _pair(kept, path)
    except OSError as error:
        raise _cannot_keep(path, error) from None


def _kept(path: Path) -> Path:
    return path.with_name(f".{path.name}.before")


def _pair(kept: Path, path: Path) -> None:
    """Give both files the same time stamp, which shows that the cart was not changed since."""
    stamp = path.stat().st_mtime_ns
    os.utime(kept, ns=(stamp, stamp))


def _cannot_keep(path: Path, error: OSError) -> CannotStore:
    return CannotStore(
        str(path), f"cannot be kept for --undo: {plainly(error)}", "check its folder"
    )
