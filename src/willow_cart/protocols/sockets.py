"""Supervised sockets: spaced requests, bounded reads, and a common abort."""

from __future__ import annotations

import io
import socket
import ssl
import threading
import time
import weakref
from collections import defaultdict, deque
from collections.abc import Callable
from contextlib import suppress
from random import random
from typing import Any

from willow_cart.options.groups import PaceOptions
from willow_cart.platform import processes

# A connection attempt looks this often whether it is still wanted, in seconds.
_TICK_SECONDS = 0.1

# After this time the next address of a host is tried as well (RFC 8305, 5).
_HEAD_START_SECONDS = 0.25


class RequestPacer:
    """Keeps a gap between requests to one host, measured from when they are sent.

    Args:
        pace: has the gap that follows a request.
        clock: monotonic, in seconds.
    """

    def __init__(self, pace: PaceOptions, clock: Callable[[], float] = time.monotonic) -> None:
        self._pace = pace
        self._clock = clock
        self._lock = threading.Lock()
        self._next: dict[str, float] = {}
        self._lines: defaultdict[str, threading.Lock] = defaultdict(threading.Lock)

    def wait(self, host: str, pause: Callable[[float], object]) -> None:
        """Wait for the next turn at a host; one at a time, so that the gap is kept when sending.

        Args:
            pause: waits for a number of seconds.
        """
        with self._lock:
            line = self._lines[host]
        with line:
            left = self._next.get(host, 0.0) - self._clock()
            if left > 0:
                pause(left)
            self._next[host] = self._clock() + self._gap()

    def reserve(self, host: str) -> float:
        """Reserve the next turn at a host; return the seconds until then."""
        with self._lock:
            now = self._clock()
            turn = max(now, self._next.get(host, now))
            self._next[host] = turn + self._gap()
            return turn - now

    def _gap(self) -> float:
        return self._pace.gap_after(random())  # noqa: S311  # not a secret


class SocketGuard:
    """Supervises the sockets of one protocol; thread-safe.

    Args:
        pacer: spaces requests; None for no gaps.
    """

    def __init__(self, pacer: RequestPacer | None = None) -> None:
        self._pacer = pacer
        self._lock = threading.Lock()
        self._sockets: weakref.WeakSet[socket.socket] = weakref.WeakSet()
        self._aborted = threading.Event()

    def wait_turn(self, host: str) -> None:
        """Wait until a request to a host may be sent.

        Raises:
            ConnectionAbortedError: `abort` was called.
        """
        if self._pacer is not None:
            self._pacer.wait(host, self._aborted.wait)
        self._require_wanted()

    def connect(self, address: tuple[str, int], timeout: float) -> socket.socket:
        """Connect to the first address of a host that answers, and register the socket.

        An address that does not answer soon is waited for next to the next one (RFC 8305).

        Args:
            address: host and port.
            timeout: seconds for each of the host's addresses.

        Raises:
            socket.gaierror: the name cannot be resolved.
            TimeoutError: no address answers in time.
            OSError: the connection fails, or `abort` was called.
        """
        host, port = address
        # RFC 6724: the system gives the addresses in the order in which to try them.
        left = deque(socket.getaddrinfo(host.strip("[]"), port, type=socket.SOCK_STREAM))
        failure: OSError = OSError(f"{host} has no address")
        trying: dict[socket.socket, float] = {}  # until when, by the monotonic clock
        next_at = 0.0
        try:
            while left or trying:
                self._require_wanted()
                if left and time.monotonic() >= next_at:
                    family, kind, protocol, _, there = left.popleft()
                    sock = socket.socket(family, kind, protocol)
                    trying[sock] = time.monotonic() + timeout
                    next_at = time.monotonic() + _HEAD_START_SECONDS
                    sock.setblocking(False)
                else:
                    sock, there = next(iter(trying)), None
                    trying[sock] = trying.pop(sock)  # they take turns
                try:
                    if self._is_connected(sock, there, trying[sock], _TICK_SECONDS / len(trying)):
                        sock.settimeout(timeout)
                        self.watch(sock)
                        del trying[sock]
                        return sock
                except OSError as error:
                    sock.close()
                    del trying[sock]
                    failure, next_at = error, 0.0
            raise failure
        finally:
            for each in trying:
                each.close()

    @staticmethod
    def _is_connected(sock: socket.socket, there: Any, until: float, seconds: float) -> bool:
        """Begin to connect, or wait a moment for that, without blocking longer.

        Args:
            sock: to be connected.
            there: the address; None if it was begun.
            until: when it is given up.
            seconds: how long to wait.

        Raises:
            OSError: it cannot be connected.
        """
        if there is not None:
            with suppress(BlockingIOError):
                sock.connect(there)
                return True
            return False
        if not processes.is_settled(sock, seconds):
            if time.monotonic() > until:
                raise TimeoutError("timed out")
            return False
        if error := sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR):
            raise OSError(error, "cannot connect")
        return True

    def watch(self, sock: socket.socket) -> None:
        """Register a socket with `abort` while it is in use."""
        with self._lock:
            self._sockets.add(sock)
        self._require_wanted()

    def abort(self) -> None:
        """Close every connection now; waiting threads get an error."""
        self._aborted.set()
        with self._lock:
            sockets = list(self._sockets)
        for sock in sockets:
            with suppress(OSError):
                socket.socket.shutdown(sock, socket.SHUT_RDWR)  # not TLS's, which would wait

    def _require_wanted(self) -> None:
        if self._aborted.is_set():
            raise ConnectionAbortedError("the program is stopping")


class TimedReader(io.RawIOBase):
    """A reader of a socket with a deadline.

    Args:
        sock: the socket.
        stall_seconds: without a byte, after which a single receive is given up.

    Attributes:
        deadline: by the monotonic clock; whatever is being read must have come by then.
        was_cut: whether a TLS connection ended without the alert that states it (RFC 8446, 6.1).
        is_paused: whether reading returns None, as if nothing had come yet.
    """

    def __init__(self, sock: socket.socket, stall_seconds: float) -> None:
        self._sock = sock
        # The library closes a socket when its last file is closed, so there must be one.
        self._file = sock.makefile("rb", buffering=0)
        self._stall_seconds = stall_seconds
        self._limit = 0.0  # the socket's own time limit is not known
        self.deadline = time.monotonic() + stall_seconds
        self.was_cut = False
        self.is_paused = False

    def readable(self) -> bool:
        """Return True."""
        return True

    def allow(self, seconds: float) -> None:
        """Move the deadline to this many seconds from now."""
        self.deadline = time.monotonic() + seconds

    def readinto(self, buffer: Any) -> int | None:
        """Receive available bytes, waiting for at least one; 0 at the end, None while paused.

        Raises:
            TimeoutError: nothing came in time.
            OSError: the connection broke.
        """
        if self.is_paused:
            return None
        left = self.deadline - time.monotonic()
        if left <= 0:
            raise TimeoutError("timed out")
        limit = left if left < 0.9 * self._stall_seconds else self._stall_seconds
        if limit != self._limit:
            self._sock.settimeout(limit)
            self._limit = limit
        try:
            count = self._file.readinto(buffer)
        except ssl.SSLEOFError:
            self.was_cut = True
            return 0
        return count or 0

    def close(self) -> None:
        """Close the file; the socket stays open while others use it."""
        self._file.close()
        super().close()
