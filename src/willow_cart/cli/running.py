"""What commands that take long have in common: what was typed, and how they are stopped."""

from __future__ import annotations

import os
import shlex
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from willow_cart.cli.connecting import without_fields
from willow_cart.cli.telling import is_heard
from willow_cart.exits import Exit
from willow_cart.jobs.requests import Request
from willow_cart.redaction import without_secrets

# ECMA-48 as terminals have it: the bars hide the cursor while they are drawn.
_SHOW_CURSOR = b"\x1b[?25h\n"


@contextmanager
def stoppable() -> Iterator[threading.Event]:
    """Set an event when the person wants it to end, and end at once when they do so again."""
    stop = threading.Event()
    if threading.current_thread() is not threading.main_thread():
        yield stop  # signals come to the main one alone
        return

    def end(_signal: int, _frame: object) -> None:
        if stop.is_set() and is_heard():
            raise KeyboardInterrupt  # the script, or the notebook, is more than this
        if stop.is_set():
            # Whoever asks twice wants it at once; nothing that arrived depends on what is skipped.
            if sys.stderr.isatty():
                os.write(sys.stderr.fileno(), _SHOW_CURSOR)
            os._exit(Exit.INTERRUPTED)
        stop.set()

    before = {number: signal.signal(number, end) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield stop
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def shown_command(request: Request) -> str:
    """What was typed, without secrets, to be typed again."""
    return shlex.join(["willow-cart", *map(without_secrets, without_fields(request.typed))])
