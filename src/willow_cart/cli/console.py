"""The terminal as an observer of jobs: messages on standard error, bars, passwords, Ctrl-C."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Callable
from contextlib import AbstractContextManager
from typing import BinaryIO, NoReturn

from willow_cart.cli.screen import tell
from willow_cart.errors import Exit
from willow_cart.observer import ReadingProgress, stopped_by_signals
from willow_cart.views.words import Reporter

# ECMA-48 as terminals have it: the bars hide the cursor while they are drawn.
_SHOW_CURSOR = b"\x1b[?25h\n"


class Console(Reporter):
    """Shows the events of a job on a terminal, or in the log of a scheduled run.

    Args:
        begun: called once it is known what a haul is to do; None if that matters to none.
    """

    def __init__(self, begun: Callable[[], None] | None = None) -> None:
        super().__init__(tell, begun, draws=sys.stderr is not None and sys.stderr.isatty())

    def watch_reading(self) -> AbstractContextManager[ReadingProgress]:
        """Draw a progress bar of bytes read, on a terminal."""
        if not sys.stderr.isatty():
            return super().watch_reading()
        from willow_cart.views.bars import ReadingBar

        return ReadingBar()

    def stoppable(self) -> AbstractContextManager[threading.Event]:
        """Return an event that the first Ctrl-C sets; the second one exits at once."""
        return stopped_by_signals(_leave)

    def ask_password(self, user: str) -> str | None:
        """Ask for a password if there is a terminal."""
        from getpass import getpass

        if sys.stdin is None or not (sys.stdin.isatty() and sys.stderr.isatty()):
            return None
        return getpass(f"Password of {user}: ")

    def standard_input(self) -> BinaryIO | None:
        """Return standard input; None if a scheduler started the program without it."""
        return None if sys.stdin is None else sys.stdin.buffer


def _leave() -> NoReturn:
    """Exit at once; everything that arrived is safe."""
    if sys.stderr.isatty():
        os.write(sys.stderr.fileno(), _SHOW_CURSOR)
    os._exit(Exit.INTERRUPTED)
