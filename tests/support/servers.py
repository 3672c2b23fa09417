"""Real web servers on free ports, serving a folder: nginx, Apache, and Python's own."""

from __future__ import annotations

import getpass
import hashlib
import os
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

NGINX = shutil.which("nginx") or shutil.which("nginx", path="/usr/sbin")
SSHD = shutil.which("sshd", path="/usr/sbin")
VSFTPD = shutil.which("vsftpd", path="/usr/sbin") if os.getuid() == 0 else None
APACHE = shutil.which("apache2") or shutil.which("apache2", path="/usr/sbin")

_CONFIG = """
worker_processes 1; daemon off; pid {work}/pid; error_log {work}/error.log;
events {{ worker_connections 256; }}
http {{
  access_log {work}/access.log; sendfile on; keepalive_requests {requests};
  client_body_temp_path {work}/1; proxy_temp_path {work}/2; fastcgi_temp_path {work}/3;
  uwsgi_temp_path {work}/4; scgi_temp_path {work}/5;
  server {{
    listen 127.0.0.1:{port}{secure};
    root {root};
    location /slow/ {{ alias {root}/; limit_rate 1m; }}
    location /moved/ {{ rewrite ^/moved/(.*)$ /$1 redirect; }}
    location /index/ {{ alias {root}/; autoindex on; charset utf-8; }}
    location /rounded/ {{ alias {root}/; autoindex on; autoindex_exact_size off; charset utf-8; }}
    location /json/ {{ alias {root}/; autoindex on; autoindex_format json; }}
    location /xml/ {{ alias {root}/; autoindex on; autoindex_format xml; charset utf-8; }}
    location /members/ {{
      alias {root}/; autoindex on; auth_basic "members"; auth_basic_user_file {work}/users;
    }}
    location /busy/ {{ limit_req zone=few burst=1 nodelay; alias {root}/; }}
  }}
  limit_req_zone $binary_remote_addr zone=few:64k rate=5r/s;
}}
"""


@contextmanager
def nginx(
    root: Path, work: Path, *, keepalive_requests: int = 1000, certificate: Path | None = None
) -> Iterator[str]:
    """Serve a folder, by HTTPS if there is a certificate with its key.

    Gives the address of its root without a slash at the end.
    """
    assert NGINX is not None, "nginx is not installed"
    config = work / "nginx.conf"
    command = [NGINX, "-c", str(config), "-e", str(work / "error.log")]
    secure = f" ssl; ssl_certificate {certificate}; ssl_certificate_key {certificate}"
    values = {
        "work": work, "root": root, "requests": keepalive_requests,
        "secure": secure if certificate else "",
    }  # fmt: skip
    make_readable(root, work)
    (work / "users").write_text("ida:{PLAIN}reedmace\n")
    with _serving(command, config, _CONFIG, values) as base:
        yield base.replace("http:", "https:") if certificate else base


_APACHE_CONFIG = """
ServerRoot /usr/lib/apache2
ServerName localhost
PidFile {work}/pid
ErrorLog {work}/error.log
Listen 127.0.0.1:{port}
LoadModule mpm_event_module modules/mod_mpm_event.so
LoadModule authn_core_module modules/mod_authn_core.so
LoadModule authn_file_module modules/mod_authn_file.so
LoadModule authz_core_module modules/mod_authz_core.so
LoadModule authz_user_module modules/mod_authz_user.so
LoadModule auth_digest_module modules/mod_auth_digest.so
LoadModule dir_module modules/mod_dir.so
LoadModule alias_module modules/mod_alias.so
LoadModule mime_module modules/mod_mime.so
LoadModule autoindex_module modules/mod_autoindex.so
LoadModule dav_module modules/mod_dav.so
LoadModule dav_fs_module modules/mod_dav_fs.so
DavLockDB {work}/locks
TypesConfig {work}/types
User www-data
Group www-data
DocumentRoot {root}
Mutex file:{work} default
<Directory {root}>
  Options Indexes FollowSymLinks
  Require all granted
</Directory>
Alias /plain {root}
Alias /fancy {root}
Alias /table {root}
Alias /members {root}
Alias /dav {root}
<Location /dav>
  Dav On
  Options -Indexes
</Location>
<Location /fancy>
  IndexOptions FancyIndexing
</Location>
<Location /table>
  IndexOptions FancyIndexing HTMLTable
</Location>
<Location /members>
  AuthType Digest
  AuthName "members"
  AuthUserFile {work}/users
  Require valid-user
</Location>
"""


