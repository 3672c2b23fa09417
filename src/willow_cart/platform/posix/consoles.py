"""Terminals: whether they know styles, and what closing them means."""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TextIO

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
