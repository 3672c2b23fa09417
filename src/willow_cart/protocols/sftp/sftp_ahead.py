"""Small files that are requested over SFTP before a lane opens them.

The round trips of several files, and the turns of the event loop that they take, are shared then.
"""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Callable, Coroutine, Sequence
from concurrent.futures import CancelledError, Future, wait
from typing import Any

from willow_cart.addresses import origin_of
from willow_cart.errors import NotServed
from willow_cart.protocols.sftp.sftp_pool import Session, SftpConnections

SmallFile = tuple[Any, bytes]
"""The attributes and the bytes of a file."""

FILES_AHEAD = 16
"""Enough to keep a server busy; each is held in memory, up to the size of a first read."""

# Files that are never asked for, such as those of a host that was given up, are dropped then.
_MOST_KEPT = 256


class SmallFilesAhead:
    """What is on the way; thread-safe.

    Args:
        pool: the connections.
        request: requests a file, in a session, by its address; returns None for a larger one.
    """

    def __init__(
        self,
        pool: SftpConnections,
        request: Callable[[Session, str], Coroutine[Any, Any, SmallFile | None]],
    ) -> None:
        self._pool = pool
        self._request = request
        self._coming: dict[str, Future[SmallFile | None]] = {}
        self._unsuited: set[str] = set()
        self._lock = threading.Lock()

    def begin(self, addresses: Sequence[str]) -> None:
        """Request files of connected servers, without waiting for them."""
        by_session: defaultdict[Session, list[str]] = defaultdict(list)
        for address in addresses:
            session = self._pool.standing(address)
            if session is not None and session.origin not in self._unsuited:
                by_session[session].append(address)
        for session, those in by_session.items():
            answers = self._pool.start_all([self._request(session, each) for each in those])
            with self._lock:
                self._coming.update(zip(those, answers, strict=True))
                for address in [*self._coming][:-_MOST_KEPT]:
                    del self._coming[address]

    def take(self, address: str) -> SmallFile | None:
        """Return the answer for a file; None if it has to be requested.

        Raises:
            TransferFailed: the server does not answer.
        """
        with self._lock:
            coming = self._coming.pop(address, None)
        if coming is None:
            return None
        try:
            return coming.result(self._pool.stall_after)
        except TimeoutError as error:
            raise self._pool.translate(error, address) from error
        except (Exception, CancelledError) as error:
            failure = self._pool.translate(error, address)
            if not (isinstance(failure, NotServed) and failure.status in (403, 404)):
                self._do_without(origin_of(address))
            return None

    def _do_without(self, origin: str) -> None:
        """Request no more files of a server ahead; wait for those that are on the way."""
        self._unsuited.add(origin)
        with self._lock:
            coming = [
                each for address, each in self._coming.items() if origin_of(address) == origin
            ]
        wait(coming, self._pool.stall_after)
