"""Whether sockets have something, or are ready; poll(2) takes descriptors of any number."""

from __future__ import annotations

import select
import sys
from typing import Any

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
