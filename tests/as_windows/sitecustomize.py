"""Make this machine as much like Windows as it goes, for the second run of the tests.

Python imports this module when it starts, in every process that has this folder on its path (see
`tools/test_as_windows.sh`). The program gets the family of modules for Windows, with locks that
behave as there, and no file is renamed, replaced or deleted while it is open.
"""

from __future__ import annotations

import errno
import fcntl
import os
from collections.abc import Callable
from types import SimpleNamespace
from typing import Any


def _use_modules_for_windows() -> None:
    import willow_cart.platform as chosen
    from willow_cart.platform.windows import containment, disks, files, kernel, processes

    for module in (containment, disks, files, processes):
        setattr(chosen, module.__name__.rpartition(".")[2], module)
    here = SimpleNamespace(LK_NBLCK=2, locking=_lock)
    vars(files)["import_module"] = lambda _name: here
    kernel.boot_number = lambda: 1


def _lock(descriptor: int, _mode: int, _count: int) -> None:
    """Lock a file as the C library of Windows does: for this handle, or EACCES."""
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        raise OSError(errno.EACCES, os.strerror(errno.EACCES)) from None


def _is_open(path: Any, folder: int | None) -> bool:
    """Whether this process has the file at a path open."""
    try:
        there = os.stat(path, dir_fd=folder, follow_symlinks=False)
    except OSError:
        return False
    for each in os.listdir("/proc/self/fd"):
        try:
            status = os.fstat(int(each))
        except OSError:
            continue  # the list itself was open
        if (status.st_dev, status.st_ino) == (there.st_dev, there.st_ino):
            return True
    return False


def _refusing_open_files(change: Callable[..., None], *folders: str) -> Callable[..., None]:
    """Return a function of `os` that fails for files that are open."""

    def change_closed(*paths: Any, **more: Any) -> None:
        for path, folder in zip(paths, folders, strict=False):
            if _is_open(path, more.get(folder)):
                raise PermissionError(errno.EACCES, "is open, and keeps its name", path)
        change(*paths, **more)

    return change_closed


_use_modules_for_windows()
os.replace = _refusing_open_files(os.replace, "src_dir_fd", "dst_dir_fd")
os.rename = _refusing_open_files(os.rename, "src_dir_fd", "dst_dir_fd")
os.unlink = _refusing_open_files(os.unlink, "dir_fd")
os.remove = _refusing_open_files(os.remove, "dir_fd")
