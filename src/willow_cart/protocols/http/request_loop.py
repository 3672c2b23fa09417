"""Request many small files of one origin in one thread, with several requests in flight.

A request costs the wait for its answer, and small files little else. So requests are in flight
over several connections that do not block, and whichever answer has come is read; meanwhile the
server works on the others. Heads, chunks and trailers are parsed by llhttp, which is strict.

Only plain answers are read here. Whatever is odd is left to the ordinary way, which knows the rules
for it: large files, redirects, sign-ins, answers without a length, and framing that llhttp refuses.
"""

from __future__ import annotations

import selectors
import ssl
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence

import httptools

from willow_cart.protocols.base import MAX_SMALL_BYTES
from willow_cart.protocols.http import http_rules as rules
from willow_cart.protocols.http.http_connection import (
    Answer,
    CannotConnect,
    ConnectionPool,
    WebConnection,
)
from willow_cart.protocols.http.http_response import MAX_INTERIM_RESPONSES, Fields

_BUFFER_BYTES = 128 << 10

# What takes longer than this is left to the ordinary way, which waits as long as the user allows.
_PATIENCE_SECONDS = 5.0

# How often a wish to stop is noticed.
_TICK_SECONDS = 0.1

_PLAIN = frozenset({200, 304})

# A sign-in, a proxy's, and a wish for another connection (RFC 9110, 15.5).
_DIALOGUES = frozenset({401, 407, 408, 421})


class _Line:
    """A connection with one request in flight at a time; its parser calls it.

    Args:
        connection: the connection.
        has_served: whether an answer has come over it before.

    Attributes:
        sock: its socket, which does not block.
        number, request: the request in flight.
        since: when that was sent, by the monotonic clock.
        is_done: whether the whole answer has come.
        is_odd: whether the answer is left to the ordinary way.
    """

    def __init__(self, connection: WebConnection, has_served: bool) -> None:
        self.connection = connection
        self.sock = connection.lent()
        self.has_served = has_served
        self.number, self.request = -1, b""
        self.since = float("inf")
        self.is_done = self.is_odd = False
        self._may_stay = True
        self._is_tls = isinstance(self.sock, ssl.SSLSocket)
        self._parser = httptools.HttpResponseParser(self)
        self._pairs: list[tuple[str, str]] = []
        self._fields: Fields | None = None
        self._pieces: list[bytes] = []
        self._size = self._interim = 0

    def send(self, number: int, request: bytes) -> bool:
        """Send a request; return whether that went well."""
        self.number, self.request, self.since = number, request, time.monotonic()
        self.is_done, self._fields, self._size, self._interim = False, None, 0, 0
        self._pairs, self._pieces = [], []
        try:
            return bool(self.sock.send(request) == len(request))
        except OSError:
            return False

    def receive(self, buffer: memoryview) -> bool:
        """Read what has come; return False if the connection has broken."""
        while True:
            try:
                count = self.sock.recv_into(buffer)
            except (BlockingIOError, ssl.SSLWantReadError):
                return True
            except OSError:
                return False
            if not count:
                return False
            try:
                self._parser.feed_data(buffer[:count])
            except (httptools.HttpParserError, httptools.HttpParserUpgrade):
                # What follows a whole answer is not part of it.
                self._may_stay, self.is_odd = False, not self.is_done
            if self.is_done or self.is_odd or not self._is_tls:
                return True  # of TLS, more may have come than the system knows of

    def take(self) -> tuple[int, Answer]:
        """Return the answer that has come, after its status."""
        assert self._fields is not None, "the head of an answer that is done has come"
        status = self._parser.get_status_code()
        self.has_served = True
        spent = time.monotonic() - self.since
        return status, Answer.received_whole(status, self._fields, b"".join(self._pieces), spent)

    def is_usable(self) -> bool:
        """Whether the connection can carry another request."""
        return self._may_stay and self.connection.is_usable()

    # What the parser calls

    def on_message_begin(self) -> None:
        """Notice an answer without a request."""
        self._may_stay &= not self.is_done

    def on_header(self, name: bytes, value: bytes) -> None:
        """Take a field of the head; those of the trailer are skipped."""
        if self._fields is None:
            self._pairs.append((name.decode("latin-1"), value.decode("latin-1")))

    def on_headers_complete(self) -> None:
        """Judge whether the answer can be read here."""
        status = self._parser.get_status_code()
        if self.is_done:
            return
        if 100 <= status < 200:
            self._interim += 1
            self._pairs = []
            self.is_odd |= status == 101 or self._interim > MAX_INTERIM_RESPONSES
            return
        fields = self._fields = Fields(self._pairs)
        if status == 304:
            pass  # it has no body (RFC 9110, 15.4.5)
        elif "Transfer-Encoding" in fields:
            self.is_odd |= fields["Transfer-Encoding"].strip().lower() != "chunked"
        elif (length := fields.get("Content-Length")) is None:
            self.is_odd = True  # it ends with its connection
        else:
            self.is_odd |= int(length) > MAX_SMALL_BYTES
        self.is_odd |= status not in _PLAIN and (status < 400 or status in _DIALOGUES)

    def on_body(self, data: bytes) -> None:
        """Take some of the body."""
        if not self.is_done:
            self._pieces.append(data)
            self._size += len(data)
            self.is_odd |= self._size > MAX_SMALL_BYTES

    def on_message_complete(self) -> None:
        """Note that the answer is whole, unless it is an interim one (RFC 9110, 15.2)."""
        if self._fields is not None and not self.is_done:
            self.is_done = True
            self._may_stay &= self._parser.should_keep_alive()


