"""Open files that a user names; devices and pipes that never end are refused."""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path
from typing import BinaryIO

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
