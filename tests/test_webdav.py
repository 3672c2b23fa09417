"""WebDAV: folders of Apache's mod_dav and of WsgiDAV, and documents that no server should send."""

from __future__ import annotations

import shutil
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.support.program import files_in, run
from tests.support.servers import apache
from willow_cart.errors import ProtocolError
from willow_cart.protocols.fake import FakeAccess
from willow_cart.protocols.webdav import WebDav

FILES = {
    "level_20310510.csv": b"ten",
    "level_20310511.csv": b"eleven",
    "readings old/a b #1.csv": b"blanks",
    "2031/05/deep.bin": bytes(range(256)) * 4000,
    "übersicht.csv": b"",
}

Serve = Callable[[Path, Path], Any]


@contextmanager
def wsgidav(root: Path, _: Path) -> Iterator[str]:
    """Serve a folder by WsgiDAV; yields its address."""
    from cheroot.wsgi import Server
    from wsgidav.wsgidav_app import WsgiDAVApp  # type: ignore[import-untyped]

    app = WsgiDAVApp(
        {
            "provider_mapping": {"/dav": str(root)},
            "simple_dc": {"user_mapping": {"*": {"ida": {"password": "reedmace"}}}},
            "http_authenticator": {"accept_basic": True, "accept_digest": True},
            "logging": {"enable": False, "enable_loggers": []},
            "verbose": 0,
            "dir_browser": {"enable": False},
        }
    )
    server = Server(("127.0.0.1", 0), app)
    server.prepare()
    thread = threading.Thread(target=server.serve, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.bind_addr[1]}"
    finally:
        server.stop()
        thread.join(10)


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "root"
    for path, content in FILES.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(content)
    return folder


SERVERS = [
    pytest.param(
        apache, id="apache",
        marks=pytest.mark.skipif(shutil.which("apache2", path="/usr/sbin:/usr/bin") is None,
                                 reason="apache2 is not installed"),
    ),
    pytest.param(wsgidav, id="wsgidav"),
]  # fmt: skip


@pytest.mark.parametrize("serve", SERVERS)
def test_folders_come_with_exact_sizes_and_times(
    tmp_path: Path, root: Path, serve: Serve, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FEN", "reedmace")
    signed = ["--user", "ida", "--password", "env:FEN"]
    with serve(root, tmp_path / "work") as base:
        source = [f"{base}/dav/", *signed, "--ignore-robots"]
        top = run("survey", *source, "--as", "webdav", "--json", cwd=tmp_path).json()
        assert {each["path"] for each in top["not_entered"]} == {"2031/", "readings old/"}
        # Its folders have no pages, and it states that it has WebDAV.
        for told in ([], ["--as", "webdav"]):
            found = run("survey", *source, *told, "--depth", "all", "--json", cwd=tmp_path)
            assert found.code == 0, found.err
            offers = {each["path"]: each for each in found.json()["offers"]}
            assert {path: each["size"] for path, each in offers.items()} == {
                path: len(content) for path, content in FILES.items()
            }
            assert all(each["modified"] for each in offers.values())
        haul = ["haul", *source, "--depth", "all", "--as", "webdav", "--into", "data"]
        done = run(*haul, cwd=tmp_path)
        assert done.code == 0, done.err
        assert files_in(tmp_path / "data") == FILES
        assert "all unchanged" in run(*haul, cwd=tmp_path).last_line
        one = run("survey", f"{base}/dav/2031/05/deep.bin", *signed, "--as", "webdav", "--json",
                  cwd=tmp_path).json()  # fmt: skip
        assert [each["size"] for each in one["offers"]] == [1_024_000]
        some = run("survey", f"{base}/dav/level_*.csv", *source[1:], "--as", "webdav",
                   cwd=tmp_path)  # fmt: skip
        assert some.last_line.startswith("2 offers"), some.out + some.err
        gone = run("survey", f"{base}/dav/level_20310519.csv", *signed, "--as", "webdav",
                   cwd=tmp_path)  # fmt: skip
        assert gone.code != 0
        assert "nearby: level_203105" in gone.err


class Told(FakeAccess):
    """Answers with a document.

    Args:
        content: the document.
    """

    def __init__(self, content: bytes) -> None:
        super().__init__({})
        self._content = content

    def has_properties(self, address: str) -> bool:
        return True

    def properties(self, address: str, depth: int) -> tuple[str, bytes]:
        return address, self._content


HOSTILE = b"""<?xml version="1.0"?>
<d:multistatus xmlns:d="DAV:">
 <d:response><d:href>/pub/</d:href><d:propstat><d:prop><d:resourcetype><d:collection/>
  </d:resourcetype></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>
 <d:response><d:href>/pub/a.csv</d:href><d:propstat><d:prop>
  <d:getcontentlength>12</d:getcontentlength></d:prop>
  <d:status>HTTP/1.1 200 OK</d:status></d:propstat><d:propstat><d:prop>
  <d:getlastmodified>nonsense</d:getlastmodified></d:prop>
  <d:status>HTTP/1.1 404 Not Found</d:status>
  </d:propstat></d:response>
 <d:response><d:href>http://other.example/pub/b.csv</d:href></d:response>
 <d:response><d:href>/pub/../secret.csv</d:href></d:response>
 <d:response><d:href>/pub/below/c.csv</d:href></d:response>
 <d:response><d:href>file:///etc/passwd</d:href></d:response>
 <d:response/>
</d:multistatus>"""


def test_only_members_of_the_folder_are_taken() -> None:
    found = WebDav(Told(HOSTILE)).entries("http://h.example/pub/")
    assert [(each.address, each.size, each.modified) for each in found.entries] == [
        ("http://h.example/pub/a.csv", 12, None)
    ]
    (problem,) = found.problems
    assert problem.startswith("4 entries of the listing left out, not in the folder:")


@pytest.mark.parametrize("content", [b"", b"<html></html>", b"<d:multistatus", b"<a><b></a>"])
def test_other_documents_are_refused(content: bytes) -> None:
    with pytest.raises(ProtocolError):
        WebDav(Told(content)).entries("http://h.example/pub/")