class RequestLoop:
    """Sends requests to one origin over connections of its pool.

    Args:
        pool: gives the connections, and takes them back.
        at_once: how many requests are in flight at a time.
        is_wanted: whether to go on.
    """

    def __init__(self, pool: ConnectionPool, at_once: int, is_wanted: Callable[[], bool]) -> None:
        self._pool = pool
        self._at_once = at_once
        self._is_wanted = is_wanted
        self._selector = selectors.DefaultSelector()
        self._buffer = memoryview(bytearray(_BUFFER_BYTES))
        self._waiting: deque[tuple[int, bytes]] = deque()
        self._busy: set[_Line] = set()
        self._again: set[int] = set()
        self._goes_on = True

    def run(self, requests: Sequence[tuple[int, bytes]]) -> Iterator[tuple[int, Answer | None]]:
        """Send numbered requests in their order; yield their numbers and the answers, as they come.

        None stands for an answer that is left to the ordinary way. After the answer of a busy
        host, a break, or a wait no more is sent; requests in flight still complete. A number that
        is not yielded was not sent, or its answer was lost.
        """
        self._waiting.extend(requests)
        try:
            for _ in range(min(self._at_once, len(requests))):
                self._send_next()
            while self._busy and self._is_wanted():
                for key, _ in self._selector.select(_TICK_SECONDS):
                    yield from self._receive(key.data)
                self._end_late_ones()
        finally:
            for line in [*self._busy]:
                self._end(line)
            self._selector.close()

    def _receive(self, line: _Line) -> Iterator[tuple[int, Answer | None]]:
        """Read what has come over a connection; yield its answer once that is whole."""
        number, is_alive = line.number, line.receive(self._buffer)
        if line.is_odd:
            self._end(line)
            self._send_next()
            yield number, None
        elif line.is_done:
            status, answer = line.take()
            self._goes_on &= not rules.is_passing(status)
            # The server works on the next one while this one is taken.
            self._send_next(line)
            yield number, answer
        elif not is_alive:
            self._lose(line)

    def _send_next(self, line: _Line | None = None) -> None:
        """Send the next request, over this connection if it can carry one, or else over another."""
        has_more = bool(self._waiting) and self._goes_on
        if line is not None and not line.is_usable():
            self._end(line)
            line = None
        if not has_more:
            if line is not None:
                self._give_back(line)
            return
        if (line := line or self._new_line()) is None:
            return
        number, request = self._waiting.popleft()
        if not line.send(number, request):
            self._lose(line)

    def _new_line(self) -> _Line | None:
        """Return another connection; None if none can be made, which the ordinary way reports."""
        try:
            line = _Line(*self._pool.take())
        except CannotConnect:
            self._goes_on = False
            return None
        self._busy.add(line)
        self._selector.register(line.sock, selectors.EVENT_READ, line)
        return line

    def _lose(self, line: _Line) -> None:
        """End a broken connection.

        Its request is sent once more if it may have been closed for being idle (RFC 9112, 9.3.1).
        """
        self._end(line)
        if line.has_served and line.number not in self._again:
            self._again.add(line.number)
            self._waiting.appendleft((line.number, line.request))
            self._send_next()
        else:
            self._goes_on = False

    def _end_late_ones(self) -> None:
        late = time.monotonic() - _PATIENCE_SECONDS
        for line in [line for line in self._busy if line.since < late]:
            self._goes_on = False
            self._end(line)

    def _forget(self, line: _Line) -> None:
        self._busy.discard(line)
        self._selector.unregister(line.sock)

    def _give_back(self, line: _Line) -> None:
        self._forget(line)
        self._pool.give_back(line.connection.taken_back())

    def _end(self, line: _Line) -> None:
        self._forget(line)
        line.connection.end()