@contextmanager
def apache(root: Path, work: Path) -> Iterator[str]:
    """Serve a folder with Apache, and give the address of its root without a slash at the end."""
    assert APACHE is not None, "Apache is not installed"
    make_readable(root, work)
    secret = hashlib.md5(b"ida:members:reedmace").hexdigest()
    (work / "users").write_text(f"ida:members:{secret}\n")
    (work / "types").write_text("text/html html\ntext/csv csv\n")
    config = work / "apache.conf"
    command = [APACHE, "-D", "FOREGROUND", "-f", str(config)]
    with _serving(command, config, _APACHE_CONFIG, {"work": work, "root": root}) as base:
        yield base


_VSFTPD_CONFIG = """
listen=YES
listen_address=127.0.0.1
listen_port={port}
background=NO
anonymous_enable=YES
no_anon_password=YES
anon_root={root}
local_enable=NO
pasv_address=192.0.2.1
seccomp_sandbox=NO
isolate=NO
isolate_network=NO
utf8_filesystem=NO
secure_chroot_dir={work}/empty
xferlog_enable=YES
log_ftp_protocol=YES
vsftpd_log_file={work}/log
dual_log_enable=YES
xferlog_file={work}/transfers
{more}
"""
_VSFTPD_TLS = """
ssl_enable=YES
allow_anon_ssl=YES
force_anon_logins_ssl=YES
force_anon_data_ssl=YES
require_ssl_reuse=YES
rsa_cert_file={certificate}
implicit_ssl={implicit}
ssl_tlsv1=YES
"""


@contextmanager
def vsftpd(
    root: Path,
    work: Path,
    *,
    certificate: Path | None = None,
    implicit: bool = False,
    settings: str = "",
) -> Iterator[str]:
    """Serve a folder by FTP; with a certificate only to those who speak TLS, at once or on request.

    The address that it names for data is none of this machine, as after a careless router.
    """
    assert VSFTPD is not None, "vsftpd is not installed"
    make_readable(root, work)
    (work / "empty").mkdir()
    config = work / "vsftpd.conf"
    more = (
        _VSFTPD_TLS.format(certificate=certificate, implicit="YES" if implicit else "NO")
        if certificate
        else ""
    )
    values = {"work": work, "root": root, "more": f"{more}\n{settings}"}
    with _serving([VSFTPD, str(config)], config, _VSFTPD_CONFIG, values) as base:
        yield base.replace("http", "ftps" if certificate else "ftp")


_SSHD_CONFIG = """\
Port {port}
ListenAddress 127.0.0.1
HostKey {work}/host
AuthorizedKeysFile {work}/authorised
PidFile {work}/pid
StrictModes no
UsePAM no
PasswordAuthentication no
Subsystem sftp internal-sftp
MaxSessions {sessions}
MaxStartups 50
"""


@dataclass(frozen=True)
class SshServer:
    """An OpenSSH server of the tests.

    Attributes:
        base: its address with the user that runs the tests; paths on this machine follow.
        host, port: without the user.
        fingerprint: of its host key.
        key: the path of a private key that it accepts.
        authorised: the file of the public keys that it accepts.
        known: the line of the host for `known_hosts`.
    """

    base: str
    host: str
    port: int
    fingerprint: str
    key: str
    authorised: Path
    known: str


