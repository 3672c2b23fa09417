"""A real nginx on a free port, serving a folder."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

PROGRAM = shutil.which("nginx") or shutil.which("nginx", path="/usr/sbin")

_CONFIG = """
worker_processes 1; daemon off; pid {work}/pid; error_log {work}/error.log;
events {{ worker_connections 256; }}
http {{
  access_log {work}/access.log; sendfile on; keepalive_requests {requests};
  client_body_temp_path {work}/1; proxy_temp_path {work}/2; fastcgi_temp_path {work}/3;
  uwsgi_temp_path {work}/4; scgi_temp_path {work}/5;
  server {{
    listen 127.0.0.1:{port};
    root {root};
    location /slow/ {{ alias {root}/; limit_rate 1m; }}
    location /moved/ {{ rewrite ^/moved/(.*)$ /$1 redirect; }}
    location /busy/ {{ limit_req zone=few burst=1 nodelay; alias {root}/; }}
  }}
  limit_req_zone $binary_remote_addr zone=few:64k rate=5r/s;
}}
"""


@contextmanager
def nginx(root: Path, work: Path, *, keepalive_requests: int = 1000) -> Iterator[str]:
    """Serve a folder, and give the address of its root without a slash at the end."""
    assert PROGRAM is not None, "nginx is not installed"
    work.mkdir(parents=True, exist_ok=True)
    # A worker of its own user must reach the folders, which pytest keeps to itself.
    for folder in (root, *root.parents):
        if (
            folder != Path("/")
            and os.access(folder, os.W_OK)
            and folder.stat().st_uid == os.getuid()
        ):
            folder.chmod(folder.stat().st_mode | 0o055)
    for _ in range(5):  # the port that was free may be taken by the time nginx asks for it
        port = _free_port()
        config = work / "nginx.conf"
        config.write_text(
            _CONFIG.format(work=work, port=port, root=root, requests=keepalive_requests)
        )
        server = subprocess.Popen([PROGRAM, "-c", str(config), "-e", str(work / "error.log")])
        try:
            if _answers(port, server):
                yield f"http://127.0.0.1:{port}"
                return
        finally:
            server.terminate()
            server.wait()
    raise RuntimeError((work / "error.log").read_text())


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port


def _answers(port: int, server: subprocess.Popen[bytes]) -> bool:
    deadline = time.monotonic() + 10
    while time.monotonic() < deadline and server.poll() is None:
        try:
            socket.create_connection(("127.0.0.1", port), 1).close()
        except OSError:
            time.sleep(0.01)
        else:
            return True
    return False
