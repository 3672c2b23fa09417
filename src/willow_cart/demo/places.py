"""The demo servers of each protocol, and what they show."""

from __future__ import annotations

import asyncio
import os
import re
import tempfile
import threading
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from email.utils import formatdate
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self
from urllib.parse import quote, unquote
from xml.sax.saxutils import escape

from willow_cart.demo import harrowmere
from willow_cart.demo.field_guide import OLD_CHARSET, OLD_PAGE, make_field_guide
from willow_cart.demo.portal import IdentityHost, Portal
from willow_cart.demo.stand_in import PUT_UP, Exhibit, StandIn, StandInHandler, members_of
from willow_cart.demo.store import DemoStore
from willow_cart.structs import Value

if TYPE_CHECKING:
    import asyncssh


class SshOutbox:
    """An SFTP server for the files of a folder.

    Args:
        folder: what is served, as `/`.
        user, password: who is authorised.

    Attributes:
        base: its address, with the user.
        fingerprint: of its key, as `--host-key` takes it.
    """

    def __init__(self, folder: Path, user: str, password: str) -> None:
        self._folder = folder
        self._user = user
        self._password = password
        self._loop: asyncio.AbstractEventLoop
        self._thread: threading.Thread
        self._server: asyncssh.SSHAcceptor
        self.base = self.fingerprint = ""

    def __enter__(self) -> Self:
        import asyncssh

        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()
        key = asyncssh.generate_private_key("ssh-ed25519")
        self.fingerprint = key.get_fingerprint()

        async def listen() -> asyncssh.SSHAcceptor:
            return await asyncssh.listen(
                "127.0.0.1", 0, server_host_keys=[key],
                server_factory=partial(_make_door, self._user, self._password),
                sftp_factory=partial(asyncssh.SFTPServer, chroot=bytes(self._folder)),
            )  # fmt: skip

        self._server = asyncio.run_coroutine_threadsafe(listen(), self._loop).result()
        self.base = f"sftp://{self._user}@127.0.0.1:{self._server.get_port()}"
        return self

    def __exit__(self, *_: object) -> None:
        async def end() -> None:
            self._server.close()
            await self._server.wait_closed()
            running = asyncio.all_tasks() - {asyncio.current_task()}
            for task in running:
                task.cancel()
            await asyncio.gather(*running, return_exceptions=True)

        asyncio.run_coroutine_threadsafe(end(), self._loop).result()
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join()
        self._loop.close()


def _make_door(user: str, password: str) -> Any:
    """Return what lets one user in by a password."""
    import asyncssh

    class Door(asyncssh.SSHServer):
        def begin_auth(self, username: str) -> bool:  # noqa: ARG002  # everyone is asked
            return True

        def password_auth_supported(self) -> bool:
            return True

        def validate_password(self, username: str, password_: str) -> bool:
            return (username, password_) == (user, password)

    return Door()


with warnings.catch_warnings():
    # The library uses a module of the standard library that Python 3.12 has left out.
    warnings.simplefilter("ignore", DeprecationWarning)
    from pyftpdlib.authorizers import DummyAuthorizer
    from pyftpdlib.handlers import FTPHandler
    from pyftpdlib.log import config_logging
    from pyftpdlib.servers import FTPServer


class Outbox:
    """An FTP server for the files of a folder.

    Args:
        folder: what is served.
        port: 0 takes a free one.
        user: who is authorised, as `user:password`; empty allows everybody.
        most: how many connections at a time; 0 for any number.
        handler: how a connection is served; replaced by tests that want faults.

    Attributes:
        base: the address of its root, without a slash at the end.
    """

    def __init__(
        self,
        folder: Path,
        port: int = 0,
        *,
        user: str = "",
        most: int = 0,
        handler: type[Any] = FTPHandler,
    ) -> None:
        config_logging(level=50)
        authorizer = DummyAuthorizer()
        if user:
            authorizer.add_user(*user.split(":", 1), str(folder), perm="elr")
        else:
            authorizer.add_anonymous(str(folder))
        served = type("Handler", (handler,), {"authorizer": authorizer, "banner": "Harrowmere"})
        self._server = FTPServer(("127.0.0.1", port), served)
        self._server.max_cons = most
        self.base = f"ftp://127.0.0.1:{self._server.address[1]}"
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._serve, daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()

    def _serve(self) -> None:
        # All of the library's sockets belong to the thread that serves them.
        while not self._stop.is_set():
            self._server.serve_forever(timeout=0.05, blocking=False, handle_exit=False)
        self._server.close_all()