def make_key(path: Path, passphrase: str = "") -> str:
    """Make a pair of keys; return the fingerprint."""
    command = ["ssh-keygen", "-q", "-t", "ed25519", "-N", passphrase, "-f", str(path)]
    subprocess.run(command, check=True, stdin=subprocess.DEVNULL)
    shown = subprocess.run(
        ["ssh-keygen", "-lf", f"{path}.pub"], check=True, capture_output=True, text=True
    )
    return shown.stdout.split()[1]


@contextmanager
def openssh(work: Path, *, sessions: int = 10) -> Iterator[SshServer]:
    """Run OpenSSH's server for the user that runs the tests."""
    assert SSHD is not None, "openssh-server is not installed"
    work.mkdir(parents=True, exist_ok=True)
    if os.getuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)  # it wants to have a place to lock itself into
    fingerprint = make_key(work / "host")
    make_key(work / "user")
    (work / "authorised").write_text((work / "user.pub").read_text())
    config = work / "sshd.conf"
    values = {"work": work, "sessions": sessions}
    with _serving([SSHD, "-D", "-e", "-f", str(config)], config, _SSHD_CONFIG, values) as base:
        port = int(base.rpartition(":")[2])
        user = getpass.getuser()
        kind, public = (work / "host.pub").read_text().split()[:2]
        yield SshServer(
            f"sftp://{user}@127.0.0.1:{port}", "127.0.0.1", port,
            fingerprint, str(work / "user"), work / "authorised",
            f"[127.0.0.1]:{port} {kind} {public}\n",
        )  # fmt: skip


class _Quiet(SimpleHTTPRequestHandler):
    def log_message(self, *_: object) -> None:
        pass


@contextmanager
def python_server(root: Path) -> Iterator[str]:
    """Serve a folder with Python's own server."""
    handler = partial(_Quiet, directory=str(root))
    with ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
        thread.start()
        yield f"http://127.0.0.1:{server.server_port}"
        server.shutdown()


def make_readable(root: Path, work: Path) -> None:
    """Let workers of a user of their own reach the folders, which pytest keeps to itself."""
    work.mkdir(parents=True, exist_ok=True)
    for folder in (root, work, *root.parents):
        if (
            folder != Path("/")
            and os.access(folder, os.W_OK)
            and folder.stat().st_uid == os.getuid()
        ):
            folder.chmod(folder.stat().st_mode | 0o055)


@contextmanager
def _serving(
    command: list[str], config: Path, template: str, values: Mapping[str, object]
) -> Iterator[str]:
    """Run a server on a free port until the end, with a file for its settings."""

    def start(port: int) -> subprocess.Popen[bytes]:
        config.write_text(template.format(port=port, **values))
        return subprocess.Popen(command, stderr=subprocess.DEVNULL)

    with serving(start, config.parent / "error.log") as port:
        yield f"http://127.0.0.1:{port}"


@contextmanager
def serving(start: Callable[[int], subprocess.Popen[bytes]], log: Path) -> Iterator[int]:
    """Start a server on a free port, give the port, and end the server."""
    for _ in range(5):  # the port that was free may be taken by the time the server asks for it
        port = free_port()
        server = start(port)
        try:
            if is_up(port, server):
                yield port
                return
        finally:
            server.terminate()
            try:
                server.wait(5)
            except subprocess.TimeoutExpired:  # it waits for connections that are open
                server.kill()
                server.wait()
    raise RuntimeError(log.read_text())


def free_port() -> int:
    """A port that is free now, and may be taken a moment later."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port


def is_up(port: int, server: subprocess.Popen[bytes], seconds: float = 10) -> bool:
    """Whether a server answers at a port within some time, before it gives up itself."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline and server.poll() is None:
        try:
            socket.create_connection(("127.0.0.1", port), 1).close()
        except OSError:
            time.sleep(0.01)
        else:
            return True
    return False
