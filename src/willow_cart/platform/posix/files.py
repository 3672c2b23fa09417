"""Single files: reading and writing at an offset, syncing, renaming, times, modes and names."""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
import sys
import unicodedata
from contextlib import suppress
from pathlib import Path
from urllib.parse import unquote_to_bytes

from willow_cart.platform.posix.c_library import function

assert sys.platform != "win32", "there is another family for it"

# linux/fs.h: fail rather than replace a file that has the name.
_RENAME_NOREPLACE = 1


def read_at(descriptor: int, count: int, start: int) -> bytes:
    """Return up to a number of bytes of a file from an offset; its position stays."""
    return os.pread(descriptor, count, start)


def read_into(descriptor: int, buffer: memoryview, start: int) -> int:
    """Fill a buffer from an offset of a file; return how many bytes there were."""
    return os.preadv(descriptor, [buffer], start)


def write_at(descriptor: int, data: bytes | memoryview, start: int) -> int:
    """Write bytes at an offset of a file; return how many were written."""
    return os.pwrite(descriptor, data, start)


OPEN_TO_SYNC = os.O_RDONLY
"""How a file is opened to be synced."""


def sync(descriptor: int) -> None:
    """Sync a file, or the names in an open folder, to the disk.

    On macOS only F_FULLFSYNC has the disk write what it was given (fcntl(2) there).

    Raises:
        OSError: the disk would not take it.
    """
    if sys.platform == "darwin":
        import fcntl

        try:
            fcntl.fcntl(descriptor, fcntl.F_FULLFSYNC)
        except OSError:  # a network disk does not know it
            os.fsync(descriptor)
    else:
        os.fsync(descriptor)


def replace(
    name: str | Path, to: str | Path, folder: int | None = None, to_folder: int | None = None
) -> None:
    """Give a file a name, in place of one that has it, at once.

    Args:
        name: of the file in its folder.
        to: the name that it gets.
        folder: the directory descriptor of its folder; None where the names are full paths.
        to_folder: as above of the one that it is moved to.

    Raises:
        OSError: the file cannot be moved.
    """
    os.replace(name, to, src_dir_fd=folder, dst_dir_fd=to_folder)


def replace_with_open(descriptor: int, path: Path, to: Path) -> None:
    """Give an open file a name, in place of one that has it, and close it.

    Its lock lasts until it has the name.

    Raises:
        OSError: the file cannot be moved.
    """
    try:
        os.replace(path, to)
    finally:
        os.close(descriptor)


def move_to_new_name(
    name: str, to: str, folder: int | None = None, to_folder: int | None = None
) -> None:
    """Move a file to a free name (renameat2(2), RENAME_NOREPLACE).

    Where the system or the disk cannot do that, the name is looked at just before.

    Args:
        name: as for `replace`, and so are the others.
        to: see there.
        folder: see there.
        to_folder: see there.

    Raises:
        FileExistsError: something has the name.
        OSError: the file cannot be moved.
    """
    renameat2 = function("renameat2")
    if renameat2 is not None and folder is not None and to_folder is not None:
        names = os.fsencode(name), os.fsencode(to)
        if renameat2(folder, names[0], to_folder, names[1], _RENAME_NOREPLACE) == 0:
            return
        number = ctypes.get_errno()
        if number not in (errno.ENOSYS, errno.EINVAL):
            raise OSError(number, os.strerror(number), to)
    with suppress(FileNotFoundError):
        os.stat(to, dir_fd=to_folder, follow_symlinks=False)
        raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), to)
    os.replace(name, to, src_dir_fd=folder, dst_dir_fd=to_folder)


def set_modified(name: str, nanoseconds: int, folder: int | None) -> None:
    """Set the modification time of a file, or of a link itself.

    Raises:
        OSError, OverflowError: the disk cannot write that time.
    """
    os.utime(name, ns=(nanoseconds, nanoseconds), dir_fd=folder, follow_symlinks=folder is None)


def open_to_look(path: bytes | str | Path) -> int:
    """Open the file at a path for reading, without waiting for the other end of a pipe.

    Raises:
        OSError: it cannot be opened.
    """
    return os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)


def open_private(path: Path) -> int:
    """Open a file to be read and written that only its owner may open, and follow no link to it.

    Raises:
        OSError: it cannot be opened.
    """
    return os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)


def give_usual_mode(descriptor: int, like: Path) -> None:
    """Give an open file the permissions of a file at a path, or those of a new file.

    Raises:
        OSError: the disk refuses them.
    """
    try:
        mode = like.stat().st_mode & 0o777
    except FileNotFoundError:
        mode = 0o666 & ~_umask()
    os.fchmod(descriptor, mode)


def _umask() -> int:
    """Return which permissions new files do not get.

    Where the system shows it, it is not set to be read: other threads create files meanwhile.
    """
    with suppress(OSError, ValueError), open("/proc/self/status", "rb") as status:
        for line in status:
            if line.startswith(b"Umask:"):
                return int(line.split()[1], 8)
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


def make_private(folder: Path) -> None:
    """Create a folder that only its owner can enter, or restrict an existing one.

    Raises:
        OSError: it cannot be made.
    """
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    if folder.stat().st_mode & 0o077:
        folder.chmod(0o700)


def hide(folder: Path) -> None:  # as Windows has it
    """Do nothing: a folder whose name begins with a dot is hidden."""


def name_of(name: str) -> str:
    """Return a name as this program writes it: older disks of macOS have decomposed ones."""
    return unicodedata.normalize("NFC", name) if sys.platform == "darwin" else name


def path_of_address(address: str) -> bytes:
    """Return the path of a `file://` address (RFC 8089)."""
    return unquote_to_bytes(address.removeprefix("file://"))


def address_bytes(path: bytes) -> bytes:
    """Return the part after `file://` for a full path, before it is quoted."""
    return path


assert sys.platform != "win32", "there is another family for it"


def lock(descriptor: int, *, waits: bool = False) -> None:
    """Lock an open file until it is closed.

    Args:
        descriptor: of the file.
        waits: whether to wait for another that has the lock.

    Raises:
        BlockingIOError: another has it.
        OSError: the disk has no locks.
    """
    fcntl.flock(descriptor, fcntl.LOCK_EX | (0 if waits else fcntl.LOCK_NB))


def is_locked(path: Path) -> bool:
    """Whether a process holds the lock of a file; a killed one does not."""
    try:
        # It may be in a folder from elsewhere, as a pipe or a link.
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW)
    except OSError:
        return False
    try:
        fcntl.flock(descriptor, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    finally:
        os.close(descriptor)
    return False
