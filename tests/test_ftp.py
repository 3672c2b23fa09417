"""FTP, plain and secured: against vsftpd and pyftpdlib, whole and with faults made to order."""

from __future__ import annotations

import os
import re
import ssl
import warnings
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from tests.support.program import files_in, partial_bytes, run, start, wait_for_bytes
from tests.support.servers import VSFTPD, vsftpd
from willow_cart.demo.places import Outbox
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.protocols import Download
from willow_cart.protocols.ftp.ftp_access import FtpAccess
from willow_cart.protocols.ftp.ftp_listing import (
    NotUnderstoodLine,
    parse_fact_line,
    parse_list_line,
)

with warnings.catch_warnings():
    warnings.simplefilter("ignore", DeprecationWarning)
    from pyftpdlib.handlers import FTPHandler, ThrottledDTPHandler

CERTIFICATE = Path(__file__).parent / "support" / "self_signed.pem"
LATIN = os.fsdecode(b"caf\xe9.csv")
FILES = {
    "outbox/level_20310510.csv": b"ten",
    "outbox/level_20310511.csv": b"eleven",
    "outbox/level_20310601.csv": b"June",
    "outbox/readings old?/a b #1.csv": b"blanks",
    "outbox/2031/05/deep.bin": bytes(range(256)) * 40_000,
    "outbox/übersicht.csv": b"",
}


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "contractor"
    for path, content in FILES.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(content)
        os.utime(folder / path, (1_600_000_000, 1_600_000_000))
    return folder


def served(root: Path, **more: Any) -> Outbox:
    return Outbox(root, **more)


@pytest.mark.skipif(VSFTPD is None, reason="vsftpd is not installed")
@pytest.mark.parametrize("certificate", [None, CERTIFICATE], ids=["plain", "secured"])
def test_what_vsftpd_lists_comes_home_byte_by_byte(
    tmp_path: Path, root: Path, certificate: Path | None
) -> None:
    (root / "outbox" / LATIN).write_bytes(b"latin")
    (root / "outbox" / "again").symlink_to("../outbox")
    (root / "outbox" / "newest.csv").symlink_to("level_20310601.csv")
    trust = ["--ca", str(CERTIFICATE)] if certificate else []
    with vsftpd(root, tmp_path / "vsftpd", certificate=certificate) as base:
        everything = [f"{base}/outbox", "--depth", "all", *trust]
        found = run("survey", *everything, "--json", cwd=tmp_path).json()
        sizes = {f"outbox/{offer['path']}": offer["size"] for offer in found["offers"]}
        expected = dict(FILES)
        expected |= {"outbox/café.csv": b"latin", "outbox/newest.csv": b"June"}
        assert sizes == {path: len(content) for path, content in expected.items()}
        assert [each["path"] for each in found["not_entered"]] == ["again/"]
        dated = [offer for offer in found["offers"] if offer["path"] == "level_20310510.csv"]
        assert dated[0]["modified"].startswith("2020-09-13")
        haul = ["haul", *everything, "--into", "x"]
        outcome = run(*haul, cwd=tmp_path)
        assert outcome.code == 0, outcome.err
        assert files_in(tmp_path / "x") == {
            path.removeprefix("outbox/").replace("?", "_"): content
            for path, content in expected.items()
        }
        assert "all unchanged" in run(*haul, cwd=tmp_path).last_line
        if certificate:
            untrusted = run("survey", f"{base}/outbox", cwd=tmp_path)
            assert untrusted.code == 1
            assert "self-signed certificate" in untrusted.err
            plain = run("survey", base.replace("ftps", "ftp") + "/outbox", cwd=tmp_path)
            assert (plain.code, plain.out) == (1, "")


