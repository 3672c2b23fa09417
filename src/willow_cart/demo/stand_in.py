"""A web server with configurable faults, for the demo and the tests."""

from __future__ import annotations

import base64
import hashlib
import html
import re
import socket
import ssl
import threading
import time
from collections.abc import Callable, Mapping
from email.utils import formatdate
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Self
from urllib.parse import quote

from willow_cart.structs import Record, Value, field

# 2031-06-01 06:00 UTC: when the trust has put its files up.
PUT_UP = 1_938_060_000.0

_PAGE, _BYTES = "text/html; charset=utf-8", "application/octet-stream"
_MEDIA_TYPES = {
    "html": _PAGE,
    "xml": "application/xml",
    "txt": "text/plain; charset=utf-8",
    "csv": "text/csv",
    "json": "application/json",
    "css": "text/css",
    "js": "text/javascript",
    "svg": "image/svg+xml",
    "png": "image/png",
}

Script = Callable[["StandInHandler"], None]


class Exhibit(Record):
    """A file of the server, and how it is served.

    Attributes:
        content: its bytes.
        entity_tag: the ETag field; made from the content where it is "auto"; None sends none.
        modified: seconds since the epoch for Last-Modified; None sends none.
        ranges: whether byte ranges are served.
        speed: bytes a second; None for as fast as it goes.
        breaks: after how many bytes the connection is cut, one number for each answer to come.
        refusals: answers to give instead, one for each GET to come: status and more fields.
        script: takes over the whole answer.
        media_type: for Content-Type; empty goes by the name.
        members: who is authorised, as `user:password`; empty allows everybody.
    """

    content: bytes = b""
    entity_tag: str | None = "auto"
    modified: float | None = PUT_UP
    ranges: bool = True
    speed: float | None = None
    breaks: list[int] = field(default_factory=list)
    refusals: list[tuple[int, Mapping[str, str]]] = field(default_factory=list)
    script: Script | None = None
    media_type: str = ""
    members: str = ""

    @property
    def tag(self) -> str | None:
        """The value of the ETag field."""
        if self.entity_tag != "auto":
            return self.entity_tag
        return f'"{hashlib.sha256(self.content).hexdigest()[:16]}"'


class SeenRequest(Value):
    """A request that was answered.

    Attributes:
        method, path: as they came.
        fields: header fields, names in lower case.
        status: of the answer; 0 where a script took over.
    """

    method: str
    path: str
    fields: Mapping[str, str]
    status: int


def members_of(folder: str, exhibits: Mapping[str, Exhibit]) -> dict[str, Exhibit | None]:
    """Return what is in a folder itself by name: files, and its subfolders as None."""
    members: dict[str, Exhibit | None] = {}
    for path, exhibit in sorted(exhibits.items()):
        if path.startswith(folder):
            name, slash, _ = path[len(folder) :].partition("/")
            members[name + slash] = None if slash else exhibit
    return members


def make_index(folder: str, exhibits: Mapping[str, Exhibit]) -> bytes:
    """Return the index page of a folder, with sizes rounded as most servers do."""
    rows = [f"<h1>Index of /{folder}</h1><table>", '<tr><td><a href="../">up</a>']
    for name, listed in members_of(folder, exhibits).items():
        size = modified = "-"
        if listed is not None:
            count = len(listed.content)
            size = f"{count / 1024:.1f}K" if count >= 1000 else str(count)
            moment = time.gmtime(listed.modified or 0)
            modified = time.strftime("%Y-%m-%d %H:%M", moment) if listed.modified else ""
        link = f'<a href="{quote(name)}">{html.escape(name)}</a>'
        rows.append(f"<tr><td>{link}<td>{modified}<td>{size}")
    return "\n".join([*rows, "</table>"]).encode()


class StandIn:
    """A web server on a free port.

    Args:
        exhibits: what is served, by path without the first slash.
        port: 0 takes a free one.
        context: for TLS; None serves without.
    """

    def __init__(
        self,
        exhibits: Mapping[str, Exhibit],
        port: int = 0,
        context: ssl.SSLContext | None = None,
        host: str = "127.0.0.1",
    ) -> None:
        self.host = host
        self.exhibits = dict(exhibits)
        self.requests: list[SeenRequest] = []
        self._server = _Server((host, port), self.handler())
        self._scheme = "http" if context is None else "https"
        if context is not None:
            self._server.socket = context.wrap_socket(self._server.socket, server_side=True)
        self._server.stand_in = self
        serve = self._server.serve_forever
        self._thread = threading.Thread(target=serve, args=(0.05,), daemon=True)

    def handler(self) -> type[StandInHandler]:
        """Return the handler class for connections."""
        return StandInHandler

    @property
    def base(self) -> str:
        """The address of the root, without a slash at the end."""
        return f"{self._scheme}://{self.host}:{self._server.server_port}"

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._server.shutdown()
        self._server.server_close()


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    stand_in: StandIn

    def handle_error(self, request: object, client_address: object) -> None:
        """Ignore clients that disconnect."""


