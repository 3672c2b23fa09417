"""Proxies, client certificates, and addresses as people paste them."""

from __future__ import annotations

import base64
import http.client
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import urlsplit

import pytest

from tests.support.program import files_in, run
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import BadOption
from willow_cart.protocols.http.http_connection import proxy_for

CERTIFICATE = Path(__file__).parent / "support" / "named.pem"


@pytest.mark.parametrize(
    ("origin", "environment", "proxy"),
    [
        ("http://h.example", {}, None),
        ("http://h.example", {"http_proxy": "http://p:1"}, "http://p:1"),
        ("http://h.example", {"HTTP_PROXY": "http://p:1"}, None),
        ("https://h.example", {"HTTPS_PROXY": "p:1"}, "http://p:1"),
        ("https://h.example", {"http_proxy": "http://p:1"}, None),
        ("http://h.example", {"ALL_PROXY": "http://p:1"}, "http://p:1"),
        ("http://h.example", {"http_proxy": "http://p:1", "no_proxy": "h.example"}, None),
        ("http://a.h.example", {"http_proxy": "http://p:1", "NO_PROXY": "x, .h.example"}, None),
        ("http://ah.example", {"http_proxy": "http://p", "no_proxy": "h.example"}, "http://p"),
        ("http://h.example", {"http_proxy": "http://p:1", "no_proxy": "*"}, None),
        ("http://h.example:8000", {"http_proxy": "http://p", "no_proxy": "h.example:8000"}, None),
        ("http://h.example", {"http_proxy": "http://p", "no_proxy": "h.example:8000"}, "http://p"),
        ("http://[2001:db8::1]:80", {"http_proxy": "http://p", "no_proxy": "[2001:db8::1]"}, None),
        ("http://[2001:db8::1]:80", {"http_proxy": "http://p"}, "http://p"),
        ("http://[::1]:8000", {"http_proxy": "http://p"}, None),
        ("http://127.0.0.1:8000", {"http_proxy": "http://p"}, None),
        ("https://localhost", {"https_proxy": "http://p"}, None),
    ],
)
def test_the_environment_says_which_proxy_is_asked(
    origin: str, environment: dict[str, str], proxy: str | None
) -> None:
    assert proxy_for(origin, environment) == proxy


def test_a_proxy_of_another_kind_is_told() -> None:
    with pytest.raises(BadOption, match="unsupported proxy scheme socks5"):
        proxy_for("http://h.example", {"all_proxy": "socks5://p:1"})


class _Proxy(BaseHTTPRequestHandler):
    """Passes on what it is asked for, and notes it with who asked; all hosts are this machine."""

    seen: list[tuple[str, str | None]]

    def do_GET(self) -> None:
        self.seen.append((self.path, self.headers["Proxy-Authorization"]))
        parts = urlsplit(self.path)
        with closing(http.client.HTTPConnection("127.0.0.1", parts.port)) as there:
            there.request("GET", parts.path)
            body = there.getresponse().read()
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def do_CONNECT(self) -> None:
        self.seen.append((self.path, self.headers["Proxy-Authorization"]))
        port = int(self.path.rpartition(":")[2])
        with socket.create_connection(("127.0.0.1", port)) as there:
            self.send_response(200)
            self.end_headers()
            back = threading.Thread(target=_pass_on, args=(there, self.connection), daemon=True)
            back.start()
            _pass_on(self.connection, there)
            back.join(5)
        self.close_connection = True

    def log_message(self, *_: object) -> None:
        pass


def _pass_on(source: socket.socket, to: socket.socket) -> None:
    try:
        while data := source.recv(65536):
            to.sendall(data)
        to.shutdown(socket.SHUT_WR)
    except OSError:
        pass


@contextmanager
def serving(handler: type[BaseHTTPRequestHandler]) -> Iterator[ThreadingHTTPServer]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()


@contextmanager
def proxy() -> Iterator[tuple[str, list[tuple[str, str | None]]]]:
    handler = type("Noting", (_Proxy,), {"seen": []})
    with serving(handler) as server:
        yield f"127.0.0.1:{server.server_port}", handler.seen  # type: ignore[attr-defined]


def test_files_come_through_a_proxy_that_is_signed_in_to(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a%20b.csv"] = Exhibit(b"level")
    with proxy() as (address, seen):
        env = {"http_proxy": f"http://ida:reed%20mace@{address}", "no_proxy": ""}
        there = place.base.replace("127.0.0.1", "trust.example")
        haul = ["haul", f"{there}/a b.csv", "--into", "x"]
        outcome = run(*haul, cwd=tmp_path, env=env)
        directly = run("haul", f"{place.base}/a b.csv", "--into", "x", cwd=tmp_path, env=env)
    assert outcome.code == directly.code == 0, outcome.err
    assert set(files_in(tmp_path / "x").values()) == {b"level"}
    signed = "Basic " + base64.b64encode(b"ida:reed mace").decode()
    assert seen == [(f"{there}/a%20b.csv", signed)]
    assert "mace" not in outcome.out + outcome.err
    gone = run(*haul[:2], "--into", "y", "--attempts", "1", cwd=tmp_path, env=env)
    assert gone.code == 1
    assert "reed" not in gone.err


class _Members(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("Content-Length", "6")
        self.end_headers()
        self.wfile.write(b"secure")

    def log_message(self, *_: object) -> None:
        pass


def test_a_client_certificate_proves_who_asks_also_through_a_proxy(tmp_path: Path) -> None:
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH, cafile=str(CERTIFICATE))
    context.load_cert_chain(CERTIFICATE)
    context.verify_mode = ssl.CERT_REQUIRED
    with serving(_Members) as server, proxy() as (address, seen):
        server.socket = context.wrap_socket(server.socket, server_side=True)
        place = f"https://127.0.0.1:{server.server_port}/a.csv"
        haul = ["haul", place, "--ca", str(CERTIFICATE), "--attempts", "1"]
        proved = [*haul, "--client-cert", str(CERTIFICATE)]
        refused = run(*haul, "--into", "x", cwd=tmp_path)
        direct = run(*proved, "--into", "y", cwd=tmp_path)
        named = [word.replace("127.0.0.1", "trust.example") for word in proved]
        through = run(*named, "--into", "z", cwd=tmp_path, env={"https_proxy": address})
    assert refused.code == 1
    assert direct.code == 0, direct.err
    assert through.code == 0, through.err
    assert files_in(tmp_path / "y") == files_in(tmp_path / "z") == {"a.csv": b"secure"}
    assert seen == [(f"trust.example:{place.split(':')[2].partition('/')[0]}", None)]
    for arguments, said in (
        (["--client-cert", "nothing.pem"], "--client-cert nothing.pem: cannot be read"),
        (["--client-key", "k.pem"], "--client-key: requires --client-cert"),
    ):
        odd = run(*haul, *arguments, "--into", "w", cwd=tmp_path)
        assert (odd.code, len(odd.err.splitlines())) == (2, 1)
        assert said in odd.err


def test_a_host_may_be_a_number_of_the_sixth_version(tmp_path: Path) -> None:
    class Sixth(ThreadingHTTPServer):
        address_family = socket.AF_INET6

    try:
        server = Sixth(("::1", 0), _Members)
    except OSError:
        pytest.skip("this machine has no IPv6")
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        address = f"http://[::1]:{server.server_port}/Überflutung März.csv"
        outcome = run("haul", address, "--into", "x", cwd=tmp_path)
    finally:
        server.shutdown()
        server.server_close()
    assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "x") == {"Überflutung März.csv": b"secure"}
