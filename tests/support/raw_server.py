"""A web server that sends exactly the bytes that a test gives it."""

from __future__ import annotations

import socket
import threading
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Self


@dataclass(frozen=True, slots=True)
class Request:
    """A request as it came.

    Attributes:
        number: of the request at this server, from 1.
        connection: of the connection that it came on, from 1.
        method, target: of the request line.
        fields: by their names in lower case.
        body: what its Content-Length says.
    """

    number: int
    connection: int
    method: str
    target: str
    fields: dict[str, str]
    body: bytes = b""


@dataclass(frozen=True, slots=True)
class Answer:
    """The bytes of an answer, and whether the connection is closed after them."""

    raw: bytes
    closes: bool = False


def answer(
    body: bytes = b"",
    status: str = "200 OK",
    *,
    cut: int | None = None,
    closes: bool = False,
    **fields: object,
) -> Answer:
    """Return an answer with a Content-Length; `_` in a field's name is a hyphen.

    Args:
        body: its content.
        status: code and reason.
        cut: after how many bytes of the content the connection is closed; None for none.
        closes: whether it is closed after the answer.
        fields: further fields; one that is None is left out.
    """
    named = {"content-type": "text/csv", "content-length": len(body)}
    named |= {name.replace("_", "-").lower(): value for name, value in fields.items()}
    lines = [f"{name}: {value}\r\n" for name, value in named.items() if value is not None]
    head = f"HTTP/1.1 {status}\r\n{''.join(lines)}\r\n".encode()
    return Answer(head + body[:cut], closes or cut is not None)


@dataclass
class RawServer:
    """Serves connections, one thread each, until it is closed.

    Attributes:
        respond: makes the answer to a request; None closes the connection without one.
        requests: what came, in order.
    """

    respond: Callable[[Request], Answer | None]
    host: str = "127.0.0.1"
    requests: list[Request] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._socket = socket.create_server((self.host, 0))
        self.port = self._socket.getsockname()[1]
        self.base = f"http://{self.host}:{self.port}"
        self._lock = threading.Lock()
        self._connections = 0

    def __enter__(self) -> Self:
        threading.Thread(target=self._accept, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        with suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()

    def targets(self, method: str = "GET") -> list[str]:
        """Return what was asked for by a method, in order."""
        return [each.target for each in self.requests if each.method == method]

    def _accept(self) -> None:
        with suppress(OSError):
            while True:
                line, _ = self._socket.accept()
                self._connections += 1
                serve = threading.Thread(
                    target=self._serve, args=(line, self._connections), daemon=True
                )
                serve.start()

    def _serve(self, line: socket.socket, connection: int) -> None:
        with suppress(OSError, ValueError), line, line.makefile("rb") as file:
            while head := file.readline():
                method, target, _ = head.decode("latin-1").split(" ", 2)
                fields = {}
                while named := file.readline().decode("latin-1").strip():
                    name, _, value = named.partition(":")
                    fields[name.lower()] = value.strip()
                body = file.read(int(fields.get("content-length", 0)))
                with self._lock:
                    number = len(self.requests) + 1
                    request = Request(number, connection, method, target, fields, body)
                    self.requests.append(request)
                made = self.respond(request)
                if made is not None:
                    line.sendall(made.raw)
                if made is None or made.closes:
                    with suppress(OSError):
                        line.shutdown(socket.SHUT_RDWR)
                    return