@pytest.mark.skipif(VSFTPD is None, reason="vsftpd is not installed")
def test_the_port_that_is_kept_for_it_is_secured_from_the_first_byte(
    tmp_path: Path, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    context = ssl.create_default_context(cafile=CERTIFICATE)
    with vsftpd(root, tmp_path / "vsftpd", certificate=CERTIFICATE, implicit=True) as base:
        # No test may count on the real one being free.
        port = int(base.rpartition(":")[2])
        monkeypatch.setattr("willow_cart.protocols.ftp.ftp_connection._IMPLICIT_PORT", port)
        with FtpAccess(context_for=lambda _: context) as ftp:
            delivery = ftp.open(f"{base}/outbox/2031/05/deep.bin", start=0)
            assert isinstance(delivery, Download)
            content = b"".join(iter(delivery.read, b""))
            delivery.close()
            assert content == FILES["outbox/2031/05/deep.bin"]
            (entry,) = ftp.entries(f"{base}/outbox/2031/05/").entries
            assert entry.size == len(content)


@pytest.mark.skipif(VSFTPD is None, reason="vsftpd is not installed")
@pytest.mark.parametrize("implicit", [True, False])
def test_the_other_way_to_secure_a_connection_is_found(
    tmp_path: Path, root: Path, monkeypatch: pytest.MonkeyPatch, implicit: bool
) -> None:
    """TLS from the first byte on any port, and AUTH TLS on the port that is kept for the other."""
    context = ssl.create_default_context(cafile=CERTIFICATE)
    monkeypatch.setattr("willow_cart.protocols.ftp.ftp_pool._GREETING_SECONDS", 0.5)
    with vsftpd(root, tmp_path / "vsftpd", certificate=CERTIFICATE, implicit=implicit) as base:
        port = int(base.rpartition(":")[2])
        if not implicit:
            monkeypatch.setattr("willow_cart.protocols.ftp.ftp_connection._IMPLICIT_PORT", port)
        with FtpAccess(context_for=lambda _: context) as ftp:
            (entry,) = ftp.entries(f"{base}/outbox/2031/05/").entries
            assert entry.size == len(FILES["outbox/2031/05/deep.bin"])


def test_what_cannot_be_secured_in_either_way_names_both(tmp_path: Path, root: Path) -> None:
    with served(root) as contractor:
        source = contractor.base.replace("ftp:", "ftps:")
        outcome = run("survey", f"{source}/outbox/", "--attempts", "1", cwd=tmp_path)
    assert outcome.code == 1
    assert "offers neither AUTH TLS nor TLS from the first byte" in outcome.err


@pytest.mark.parametrize(
    ("address", "paths"),
    [
        ("outbox/level_2031051?.csv", ["level_20310510.csv", "level_20310511.csv"]),
        ("outbox/*/05/*", ["2031/05/deep.bin"]),
        ("outbox/read*old%3F/*.csv", ["readings old?/a b #1.csv"]),
        ("outbox/level_20310601.csv", ["level_20310601.csv"]),
        ("outbox/2031/05/", ["deep.bin"]),
        ("outbox/2031/05", ["deep.bin"]),
    ],
)
def test_one_address_lists_and_hauls_the_same(
    tmp_path: Path, root: Path, address: str, paths: list[str]
) -> None:
    with served(root) as contractor:
        source = f"{contractor.base}/{address}"
        found = run("survey", source, "--json", cwd=tmp_path).json()
        assert [offer["path"] for offer in found["offers"]] == paths
        assert run("haul", source, "--into", "x", cwd=tmp_path).code == 0
        assert len(files_in(tmp_path / "x")) == len(paths)
        (tmp_path / "list.txt").write_text(source)
        if "*" in source:
            listed = run("survey", "list.txt", "--json", cwd=tmp_path).json()
            assert [offer["path"] for offer in listed["offers"]] == paths


def test_where_nothing_is_what_is_near_is_told(tmp_path: Path, root: Path) -> None:
    with served(root) as contractor:
        outcome = run("survey", f"{contractor.base}/outbox/level_20310512.csv", cwd=tmp_path)
        assert outcome.code == 2
        assert "level_20310512.csv: not found; nearby: level_2031051" in outcome.err
        none = run("survey", f"{contractor.base}/outbox/x*.csv", cwd=tmp_path)
        assert (none.code, none.out) == (3, "")
        gone = run("survey", f"{contractor.base}/none/", cwd=tmp_path)
        assert gone.code == 1
        assert "550" in gone.err


def test_names_and_passwords_let_in(
    tmp_path: Path, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FEN", "reedmace")
    monkeypatch.setenv("HOME", str(tmp_path))
    with served(root, user="ida:reedmace") as contractor:
        survey = ["survey", f"{contractor.base}/outbox/", "--user", "ida", "--password", "env:FEN"]
        assert run(*survey, cwd=tmp_path).code == 0
        monkeypatch.setenv("FEN", "wrong")
        for arguments, advice in (
            (survey, "check the name and the secret"),
            (survey[:2], "give a sign-in (--user"),
        ):
            outcome = run(*arguments, cwd=tmp_path)
            assert outcome.code == 1
            assert "sign-in refused: 530" in outcome.err
            assert advice in outcome.err
            assert "wrong" not in outcome.err


def test_a_server_that_allows_two_connections_gets_two(tmp_path: Path, root: Path) -> None:
    for number in range(40):
        (root / "outbox" / f"n{number}.csv").write_bytes(b"%d" % number)
    with served(root, most=2) as contractor:
        outcome = run(
            "haul", f"{contractor.base}/outbox/", "--depth", "all", "--into", "x",
            "--lanes-per-host", "8", cwd=tmp_path,
        )  # fmt: skip
    assert outcome.code == 0, outcome.err
    assert "all arrived" in outcome.last_line
    assert not re.search(r"\b421\b", outcome.err)


def without(*commands: str) -> type[Any]:
    """A server that does not know some commands."""
    known = {key: value for key, value in FTPHandler.proto_cmds.items() if key not in commands}
    return type("Old", (FTPHandler,), {"proto_cmds": known, "use_sendfile": False})


NOW = datetime(2031, 5, 10, 12, tzinfo=UTC)


@pytest.mark.parametrize(
    "line",
    [
        "LEVEL.CSV;1   5/10  10-MAY-2031 06:00:00 [FEN,IDA] (RWED,RWED,RE,)",
        "WPTA01 3390   2031/05/10  1   15  VB   32756 32760  PS  LEVELS",
        "Volume Unit    Referred Ext Used Recfm Lrecl BlkSz Dsorg Dsname",
        "-rw-r--r-- 1 a b x May 10 06:00 name",
        "x" * 100_000,
        "-rw-r--r-- " + "1 " * 50_000,
    ],
)
def test_a_line_that_is_not_understood_says_so(line: str) -> None:
    with pytest.raises(NotUnderstoodLine):
        parse_list_line(line, NOW)
    with pytest.raises(NotUnderstoodLine):
        parse_fact_line(line.replace(" ", "") or "x")


class OldStyle(without("MLSD", "MLST")):  # type: ignore[misc]
    """Lists two files in a style that is not known, and one that is."""

    def ftp_LIST(self, path: str) -> Any:  # noqa: N802
        lines = [
            "LEVEL.CSV;1   5/10  10-MAY-2031 06:00:00 [FEN,IDA] (RWED,RWED,RE,)",
            "NOTES.TXT;3   1/10  10-MAY-2031 06:00:00 [FEN,IDA] (RWED,RWED,RE,)",
            "-rw-r--r-- 1 a b 3 May 10 2031 level_20310510.csv",
        ]
        self.push_dtp_data("".join(f"{line}\r\n" for line in lines).encode(), cmd="LIST")
        return path


def test_lines_that_are_not_understood_are_counted_and_told(tmp_path: Path, root: Path) -> None:
    with served(root, handler=OldStyle) as contractor:
        source = f"{contractor.base}/outbox/"
        for command in (["survey", source], ["haul", source, "--into", "x"]):
            outcome = run(*command, cwd=tmp_path)
            assert outcome.code == 1
            assert "2 lines of the listing not understood, such as 'LEVEL.CSV;1" in outcome.err
    assert files_in(tmp_path / "x") == {"level_20310510.csv": b"ten"}


class Forgetful(without("MLSD", "MLST")):  # type: ignore[misc]
    """Goes back to sending text with every listing, and counts as it would send."""

    def ftp_LIST(self, path: str) -> Any:  # noqa: N802
        self._current_type = "a"
        return super().ftp_LIST(path)


def test_files_come_byte_by_byte_whatever_the_server_thinks(tmp_path: Path, root: Path) -> None:
    content = b"day,level\n1,2\n" * 5_000
    for number in range(9):
        (root / "outbox" / f"n{number}" / "x").mkdir(parents=True)
        (root / "outbox" / f"n{number}" / "x" / "lines.csv").write_bytes(content)
    with served(root, handler=Forgetful) as contractor:
        source = f"{contractor.base}/outbox/"
        assert run("haul", source, "--depth", "all", "--into", "x", cwd=tmp_path).code == 0
    assert files_in(tmp_path / "x")["n0/x/lines.csv"] == content


class Counting(FTPHandler):  # type: ignore[misc]
    """Counts who signs in."""

    logins: list[str] = []  # noqa: RUF012  # shared by all connections on purpose

    def on_login(self, username: str) -> None:
        self.logins.append(username)


def test_connections_are_kept_for_any_number_of_files(tmp_path: Path, root: Path) -> None:
    for number in range(60):
        (root / "outbox" / f"n{number}.csv").write_bytes(b"%d" % number)
    Counting.logins.clear()
    with served(root, handler=Counting) as contractor:
        source = f"{contractor.base}/outbox/"
        outcome = run("haul", source, "--into", "x", "--lanes-per-host", "3", cwd=tmp_path)
    assert outcome.code == 0
    assert len(files_in(tmp_path / "x")) == 64
    assert len(Counting.logins) <= 3


class Crowded(FTPHandler):  # type: ignore[misc]
    """Lets in two, and tells the third one the reason in words only."""

    inside: list[object] = []  # noqa: RUF012  # shared by all connections on purpose

    def ftp_PASS(self, line: str) -> None:  # noqa: N802
        if len(self.inside) >= 2:
            self.respond("530 Sorry, the maximum number of clients (2) are already connected.")
            return
        self.inside.append(self)
        super().ftp_PASS(line)

    def on_disconnect(self) -> None:
        if self in self.inside:
            self.inside.remove(self)


def test_a_refusal_of_connections_lowers_the_lanes(tmp_path: Path, root: Path) -> None:
    for number in range(30):
        (root / "outbox" / f"n{number}.csv").write_bytes(b"%d" % number)
    with served(root, handler=Crowded) as contractor:
        source = f"{contractor.base}/outbox/"
        outcome = run("haul", source, "--into", "x", "--lanes-per-host", "6", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert len(files_in(tmp_path / "x")) == 34


def test_a_listing_without_end_is_cut_and_told(tmp_path: Path, root: Path) -> None:
    for number in range(300):
        (root / "outbox" / f"n{number:03}.csv").write_bytes(b"%d" % number)
    with served(root) as contractor:
        source = f"{contractor.base}/outbox/"
        outcome = run("survey", source, "--largest-listing", "10kB", cwd=tmp_path)
    assert outcome.code == 1
    assert "the listing is longer than 10.0 kB; the rest was not read" in outcome.err


class Slow(FTPHandler):  # type: ignore[misc]
    """Sends so slowly that a kill comes in the middle."""

    def ftp_RETR(self, file: str) -> Any:  # noqa: N802
        self.dtp_handler = type("Throttled", (ThrottledDTPHandler,), {"read_limit": 2_000_000})
        return super().ftp_RETR(file)


@pytest.mark.parametrize("changed", [False, True])
def test_a_killed_haul_goes_on_unless_the_file_has_changed(
    tmp_path: Path, root: Path, changed: bool
) -> None:
    file = root / "outbox" / "2031" / "05" / "deep.bin"
    with served(root, handler=Slow) as contractor:
        haul = ["haul", f"{contractor.base}/outbox/2031/05/deep.bin", "--into", "x"]
        process = start(*haul, cwd=tmp_path)
        wait_for_bytes(tmp_path / "x", 500_000, process)
        process.kill()
        process.communicate()
    had = partial_bytes(tmp_path / "x")
    assert had > 500_000
    port = int(contractor.base.rpartition(":")[2])
    if changed:
        file.write_bytes(file.read_bytes()[::-1])
    with served(root, port=port) as contractor:
        outcome = run(*haul, cwd=tmp_path)
        assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "x") == {"deep.bin": file.read_bytes()}
    row = run("receipt", "x", "--json", cwd=tmp_path).json()["files"][0]
    # What was not hashed yet when it was killed comes once more.
    assert row["resumed"] == 0 if changed else 0 < row["resumed"] <= had


class Breaking(FTPHandler):  # type: ignore[misc]
    """Breaks the first transfer of every file in the middle."""

    broken: set[str] = set()  # noqa: RUF012  # shared by all connections on purpose

    def ftp_RETR(self, file: str) -> Any:  # noqa: N802
        if file not in self.broken:
            self.broken.add(file)
            self._restart_position = 0

            class Short(self.dtp_handler):  # type: ignore[name-defined, misc]
                def send(self, data: bytes) -> Any:
                    if self.get_transmitted_bytes() > 300_000:
                        self.close()
                        return 0
                    return super().send(data)

            self.dtp_handler = Short
        else:
            self.dtp_handler = FTPHandler.dtp_handler
        return super().ftp_RETR(file)


class Elsewhere(FTPHandler):  # type: ignore[misc]
    """Knows no extended passive mode, and names another host for data."""

    masquerade_address = "192.0.2.1"
    proto_cmds = without("EPSV").proto_cmds


class AsText(FTPHandler):  # type: ignore[misc]
    """Falls back to text after each SIZE."""

    use_sendfile = False

    def ftp_SIZE(self, path: str) -> Any:  # noqa: N802
        super().ftp_SIZE(path)
        self._current_type = "a"


class FromTheStart(Breaking):
    """Agrees to begin at a byte, and sends all."""

    broken: set[str] = set()  # noqa: RUF012
    use_sendfile = False

    def ftp_REST(self, line: str) -> Any:  # noqa: N802
        super().ftp_REST(line)
        self._restart_position = 0


class OutOfStep(FTPHandler):  # type: ignore[misc]
    """Sends a reply too many, once."""

    left: list[str] = []  # noqa: RUF012

    def ftp_MDTM(self, path: str) -> Any:  # noqa: N802
        super().ftp_MDTM(path)
        if self.left:
            self.respond(self.left.pop())


class Later(FTPHandler):  # type: ignore[misc]
    """Is too busy to let anybody in, twice."""

    left: list[str] = []  # noqa: RUF012

    def ftp_PASS(self, line: str) -> Any:  # noqa: N802
        if self.left:
            self.respond(self.left.pop())
        else:
            super().ftp_PASS(line)


@pytest.mark.parametrize(
    "handler",
    [
        AsText,
        FromTheStart,
        type("OutOfStep", (OutOfStep,), {"left": ["200 Noted."]}),
        type("OutOfCode", (OutOfStep,), {"left": ["what?"]}),
        type("Later", (Later,), {"left": ["530 Server is busy, try again later."] * 2}),
        type("Broken", (Breaking,), {"broken": set(), "use_sendfile": False}),
        without("MLSD", "MLST"),
        without("MLSD", "MLST", "FEAT", "OPTS", "EPSV"),
        without("SIZE", "MDTM"),
        without("REST"),
        Elsewhere,
    ],
    ids=[
        "as text",
        "from the start",
        "out of step",
        "no code",
        "later",
        "breaks",
        "no MLSD",
        "ancient",
        "no SIZE",
        "no REST",
        "another host",
    ],
)
def test_servers_of_every_age_and_temper_are_hauled_from(
    tmp_path: Path, root: Path, handler: type[Any]
) -> None:
    with served(root, handler=handler) as contractor:
        everything = [f"{contractor.base}/outbox/", "--depth", "all", "--pause", "0.05",
                      "--stall-after", "3"]  # fmt: skip
        outcome = run("haul", *everything, "--into", "x", cwd=tmp_path)
        assert outcome.code == 0, outcome.err
        assert files_in(tmp_path / "x") == {
            path.removeprefix("outbox/").replace("?", "_"): content
            for path, content in FILES.items()
        }


def test_the_server_may_connect_to_us(tmp_path: Path, root: Path) -> None:
    with served(root, handler=without("PASV", "EPSV")) as contractor:
        survey = ["survey", f"{contractor.base}/outbox/"]
        assert run(*survey, cwd=tmp_path).code == 0
        assert run(*survey, "--active", cwd=tmp_path).code == 0


def test_a_name_cannot_carry_a_command(tmp_path: Path, root: Path) -> None:
    with served(root) as contractor:
        outcome = run("survey", f"{contractor.base}/outbox/x%0D%0ADELE y", cwd=tmp_path)
    assert outcome.code == 1
    assert "contains a line break, which FTP cannot send" in outcome.err


@pytest.mark.parametrize(
    ("line", "name", "kind", "size", "modified"),
    [
        ("-rw-r--r-- 1 ida fen 12 May 10 06:00 a b.csv", "a b.csv", "file", 12, "2031-05-10 06:00"),
        ("-rw-r--r--   1 0 0 12 Dec 24 06:00  lead", " lead", "file", 12, "2030-12-24 06:00"),
        ("-rw-r--r--+ 1 ida 12 Feb 29 2028 x", "x", "file", 12, "2028-02-29 00:00"),
        ("-rw-r--r-- 1 a b 12 Feb 29 06:00 x", "x", "file", 12, "None"),
        ("-rw-rw-r-- 1 a b 9 2031-05-10 06:00 x", "x", "file", 9, "2031-05-10 06:00"),
        ("-rw-rw-r-- 1 a b 9 10. Mai 06:00 x", "x", "file", 9, "2031-05-10 06:00"),
        (
            "-rw-r--r-- 1 a b 9 Mär 10 06:00 x".encode().decode("latin-1"),
            "x",
            "file",
            9,
            "2031-03-10 06:00",
        ),
        (
            "-rw-r--r-- 1 a b 9 déc. 24 06:00 x".encode().decode("latin-1"),
            "x",
            "file",
            9,
            "2030-12-24 06:00",
        ),
        (
            "-rw-r--r-- 1 a b 9 5月 10 2030 x".encode().decode("latin-1"),
            "x",
            "file",
            9,
            "2030-05-10 00:00",
        ),
        ("-rw-r--r-- 1 a b 9 Wxyz 10 2030 x", "x", "file", 9, "None"),
        (
            r"-rw-r--r-- 1 DOM\ida DOM\Domain Users 1,234,567 May 10 06:00 x",
            "x",
            "file",
            1234567,
            "2031-05-10 06:00",
        ),
        (
            "- [R----F--] ida 214059 May  9 23:59 cx.exe",
            "cx.exe",
            "file",
            214059,
            "2031-05-09 23:59",
        ),
        ("d [R----F--] ida 512 May  9 2030 login", "login", "folder", None, "2030-05-09 00:00"),
        (
            "-rw-r--r-- 1 a b 99999999999999999999999 May 9 2030 x",
            "x",
            "file",
            None,
            "2030-05-09 00:00",
        ),
        (
            "+i8388621.48594,m825718503,r,s280,\tdjb.html",
            "djb.html",
            "file",
            280,
            "1996-03-01 22:15",
        ),
        ("+i8388621.50690,m824255907,/,\t514", "514", "folder", None, "1996-02-13 23:58"),
        ("2031-05-10  06:00    <DIR>          d", "d", "folder", None, "2031-05-10 06:00"),
        ("10.05.2031  06:00          1.024 x", "x", "file", 1024, "2031-05-10 06:00"),
        ("05/30/2031  06:00 PM      1,024 x", "x", "file", 1024, "2031-05-30 18:00"),
        ("05/10/2031  06:00 PM      1,024 x", "x", "file", 1024, "None"),
        ("-rw-rw-r-- 1 a b 9 10 May 2031 x", "x", "file", 9, "2031-05-10 00:00"),
        ("drwxr-xr-x 2 a b 4096 May  9 23:59 d", "d", "folder", None, "2031-05-09 23:59"),
        ("lrwxrwxrwx 1 a b 4 May  9 2030 l -> d", "l", "link", None, "2030-05-09 00:00"),
        ("prw-r--r-- 1 a b 0 May  9 2030 pipe", None, "", None, ""),
        ("drwxr-xr-x 2 a b 4096 May  9 2030 ..", None, "", None, ""),
        ("05-10-31  06:00AM       <DIR>          old", "old", "folder", None, "2031-05-10 06:00"),
        ("05-10-2031  12:30AM  1024 a b.csv", "a b.csv", "file", 1024, "2031-05-10 00:30"),
        ("13-45-31  06:00PM  7 x", "x", "file", 7, "None"),
        ("total 12", None, "", None, ""),
        ("", None, "", None, ""),
    ],
)
def test_listings_are_read_in_the_styles_that_are_about(
    line: str, name: str | None, kind: str, size: int | None, modified: str
) -> None:
    read = parse_list_line(line, NOW)
    if name is None:
        assert read is None
        return
    assert read is not None
    assert (read.name, read.kind, read.size) == (name, kind, size)
    assert str(read.modified)[:16] == modified


@pytest.mark.parametrize(
    ("line", "name", "kind", "size"),
    [
        ("type=file;size=12;modify=20310510060000.123; a b", "a b", "file", 12),
        ("Type=dir;Modify=20310510060000; d", "d", "folder", None),
        ("type=OS.unix=slink:/x;size=1; l", "l", "link", None),
        ("type=cdir;modify=20310510060000; /", None, "", None),
        ("type=file;modify=20311310060000; odd", "odd", "file", None),
    ],
)
def test_facts_are_read(line: str, name: str | None, kind: str, size: int | None) -> None:
    read = parse_fact_line(line)
    assert (read and (read.name, read.kind, read.size)) == (name and (name, kind, size))


# Files of this machine


@pytest.fixture
def drive(root: Path) -> Path:
    (root / ".willow").mkdir()
    (root / ".willow" / "ledger.db").write_bytes(b"not offered")
    os.mkfifo(root / "pipe")
    return root


@pytest.mark.parametrize("as_address", [False, True])
def test_a_folder_of_this_machine_is_a_source(
    tmp_path: Path, drive: Path, as_address: bool
) -> None:
    source = drive.as_uri() if as_address else drive.name
    haul = ["haul", source, "--depth", "all", "--into", "x"]
    outcome = run(*haul, cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "x") == {
        path.replace("?", "_"): content for path, content in FILES.items()
    }
    assert "all unchanged" in run(*haul, cwd=tmp_path).last_line
    (drive / "outbox" / "level_20310510.csv").write_bytes(b"new")
    assert "1 arrived, 5 unchanged" in run(*haul, cwd=tmp_path).last_line
    found = run("survey", f"{drive.as_uri()}/outbox/level*", "--json", cwd=tmp_path).json()
    assert len(found["offers"]) == 3
    gone = run("survey", f"{drive.as_uri()}/outbox/lvel_20310510.csv", cwd=tmp_path)
    assert gone.code == 2
    assert "nearby: level_20310510.csv" in gone.err


def test_a_folder_is_not_hauled_into_itself(tmp_path: Path, drive: Path) -> None:
    for source in (".", "contractor", drive.as_uri()):
        outcome = run("haul", source, "--depth", "all", "--into", "contractor/x", cwd=tmp_path)
        assert outcome.code == 2
        assert f"contractor/x: lies in {source}, which is to be hauled" in outcome.err
    assert not (drive / "x").exists()
    assert run("haul", "contractor/outbox", "--into", "contractor/outbox/x", cwd=tmp_path).code == 0


def test_a_page_of_the_web_names_no_file_of_this_machine(
    tmp_path: Path, drive: Path, place: StandIn
) -> None:
    secret = (drive / "outbox" / "level_20310510.csv").as_uri()
    place.exhibits["p.html"] = Exhibit(f"<a href='{secret}'>x</a><a href=y.csv>y</a>".encode())
    place.exhibits["r.csv"] = Exhibit(script=lambda h: h.refuse(302, {"Location": secret}))
    found = run("survey", f"{place.base}/p.html", "--json", cwd=tmp_path)
    assert [offer["path"] for offer in found.json()["offers"]] == ["y.csv"]
    outcome = run("haul", f"{place.base}/r.csv", "--into", "x", cwd=tmp_path)
    assert outcome.code == 1
    assert "away from the web" in outcome.err


@pytest.mark.skipif(VSFTPD is None, reason="vsftpd is not installed")
def test_a_server_without_passive_mode_connects_to_this_machine(tmp_path: Path) -> None:
    root = tmp_path / "root"
    root.mkdir()
    for number in range(5):
        (root / f"{number}.csv").write_bytes(b"%d" % number * 1000)
    files = {path.name: path.read_bytes() for path in root.iterdir()}
    active = "pasv_enable=NO\nconnect_from_port_20=NO\n"
    with vsftpd(root, tmp_path / "v", settings=active) as base:
        for into, words in (("by-itself", []), ("as-said", ["--active"])):
            done = run("haul", f"{base}/", *words, "--into", into, cwd=tmp_path)
            assert done.code == 0, done.err
            assert files_in(tmp_path / into) == files
    neither = "pasv_enable=NO\nport_enable=NO\n"
    with vsftpd(root, tmp_path / "w", settings=neither) as base:
        for command in (["haul", "--into", "x"], ["knock"], ["survey"]):
            done = run(command[0], f"{base}/", *command[1:], cwd=tmp_path)
            said = done.out + done.err
            assert "refuses passive mode (550" in said, said
            assert "--active" in said
            assert "internal error" not in said
    assert files_in(tmp_path / "x") == {}
