"""Whether sockets have something, or are ready; poll(2) takes descriptors of any number."""

from __future__ import annotations

import select
import socket
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


def acknowledge_at_once(sock: Any) -> None:
    """Acknowledge what has come on a TCP connection, where the system can be told to (Linux).

    It would wait for something to send along with it, for up to 40 ms.
    """
    if (option := getattr(socket, "TCP_QUICKACK", None)) is not None:
        sock.setsockopt(socket.IPPROTO_TCP, option, 1)
