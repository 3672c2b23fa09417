"""Consoles: whether they know styles, and what closing them means."""

from __future__ import annotations

import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TextIO

from willow_cart.platform.windows import kernel

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
