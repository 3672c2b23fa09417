"""Putting files in place: by a new one so that a kill leaves the one or the other."""

from __future__ import annotations

import io
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from willow_cart.errors import CannotStore, plainly


@contextmanager
def replacing(
    path: Path, encoding: str = "utf-8", *, advice: str = "see to its folder"
) -> Iterator[io.TextIOWrapper]:
    """Write a text in place of what is at a path, in one step at the end or not at all.

    Args:
        path: of the file.
        encoding: as Python names it.
        advice: what to do if it cannot be written.

    Raises:
        CannotStore: it cannot be written.
    """
    with replacing_bytes(path, advice=advice) as file:
        text = io.TextIOWrapper(file, encoding, errors="surrogateescape", newline="")
        yield text
        text.flush()
        text.detach()


@contextmanager
def replacing_bytes(path: Path, *, advice: str = "see to its folder") -> Iterator[BinaryIO]:
    """Write bytes in place of what is at a path, in one step at the end or not at all.

    Raises:
        CannotStore: they cannot be written.
    """
    temporary = None
    try:
        descriptor, temporary = tempfile.mkstemp(prefix=f".{path.name[:80]}.", dir=path.parent)
        with open(descriptor, "w+b") as file:
            yield file
            file.flush()
            os.fsync(descriptor)
        os.chmod(temporary, _mode_for(path))
        os.replace(temporary, path)
    except OSError as error:
        raise CannotStore(str(path), f"cannot be written: {plainly(error)}", advice) from None
    finally:
        if temporary is not None:
            with suppress(FileNotFoundError):
                os.unlink(temporary)


def _mode_for(path: Path) -> int:
    """The permissions of a file, or those that a new one gets here."""
    with suppress(FileNotFoundError):
        return path.stat().st_mode & 0o777
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask
