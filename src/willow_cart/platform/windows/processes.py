"""Processes: helpers of a command, those that go on without it, and how they are stopped."""

from __future__ import annotations

import os
import select
import shlex
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TextIO

from willow_cart.platform.windows import kernel

# Processes cannot send each other signals, so who is to end finds a file with this name.
_END = "end"
_LOOK_SECONDS = 0.25


def usable_processors() -> int:
    """Return how many processors this process may use."""
    return os.cpu_count() or 1


def files_to_keep_open(most: int) -> int:
    """Return how many files may stay open for later; sockets count for themselves here."""
    return most


def keep_freed_memory() -> None:
    """Do nothing: the allocator keeps freed memory by itself."""


def words_of(command: str) -> list[str]:
    r"""Split a command into words; quotes keep words together, and `\` separates folders.

    Raises:
        ValueError: a quote is not closed.
    """
    lexer = shlex.shlex(command, posix=True)
    lexer.whitespace_split = True
    lexer.escape = lexer.commenters = ""
    return list(lexer)


def has_other_users() -> bool:
    """Return False: machines with this system have one user at a time."""
    return False


@contextmanager
def handing_over(text: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """Hand a text to a process that is started within, so that no other user can read it.

    Yields:
        The name by which the process gets the text, and arguments for `subprocess.Popen`.
    """
    yield text, {}  # in a variable, which is for its owner and the operators


def handed_over(name: str) -> str:
    """Return the text that was handed to this process."""
    return name


def apart() -> dict[str, Any]:
    """Return the arguments for `subprocess.Popen` that let a process outlive its console."""
    if sys.platform == "win32":
        import subprocess

        return {"creationflags": subprocess.CREATE_NEW_PROCESS_GROUP | subprocess.CREATE_NO_WINDOW}
    else:  # this is another system
        return {"start_new_session": True}


def end_family(process: int) -> None:
    """End a process that was started `apart`, and those that it has started, at once."""
    import subprocess

    tool = os.path.join(os.environ.get("SYSTEMROOT", r"C:\Windows"), "System32", "taskkill.exe")
    subprocess.run(  # noqa: S603  # a part of the system, by its full path
        [tool, "/F", "/T", "/PID", str(process)], capture_output=True, check=False
    )


def ask_to_end(process: int, folder: Path) -> None:  # noqa: ARG001  # as POSIX has it
    """Ask a process to end in order.

    Args:
        folder: of its own, where it listens.
    """
    (folder / _END).touch()


def listen_for_end(folder: Path) -> None:
    """Interrupt the main thread when this process is asked to end."""

    def work() -> None:
        while not (folder / _END).exists():
            if not folder.exists():
                return
            time.sleep(_LOOK_SECONDS)
        signal.raise_signal(signal.SIGINT)

    threading.Thread(target=work, name="end", daemon=True).start()


def has_something(sock: Any) -> bool:
    """Whether bytes, or the end, have come on a socket."""
    return bool(select.select([sock], [], [], 0)[0])


def is_settled(sock: Any, seconds: float) -> bool:
    """Whether a connection that is being made is there or has failed, within some seconds.

    One that has failed is notified of as an exceptional condition (Winsock, select).
    """
    _, ready, failed = select.select([], [sock], [sock], seconds)
    return bool(ready or failed)


def acknowledge_at_once(sock: Any) -> None:
    """Do nothing: a program cannot ask for that."""


STOP_SIGNALS = tuple(
    getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGBREAK") if hasattr(signal, name)
)
"""What asks a command to end in order: Ctrl-C and Ctrl-Break."""

# The system ends a program when its handler returns, or after five seconds.
_CLOSING = (2, 5, 6)  # CTRL_CLOSE_EVENT, CTRL_LOGOFF_EVENT, CTRL_SHUTDOWN_EVENT
_GRACE_SECONDS = 10.0


def has_styles(stream: TextIO) -> bool:
    """Whether a stream leads to a console that knows escape sequences, which are turned on."""
    return stream.isatty() and kernel.turn_on_styles(stream.fileno())


@contextmanager
def held_open(stop: Callable[[], None]) -> Iterator[None]:
    """Keep a console that is being closed until the program has ended in order.

    Args:
        stop: asks the program to end.
    """

    def close(event: int) -> bool:
        if event not in _CLOSING:
            return False
        stop()
        time.sleep(_GRACE_SECONDS)  # the end of the program is the end of this thread
        return True

    with kernel.handling_console_events(close):
        yield
