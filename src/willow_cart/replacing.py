"""Replace files atomically, but only those that this program has written.

A file is written under another name next to it, and gets its own at the end, so that a kill
leaves the old one or the new one. What a kill leaves of the other name the next time clears.
"""

from __future__ import annotations

import errno
import io
import os
import stat
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from willow_cart.errors import BadOption, CannotStore, plainly
from willow_cart.platform import files

# How much of a file's beginning and end is looked at for a mark of this program.
_INSPECTED_BYTES = 8192

IsOurs = Callable[[bytes], bool]
"""Whether a file was written by this program, by its beginning and its end."""


def marked_with(mark: bytes) -> IsOurs:
    """Return a test for files that contain a mark, compressed or not."""
    return lambda content: mark in content


@contextmanager
def replacing(
    path: Path,
    encoding: str = "utf-8",
    *,
    advice: str = "check its folder",
    is_ours: IsOurs | None = None,
    overwrite: bool = False,
) -> Iterator[io.TextIOWrapper]:
    """Replace a text file atomically.

    Args:
        encoding: as Python names it.
        advice: what to do if it cannot be written.
        is_ours: whether what is there may be replaced; None for a file that was read before, or
            that belongs to this program.
        overwrite: whether it may be replaced whatever it is.

    Raises:
        BadOption: something else is there.
        CannotStore: it cannot be written.
    """
    with replacing_bytes(path, advice=advice, is_ours=is_ours, overwrite=overwrite) as file:
        text = io.TextIOWrapper(file, encoding, errors="surrogateescape", newline="")
        yield text
        text.flush()
        text.detach()


@contextmanager
def replacing_bytes(
    path: Path,
    *,
    advice: str = "check its folder",
    is_ours: IsOurs | None = None,
    overwrite: bool = False,
) -> Iterator[BinaryIO]:
    """Replace a binary file atomically.

    Args:
        path: as for `replacing`, and so are the others.
        advice: see there.
        is_ours: see there.
        overwrite: see there.

    Raises:
        BadOption, CannotStore: as above.
    """
    place = _require_ours(path, is_ours, overwrite=overwrite)
    unfinished = place.with_name(f".{_shortened(place.name)}.unfinished")
    done = False
    descriptor = -1
    try:
        descriptor = _open_unfinished(unfinished)
        with open(descriptor, "w+b", closefd=False) as file:
            yield file
            file.flush()
        files.sync(descriptor)
        files.give_usual_mode(descriptor, place)
        named, descriptor = descriptor, -1
        files.replace_with_open(named, unfinished, place)
        done = True
    except BlockingIOError:
        done = True  # it is another's
        raise CannotStore(
            str(path), "is being written by another command", "wait until it ends"
        ) from None
    except OSError as error:
        raise CannotStore(str(path), f"cannot be written: {plainly(error)}", advice) from None
    finally:
        if descriptor >= 0:
            os.close(descriptor)
        if not done:
            with suppress(OSError):
                os.unlink(unfinished)


def require_output(path: Path, is_ours: IsOurs | None = None, *, overwrite: bool = False) -> None:
    """Refuse an output path early if a file of another program is there.

    Raises:
        BadOption: something does.
    """
    _require_ours(path, is_ours, overwrite=overwrite)


def _require_ours(path: Path, is_ours: IsOurs | None, *, overwrite: bool) -> Path:
    """Return the path to write: the given one, or the target of a link there that is ours.

    Raises:
        BadOption: what is there must not be replaced.
    """
    try:
        status = os.lstat(path)
    except OSError:
        return path
    if overwrite and not stat.S_ISDIR(status.st_mode):
        return path
    target = Path(os.path.realpath(path))
    with suppress(OSError):
        if stat.S_ISDIR(os.stat(target).st_mode):
            raise BadOption(str(path), "is a folder", "name a file")
        if stat.S_ISREG(os.stat(target).st_mode) and (
            is_ours is None or not os.stat(target).st_size or is_ours(_looked_at(target))
        ):
            return target
    raise BadOption(
        str(path),
        "exists and was not written by Willow Cart",
        "name another file, or use --overwrite",
    )


def _looked_at(path: Path) -> bytes:
    """Return the start and the end of a file; of a compressed file also its content's start."""
    with path.open("rb") as file:
        beginning = file.read(_INSPECTED_BYTES)
        file.seek(max(0, os.fstat(file.fileno()).st_size - _INSPECTED_BYTES))
        end = file.read(_INSPECTED_BYTES)
    unpacked = b""
    if beginning.startswith(b"\x1f\x8b"):
        with suppress(zlib.error):
            unpacked = zlib.decompressobj(31).decompress(beginning, _INSPECTED_BYTES)
    return beginning + unpacked + end


def make_folder_of(path: Path) -> None:
    """Make the folder that an output is written to.

    Raises:
        OSError: it cannot be made.
    """
    path.absolute().parent.mkdir(parents=True, exist_ok=True)


def _open_unfinished(path: Path) -> int:
    """Open the temporary file, in a folder that is made if needed.

    Leftovers of an earlier run are removed.

    Raises:
        BlockingIOError: another command is writing it.
        OSError: it cannot be opened.
    """
    make_folder_of(path)
    with suppress(FileNotFoundError):
        status = os.lstat(path)
        if not stat.S_ISREG(status.st_mode) or status.st_nlink > 1:
            os.unlink(path)
    descriptor = files.open_private(path)
    try:
        _lock(descriptor)
        os.truncate(descriptor, 0)
    except BaseException:
        os.close(descriptor)
        raise
    return descriptor


def _lock(descriptor: int) -> None:
    try:
        files.lock(descriptor)
    except BlockingIOError:
        raise
    except OSError:
        return  # some disks know no locks


def _shortened(name: str) -> str:
    return name.encode()[:200].decode("utf-8", "ignore")


# What a shell hands a command as a file: `<(...)`, and standard input by its name.
_FROM_SHELL = ("/dev/fd/", "/proc/self/fd/", "/dev/stdin", "/dev/null")


def open_named(path: Path | str) -> BinaryIO:
    """Open a file for reading.

    Raises:
        OSError: it cannot be opened, or is a folder, a device or a named pipe.
    """
    mode = os.stat(path).st_mode
    if stat.S_ISDIR(mode):
        raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), str(path))
    if not stat.S_ISREG(mode) and not os.fspath(path).startswith(_FROM_SHELL):
        raise OSError(errno.EINVAL, "is a device or a pipe; write - and pipe it in", str(path))
    return open(path, "rb")