class StandInHandler(BaseHTTPRequestHandler):
    """One connection to the server; scripts get it to send any answer."""

    protocol_version = "HTTP/1.1"
    # Fields and body are sent apart; one must not wait for the other's receipt.
    disable_nagle_algorithm = True
    server: _Server

    def do_GET(self) -> None:
        """Answer a GET request."""
        self.answer()

    def do_HEAD(self) -> None:
        """Answer a HEAD request."""
        self.answer()

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002
        """Log nothing."""

    def answer(self) -> None:
        """Answer a request."""
        path = self.path.lstrip("/")
        exhibits = self.server.stand_in.exhibits
        exhibit = exhibits.get(path)
        if exhibit is None and any(each.startswith(path.rstrip("/") + "/") for each in exhibits):
            if not path.endswith("/"):
                self.refuse(301, {"Location": f"/{path}/"})
                return
            exhibit = Exhibit(make_index(path, exhibits), None, None, media_type=_PAGE)
        if exhibit is None:
            self.refuse(404)
        elif exhibit.members and not self._is_member(exhibit.members):
            self.refuse(401, {"WWW-Authenticate": 'Basic realm="members"'})
        elif exhibit.script is not None:
            self._note(0)
            exhibit.script(self)
        elif exhibit.refusals and self.command == "GET":
            self.refuse(*exhibit.refusals.pop(0))
        else:
            self.serve(exhibit)

    def _is_member(self, members: str) -> bool:
        field = f"Basic {base64.b64encode(members.encode()).decode()}"
        return self.headers.get("Authorization") == field

    def refuse(self, status: int, fields: Mapping[str, str] | None = None) -> None:
        """Send a status and a short page."""
        page = f"<title>{status}</title>\n".encode()
        self.start(status, {"Content-Length": str(len(page)), **(fields or {})})
        if self.command != "HEAD" and status != 304:
            self.wfile.write(page)

    def start(self, status: int, fields: Mapping[str, str]) -> None:
        """Send the head of an answer, and record the request."""
        self._note(status)
        self.send_response(status)
        for name, value in fields.items():
            self.send_header(name, value)
        self.end_headers()

    def cut(self) -> None:
        """Cut the connection."""
        self.close_connection = True
        self.connection.shutdown(socket.SHUT_RDWR)

    def _note(self, status: int) -> None:
        fields = {name.lower(): value for name, value in self.headers.items()}
        self.server.stand_in.requests.append(SeenRequest(self.command, self.path, fields, status))

    def serve(self, exhibit: Exhibit) -> None:
        """Send a file, or the requested range of it."""
        name = self.path.rpartition("/")[2]
        media_type = exhibit.media_type or _MEDIA_TYPES.get(name.rpartition(".")[2], _BYTES)
        fields = {"Content-Type": media_type}
        if exhibit.ranges:
            fields["Accept-Ranges"] = "bytes"
        if exhibit.tag:
            fields["ETag"] = exhibit.tag
        if exhibit.modified is not None:
            fields["Last-Modified"] = formatdate(exhibit.modified, usegmt=True)
        if self._is_unchanged(fields):
            self.start(304, fields)
            return
        length = len(exhibit.content)
        part = self._range_of(exhibit, fields)
        start, end = part or (0, length)
        if part:
            fields["Content-Range"] = f"bytes {start}-{end - 1}/{length}"
        fields["Content-Length"] = str(end - start)
        self.start(206 if part else 200, fields)
        if self.command == "GET":
            self._send(exhibit, memoryview(exhibit.content)[start:end])

    def _is_unchanged(self, fields: Mapping[str, str]) -> bool:
        asked = self.headers.get("If-None-Match")
        if asked is not None:
            return asked == fields.get("ETag")
        since = self.headers.get("If-Modified-Since")
        return since is not None and since == fields.get("Last-Modified")

    def _range_of(self, exhibit: Exhibit, fields: Mapping[str, str]) -> tuple[int, int] | None:
        """Return the first requested byte and the one after the last.

        None for the whole.
        """
        match = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", ""))
        if not match or not exhibit.ranges:
            return None
        condition = self.headers.get("If-Range")
        if condition not in (None, fields.get("ETag"), fields.get("Last-Modified")):
            return None
        length = len(exhibit.content)
        start, end = int(match[1]), min(int(match[2] or length) + 1, length)
        return (start, end) if start < length else None

    def _send(self, exhibit: Exhibit, body: memoryview) -> None:
        limit = exhibit.breaks.pop(0) if exhibit.breaks else len(body)
        piece = len(body) if exhibit.speed is None else max(1, int(exhibit.speed / 20))
        for at in range(0, min(limit, len(body)), piece or 1):
            self.wfile.write(body[at : min(at + piece, limit)])
            if exhibit.speed is not None:
                time.sleep(piece / exhibit.speed)
        if limit < len(body):
            self.cut()
