"""Locks of open files (flock(2)), which end with their process."""

from __future__ import annotations

import fcntl
import os
import sys
from pathlib import Path

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
        descriptor = os.open(path, os.O_RDONLY)
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
