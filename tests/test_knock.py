"""Knocking at places of every kind, well and ill."""

from __future__ import annotations

import ssl
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from tests.support.program import run
from tests.support.servers import VSFTPD, vsftpd
from willow_cart.demo.places import Outbox
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.demo.store import DemoStore
from willow_cart.knocking.reach import SecuredConnection
from willow_cart.knocking.steps import Knocker, Verdict
from willow_cart.protocols.web import WebAccess

CERTIFICATE = Path(__file__).parent / "support" / "self_signed.pem"


def knock(address: str, *options: str, cwd: Path) -> tuple[int, dict[str, tuple[str, str, str]]]:
    outcome = run("knock", address, *options, "--json", cwd=cwd)
    rows = outcome.json()
    found = {row["tried"]: (row["verdict"], row["found"], row["remedy"]) for row in rows}
    return outcome.code, found


def test_a_place_that_works_is_told_with_what_it_can_do(
    tmp_path: Path, trust_site: StandIn
) -> None:
    code, found = knock(f"{trust_site.base}/hides/2031.html", cwd=tmp_path)
    assert code == 0
    assert found["name"][1] == "127.0.0.1 (IPv4)"
    assert found["listing"][1].startswith("29 files, 1 folder not entered")
    assert found["fetching"][1].startswith("causeway_counts.csv, 3.76 kB, answer after")
    assert found["resuming"][:2] == ("ok", "interrupted transfers resume")
    assert found["checksums"][0] == "unclear"
    assert found["clock"][0] == "ok"
    assert found["sign-in"][1] == "not required"
    table = run("knock", f"{trust_site.base}/archive/", cwd=tmp_path)
    assert table.last_line == f"{trust_site.base}/archive/: ready to haul from"
    assert {request.method for request in trust_site.requests} == {"GET", "HEAD"}


def test_what_does_not_work_is_told_with_a_remedy(
    tmp_path: Path, place: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    place.exhibits["m/x.csv"] = Exhibit(b"yes", members="ida:reedmace")
    place.exhibits["once.csv"] = Exhibit(b"yes", ranges=False)
    monkeypatch.setenv("FEN", "wrong")
    user = ["--user", "ida", "--password", "env:FEN"]
    port = place.base.rpartition(":")[2]
    for address, options, tried, verdict, words in (
        ("http://no-such-host.invalid/", [], "name", "failed", "check the address"),
        ("http://127.0.0.1:9/", [], "port", "failed", "that the server is running"),
        (f"https://127.0.0.1:{port}/", [], "TLS", "failed", "try without it"),
        (f"{place.base}/m/x.csv", [], "sign-in", "failed", "give a sign-in (--user"),
        (f"{place.base}/m/x.csv", user, "sign-in", "failed", "check the name and the secret"),
        (f"{place.base}/once.csv", [], "resuming", "unclear", "fewer lanes"),
        (f"{place.base}/gone.csv", [], "fetching", "failed", "check the address"),
    ):
        code, found = knock(address, *options, cwd=tmp_path)
        assert found[tried][0] == verdict, found
        assert words in found[tried][2]
        assert code == (verdict == "failed")
    monkeypatch.setenv("FEN", "reedmace")
    code, found = knock(f"{place.base}/m/x.csv", *user, cwd=tmp_path)
    assert (code, found["sign-in"][1]) == (0, "accepted")


def test_places_of_every_kind_are_knocked_at(tmp_path: Path) -> None:
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / "level.csv").write_bytes(b"level")
    with Outbox(tmp_path / "out") as contractor, DemoStore({"traps/a.jpg": b"img"}) as store:
        for address, options in (
            (f"{contractor.base}/", []),
            ("s3://traps/", ["--endpoint", store.base]),
            ((tmp_path / "out").as_uri(), []),
        ):
            code, found = knock(address, *options, cwd=tmp_path)
            assert code == 0, found
            assert found["listing"][1].startswith("1 file, ")
            assert found["resuming"][0] == "ok"


@pytest.mark.skipif(VSFTPD is None, reason="vsftpd is not installed")
def test_whom_to_trust_can_be_named(tmp_path: Path) -> None:
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / "level.csv").write_bytes(b"level")
    with vsftpd(tmp_path / "out", tmp_path / "vsftpd", certificate=CERTIFICATE) as base:
        assert knock(f"{base}/", cwd=tmp_path)[0] == 1
        code, found = knock(f"{base}/", "--ca", str(CERTIFICATE), cwd=tmp_path)
    assert code == 0, found


def test_certificates_and_clocks_are_held_against_the_time(place: StandIn) -> None:
    place.exhibits["x.csv"] = Exhibit(b"yes")
    now = datetime.now(UTC)
    with WebAccess() as web:
        late = Knocker(web, now=lambda: now + timedelta(hours=2))
        clock = {each.tried: each for each in late.knock(f"{place.base}/x.csv")}["clock"]
        assert clock.verdict is Verdict.UNSURE
        assert "2 h 00 min" in clock.found or "1 h 59 min" in clock.found
        for days, verdict in ((3, Verdict.UNSURE), (300, Verdict.FINE)):
            secured = SecuredConnection("TLSv1.3", "trust.example", now + timedelta(days=days))
            finding = late._describe(secured)
            assert finding.verdict is verdict
            assert "TLSv1.3, certificate of trust.example, valid until" in finding.found


def test_a_certificate_is_read_as_it_is_shown(place: StandIn, tmp_path: Path) -> None:
    import socket
    import threading

    from willow_cart.knocking.reach import secure

    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(CERTIFICATE)
    with socket.create_server(("127.0.0.1", 0)) as server:

        def serve() -> None:
            with context.wrap_socket(server.accept()[0], server_side=True) as connection:
                connection.recv(1)

        thread = threading.Thread(target=serve, daemon=True)
        thread.start()
        trust = ssl.create_default_context(cafile=CERTIFICATE)
        secured = secure("127.0.0.1", server.getsockname()[1], 5, trust)
        thread.join()
    assert secured.version.startswith("TLS")
    assert secured.subject == "127.0.0.1"
    assert secured.until == datetime(2126, 10, 30, 9, 46, 58, tzinfo=UTC)
