"""The servers that list the folders that they serve, each as its makers would start it."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.support.servers import make_readable, serving

LIGHTTPD = shutil.which("lighttpd") or shutil.which("lighttpd", path="/usr/sbin")
MINI_HTTPD = shutil.which("mini_httpd") or shutil.which("mini_httpd", path="/usr/sbin")
_NODE = Path(sys.prefix) / "azurite/node_modules/.bin"

_LIGHTTPD_CONFIG = """
server.document-root = "{root}"
server.port = {port}
server.bind = "127.0.0.1"
server.modules = ("mod_dirlisting")
dir-listing.activate = "enable"
"""

_AIOHTTP = """
import sys
from aiohttp import web
app = web.Application()
app.router.add_static("/files", sys.argv[1], show_index=True, follow_symlinks=True)
web.run_app(app, host="127.0.0.1", port=int(sys.argv[2]), print=None)
"""

# How each is started; `{root}` is the folder, `{port}` a free port, `{work}` a folder of its own.
INDEX_SERVERS: dict[str, tuple[str | None, ...]] = {
    "aiohttp": (sys.executable, "-c", _AIOHTTP, "{root}", "{port}"),
    "twisted": (
        sys.executable, "-m", "twisted", "web", "--listen", "tcp:{port}:interface=127.0.0.1",
        "--path", "{root}",
    ),
    "wsgidav": (
        sys.executable, "-m", "wsgidav.server.server_cli", "--host", "127.0.0.1", "--port",
        "{port}", "--root", "{root}", "--auth", "anonymous", "--no-config",
    ),
    "python": (
        sys.executable, "-m", "http.server", "--bind", "127.0.0.1", "--directory", "{root}",
        "{port}",
    ),
    "caddy": (
        shutil.which("caddy"), "file-server", "--browse", "--root", "{root}", "--listen",
        "127.0.0.1:{port}",
    ),
    "webfs": (shutil.which("webfsd"), "-F", "-r", "{root}", "-p", "{port}", "-i", "127.0.0.1"),
    "mini-httpd": (MINI_HTTPD, "-D", "-d", "{root}", "-p", "{port}", "-h", "127.0.0.1"),
    "lighttpd": (LIGHTTPD, "-D", "-f", "{work}/lighttpd.conf"),
    "http-server": (str(_NODE / "http-server"), "{root}", "-p", "{port}", "-a", "127.0.0.1"),
    "serve": (str(_NODE / "serve"), "-n", "-L", "-l", "tcp://127.0.0.1:{port}", "{root}"),
}  # fmt: skip


@contextmanager
def index_server(name: str, root: Path, work: Path) -> Iterator[str]:
    """Serve a folder by one of `INDEX_SERVERS`; give its address with a slash at the end."""
    make_readable(root, work)

    def start(port: int) -> subprocess.Popen[bytes]:
        values = {"root": root, "port": port, "work": work}
        (work / "lighttpd.conf").write_text(_LIGHTTPD_CONFIG.format(**values))
        words = [
            word if word == _AIOHTTP else word.format(**values)
            for word in INDEX_SERVERS[name]
            if word is not None
        ]
        environment = {**os.environ, "HOME": str(work)}
        with (work / "log").open("wb") as log:
            return subprocess.Popen(words, cwd=work, stdout=log, stderr=log, env=environment)

    with serving(start, work / "log") as port:
        yield f"http://127.0.0.1:{port}/" + ("files/" if name == "aiohttp" else "")


def is_installed(name: str) -> bool:
    """Whether a server can be started here."""
    program = INDEX_SERVERS[name][0]
    return program is not None and Path(program).exists()