_MULTI_STATUS = '<?xml version="1.0"?>\n<D:multistatus xmlns:D="DAV:">{}</D:multistatus>\n'
_RESPONSE = (
    "<D:response><D:href>{}</D:href><D:propstat><D:prop>{}</D:prop>"
    "<D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>"
)
_COLLECTION = "<D:resourcetype><D:collection/></D:resourcetype>"


class DavOutbox(StandIn):
    """A server on a free port that has class 1 of RFC 4918, for reading."""

    def handler(self) -> type[StandInHandler]:
        """Return the handler class for connections."""
        return DavHandler


class DavHandler(StandInHandler):
    """One connection to the server."""

    def answer(self) -> None:
        """Answer a request for a file; a folder is not shown as a page."""
        path, exhibits = unquote(self.path.lstrip("/")), self.server.stand_in.exhibits
        if path not in exhibits and members_of(path, exhibits):
            self.refuse(403)
        else:
            super().answer()

    def do_OPTIONS(self) -> None:  # noqa: N802  # as the library calls it
        """Say what the server can do (RFC 4918, 10.1)."""
        self.start(200, {"DAV": "1", "Allow": "GET, HEAD, PROPFIND", "Content-Length": "0"})

    def do_PROPFIND(self) -> None:  # noqa: N802  # as the library calls it
        """List a folder, or describe a file (RFC 4918, 9.1)."""
        path, exhibits = unquote(self.path.lstrip("/")), self.server.stand_in.exhibits
        folder = path and path.rstrip("/") + "/"
        if path in exhibits:
            responses = [_describe(path, exhibits[path])]
        elif members := members_of(folder, exhibits):
            responses = [_describe(folder, None)]
            if self.headers.get("Depth") == "1":
                responses += [_describe(folder + name, each) for name, each in members.items()]
        else:
            self.refuse(404)
            return
        page = _MULTI_STATUS.format("".join(responses)).encode()
        self.start(207, {"Content-Type": "application/xml", "Content-Length": str(len(page))})
        self.wfile.write(page)


def _describe(path: str, exhibit: Exhibit | None) -> str:
    """Return the response element of a file, or of a folder."""
    if exhibit is None:
        properties = _COLLECTION
    else:
        properties = (
            f"<D:resourcetype/><D:getcontentlength>{len(exhibit.content)}</D:getcontentlength>"
            f"<D:getetag>{escape(exhibit.tag or '')}</D:getetag>"
        )
        if exhibit.modified is not None:
            moment = formatdate(exhibit.modified, usegmt=True)
            properties += f"<D:getlastmodified>{moment}</D:getlastmodified>"
    return _RESPONSE.format(quote(f"/{path}"), properties)


MEMBERS = "ida:reedmace"
"""Who is authorised to what is for members of the made-up trust."""


def make_exhibits() -> dict[str, Exhibit]:
    """Return the trust's files, with the faults that the example demonstrates."""
    exhibits = _as_exhibits(harrowmere.make_files())
    for path, exhibit in exhibits.items():
        if path.endswith(".wav"):
            exhibit.speed = 900_000
    # The line breaks in the middle of one recording.
    exhibits["recordings/dawn_20310510.wav"].breaks = [700_000]
    # The server is busy when one day's levels are requested.
    exhibits["levels/2031-05/level_20310507.csv"].refusals = [(503, {"Retry-After": "1"})]
    # One archive is kept where byte ranges are not known.
    exhibits["seasons/2030.zip"].ranges = False
    for path, content in harrowmere.make_site().items():
        exhibits[path] = Exhibit(content, modified=_put_up(path))
    for path, content in make_field_guide().items():
        media_type = OLD_CHARSET if path == OLD_PAGE else ""
        is_page = path.endswith((".html", "/")) or "/log" in path
        exhibits[path] = Exhibit(content, media_type=media_type or ("text/html" if is_page else ""))
    # An archive has been taken down, and the server says so in a page that claims to be it.
    gone = b"<!doctype html><title>Season 2027: please ask the office</title><p>Taken down."
    exhibits["seasons/2027.zip"] = Exhibit(gone, media_type="text/html")
    exhibits["members/bitterns_2031.csv"] = Exhibit(
        b"date,hide,bitterns\n2031-05-10,alder,2\n", members=MEMBERS
    )
    return exhibits


