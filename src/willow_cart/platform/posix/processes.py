"""Processes: helpers of a command, those that go on without it, and how they are stopped."""

from __future__ import annotations

import os
import select
import shlex
import signal
import socket
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path
from tempfile import TemporaryFile
from typing import Any, TextIO

from willow_cart.platform.posix import c_library

assert sys.platform != "win32", "there is another family for it"


def usable_processors() -> int:
    """Return how many processors this process may use."""
    if sys.platform == "darwin":
        return os.cpu_count() or 1
    else:  # this is another system
        return len(os.sched_getaffinity(0))


# Numbers of parameters in malloc.h of glibc, and their values: larger pieces are mapped by
# themselves, and as much freed memory is kept.
_TRIM_THRESHOLD = -1
_MMAP_THRESHOLD = -3
_LARGEST_FROM_FREED_BYTES = 4 << 20
_KEPT_FREED_BYTES = 64 << 20


def files_to_keep_open(most: int) -> int:
    """Return how many files may stay open for later: a quarter of what the system allows."""
    import resource  # few commands need it

    allowed, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
    return most if allowed == resource.RLIM_INFINITY else max(1, min(most, allowed // 4))


@cache
def keep_freed_memory() -> None:
    """Have pieces of a megabyte come from memory that was freed before; done once.

    The allocator of glibc returns each to the system and takes it again, page by page, which takes
    as long as receiving what is put there (mallopt(3)). Other systems need no such call.
    """
    if (mallopt := c_library.function("mallopt")) is not None:
        mallopt(_MMAP_THRESHOLD, _LARGEST_FROM_FREED_BYTES)
        mallopt(_TRIM_THRESHOLD, _KEPT_FREED_BYTES)


def words_of(command: str) -> list[str]:
    """Split a command into words as the shell does (POSIX.1-2017, Shell, 2.2).

    Raises:
        ValueError: a quote is not closed.
    """
    return shlex.split(command)


def has_other_users() -> bool:
    """Whether other people have accounts on this machine, from 1000 on as useradd(8) counts."""
    import pwd

    return any(
        1000 <= each.pw_uid < 60_000
        and each.pw_uid != os.getuid()
        and not each.pw_shell.endswith(("nologin", "false"))
        for each in pwd.getpwall()
    )


@contextmanager
def handing_over(text: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """Hand a text to a process that is started within, so that no other user can read it.

    Yields:
        The name by which the process gets the text, and arguments for `subprocess.Popen`.
    """
    with TemporaryFile() as file:
        file.write(text.encode("utf-8", "surrogateescape"))
        file.flush()
        yield str(file.fileno()), {"pass_fds": (file.fileno(),)}


def handed_over(name: str) -> str:
    """Return the text that was handed to this process."""
    with open(int(name), "rb") as file:
        file.seek(0)
        return file.read().decode("utf-8", "surrogateescape")


def apart() -> dict[str, Any]:
    """Return the arguments for `subprocess.Popen` that let a process outlive its terminal."""
    return {"start_new_session": True}  # setsid(2)


def end_family(process: int) -> None:
    """End a process that was started `apart`, and those that it has started, at once."""
    with suppress(ProcessLookupError, PermissionError):
        os.killpg(process, signal.SIGKILL)


def ask_to_end(process: int, folder: Path) -> None:  # noqa: ARG001  # as Windows has it
    """Ask a process to end in order.

    Args:
        folder: of its own, where it listens.
    """
    with suppress(ProcessLookupError):
        os.kill(process, signal.SIGTERM)


def listen_for_end(folder: Path) -> None:  # as Windows has it
    """Do nothing: a process that is to end gets a signal."""


assert sys.platform != "win32", "there is another family for it"


def has_something(sock: Any) -> bool:
    """Whether bytes, or the end, have come on a socket."""
    waiter = select.poll()
    waiter.register(sock, select.POLLIN)
    return bool(waiter.poll(0))


def is_settled(sock: Any, seconds: float) -> bool:
    """Whether a connection that is being made is there or has failed, within some seconds."""
    waiter = select.poll()
    waiter.register(sock, select.POLLOUT)
    return bool(waiter.poll(seconds * 1000))


def acknowledge_at_once(sock: Any) -> None:
    """Acknowledge what has come on a TCP connection, where the system can be told to (Linux).

    It would wait for something to send along with it, for up to 40 ms.
    """
    if (option := getattr(socket, "TCP_QUICKACK", None)) is not None:
        sock.setsockopt(socket.IPPROTO_TCP, option, 1)


assert sys.platform != "win32", "there is another family for it"

STOP_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
"""What asks a command to end in order: Ctrl-C, kill(1), and a terminal that is closed."""


def has_styles(stream: TextIO) -> bool:
    """Whether a stream leads to a terminal that knows escape sequences (ECMA-48)."""
    return stream.isatty() and os.environ.get("TERM", "") != "dumb"


@contextmanager
def held_open(stop: Callable[[], None]) -> Iterator[None]:  # noqa: ARG001  # as Windows has it
    """Do nothing: a terminal that is closed sends a signal, and the program goes on."""
    yield
