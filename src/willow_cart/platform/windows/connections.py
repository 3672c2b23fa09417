"""Whether sockets have something, or are ready."""

from __future__ import annotations

import select
from typing import Any


def has_something(sock: Any) -> bool:
    """Whether bytes, or the end, have come on a socket."""
    return bool(select.select([sock], [], [], 0)[0])


def is_settled(sock: Any, seconds: float) -> bool:
    """Whether a connection that is being made is there or has failed, within some seconds.

    One that has failed is told of as an exceptional condition (Winsock, select).
    """
    _, ready, failed = select.select([], [sock], [sock], seconds)
    return bool(ready or failed)


def acknowledge_at_once(sock: Any) -> None:
    """Do nothing: a program cannot ask for that."""