def _put_up(path: str) -> float:
    """Return when the trust published a file: on the first of the following month."""
    if not (found := re.search(r"/(20\d\d)-(\d\d)/", path)):
        return PUT_UP
    year, month = int(found[1]), int(found[2])
    return datetime(year + month // 12, month % 12 + 1, 1, 6, tzinfo=UTC).timestamp()


class Places(Value):
    """The addresses of the demo servers.

    Attributes:
        web: of the trust's web server, without a slash at the end.
        contractor: of the contractor's FTP server, likewise.
        store: of the object store, likewise.
        portal: of the portal for members, who fill in a form, likewise.
        records: of the ringing scheme, for programs with tokens, likewise.
        nests: of the nest register, likewise, and of the host that vouches for its users.
        shared: of a partner's WebDAV server, likewise.
        ssh: of the contractor's SFTP server, likewise, and the fingerprint of its key.
        outbox: the folder that the contractor's servers show.
    """

    web: str
    contractor: str
    store: str
    portal: str
    records: str
    nests: tuple[str, str]
    shared: str
    ssh: tuple[str, str]
    outbox: Path

    @property
    def sign_ins(self) -> str:
        """What a config file has to say of the places that ask for a sign-in."""
        nests, people = self.nests
        return (
            f'[sign_in.portal]\naddress = "{self.portal}"\nform = "{self.portal}/login"\n'
            'user = "ida"\npassword_env = "FEN_PASSWORD"\n'
            f'\n[sign_in.ringing]\naddress = "{self.records}"\n'
            f'token_address = "{self.records}/token"\n'
            f'client = "{Portal.client}"\nclient_secret_env = "RINGING_SECRET"\n'
            f'\n[sign_in.people]\naddress = "{people}"\nonly_from = "{nests}"\n'
            'user = "ida"\npassword_env = "FEN_PASSWORD"\n'
        )

    @property
    def ssh_options(self) -> list[str]:
        """What lets the user in to the SFTP server."""
        return ["--user", "ida", "--password", "env:FEN_PASSWORD", "--host-key", self.ssh[1]]


@contextmanager
def open_places(folder: Path, port: int = 0) -> Iterator[Places]:
    """Start all demo servers, and write lists into the folder of the example.

    Args:
        folder: where the lists go.
        port: of the web server; 0 takes a free one.
    """
    with (
        StandIn(make_exhibits(), port) as trust,
        tempfile.TemporaryDirectory() as root,
        Outbox(Path(root)) as contractor,
        DemoStore(harrowmere.make_bucket()) as store,
        Portal(_as_exhibits(harrowmere.make_members())) as portal,
        Portal(_as_exhibits(harrowmere.make_records())) as records,
        IdentityHost() as people,
        Portal(_as_exhibits(harrowmere.make_nests()), identity=people.base) as nests,
        DavOutbox(_as_exhibits(harrowmere.make_shared())) as shared,
        SshOutbox(Path(root), Portal.account, Portal.password) as ssh,
    ):
        catalogue = harrowmere.make_catalogue(trust.base)
        portal.exhibits["catalogue"] = Exhibit(catalogue, media_type="application/geo+json")
        trust.exhibits["news.xml"] = Exhibit(harrowmere.make_feed(trust.base))
        for path, content in harrowmere.make_outbox().items():
            file = Path(root, path)
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(content)
            os.utime(file, (PUT_UP, PUT_UP))
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "addresses.txt").write_bytes(harrowmere.make_address_list(trust.base))
        (folder / "archive.csv").write_bytes(harrowmere.make_table(trust.base))
        errand = harrowmere.make_errand(trust.base, contractor.base)
        (folder / "report.toml").write_bytes(errand)
        yield Places(
            web=trust.base,
            contractor=contractor.base,
            store=store.base,
            portal=portal.base,
            records=records.base,
            nests=(nests.base, people.base),
            shared=shared.base,
            ssh=(ssh.base, ssh.fingerprint),
            outbox=Path(root, "outbox"),
        )


def _as_exhibits(files: harrowmere.Files) -> dict[str, Exhibit]:
    return {path: Exhibit(content) for path, content in files.items()}
