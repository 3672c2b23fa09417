"""Bad input: one line that names the thing, the reason and what to do; the rest comes home."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.support.disks import disk
from tests.support.program import files_in, partial_bytes, run
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler

GOOD = "good.csv"


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["survey", "no-such-list.txt"], ["no-such-list.txt", "no such file", "https://"]),
        (["survey", "file:///none"], ["file:///none", "not found", "nearby:"]),
        (["survey", "good.txt", "--within", "p["], ["--within p[", "not a valid CSS selector"]),
        (["survey", "good.txt", "--next", ":x("], ["--next :x(", "not a valid CSS selector"]),
        (["survey", "good.txt", "--parts", "pictures"], ["--parts pictures", "links, images"]),
        (["survey", "good.txt", "--kind", "tables"], ["--kind tables", "table, data"]),
        (
            ["survey", "good.txt", "--since", "soon"],
            ["soon", "not a date or time", "2031-05-01"],
        ),
        (["survey", "good.txt", "--at-least", "big"], ["--at-least", "big", "not a size"]),
        (["survey", "good.txt", "--nth", "third"], ["--nth third", "1/3"]),
        (["survey", "good.txt", "--depth", "0"], ["--depth", "from 1 up"]),
        (["survey", "good.txt", "--tree", "--why"], ["--why", "--tree"]),
        (["survey", "good.txt", "--ca", "no.pem"], ["--ca no.pem", "cannot be read"]),
        (["survey", "good.txt", "--as", "file"], ["--as file", "good.txt"]),
        (["survey", "picture.png"], ["picture.png", "not text"]),
        (
            ["survey", "h.example/x.csv"],
            ["h.example/x.csv: no such file", "did you mean https://h.example/x.csv?"],
        ),
        (["survey", "gopher://h.example/x"], ["gopher://", "unsupported scheme", "https://"]),
        (["survey", "http://"], ["http://", "has no host"]),
        (["survey", "empty.txt"], ["contains no addresses", "write one on each line"]),
        (
            ["survey", "good.txt", "--keep-re", "("],
            ["--keep-re (", "not a valid regular expression"],
        ),
        (["survey", "good.txt", "--first", "0"], ["--first", "from 1 up"]),
        (
            ["survey", "good.txt", "--colour"],
            ["unknown option --colour", "willow-cart survey --help"],
        ),
        (["survey"], ["SOURCE", "--help"]),
        (["marmalade"], ['unknown command "marmalade"', "see willow-cart --help"]),
        (["hual", "good.txt"], ['unknown command "hual"; did you mean "haul"?']),
        (["download", "good.txt"], ['unknown command "download"; did you mean "haul"?']),
        (["good.txt"], ["good.txt: not a command; use willow-cart survey good.txt, or"]),
        (["http://h.example/x/"], ["not a command; use willow-cart survey http://h.example/x/"]),
        (["survey", "good.txt", "--kepp=*"], ["unknown option --kepp; did you mean --keep?"]),
        (["survey", "good.txt", "--recursive"], ["--recursive; did you mean --depth all?"]),
        (["survey", "good.txt", "--exclude=*"], ["--exclude; did you mean --drop?"]),
        (["haul", "good.txt", "-o", "x"], ["unknown option -o; did you mean --into?"]),
        (["haul", "good.txt", "--ouput", "x"], ["--ouput; did you mean --into?"]),
        (
            ["haul", "good.txt", "--into", "x", "--html"],
            ["did you mean willow-cart receipt --html"],
        ),
        (["unpack", "x.zip", "--lift"], ["unknown option --lift; did you mean --strip-top?"]),
        (["haul", "good.txt"], ["--into is missing", "--help"]),
        (["haul", "http://h.example/", "x"], ["to download into x, use --into x"]),
        (["haul", "good.txt", "--ito", "x"], ["--ito; did you mean --into?"]),
        (
            ["haul", "good.txt", "--into", "x", "--keep", "empty.txt", "picture.png"],
            ["unexpected argument picture.png, a file here", "put that in quotes"],
        ),
        (["haul", "good.txt", "--into", "x", "--layout", "heap"], ["--layout", "heap", "tree"]),
        (["haul", "good.txt", "--into", "x", "--lanes", "many"], ["--lanes", "many"]),
        (["haul", "good.txt", "--into", "good.txt"], ["good.txt", "is a file", "--into"]),
        (["haul", "good.txt", "--into", "good.txt/x"], ["good.txt", "--into"]),
        (["haul", "good.txt", "--into", r"C:\Users\ida"], ["is a Windows path"]),
        (["pick", "empty-folder", "--out", "--ext", "csv"], ["is a folder, not a cart"]),
        (["weigh", "no.csv"], ["no such cart", "willow-cart load SOURCE --cart no.csv"]),
        (
            ["haul", "good.txt", "--into", "x", "--checksums", "no.sums"],
            ["no.sums", "no such file"],
        ),
        (
            ["receipt", "empty-folder"],
            ["empty-folder", "contains no ledger; nothing was hauled into it"],
        ),
        (["receipt", "no-such-folder"], ["no-such-folder", "not a folder"]),
        (["receipt", "broken"], ["broken/.willow/ledger.db", "is damaged"]),
        (["receipt", "future"], ["later version", "upgrade"]),
    ],
)
def test_what_cannot_be_done_is_told_in_one_line(
    tmp_path: Path, arguments: list[str], words: list[str]
) -> None:
    import sqlite3

    (tmp_path / "good.txt").write_text("http://127.0.0.1:9/x.csv\n")
    (tmp_path / "empty.txt").write_text("# nothing yet\n")
    (tmp_path / "picture.png").write_bytes(b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR")
    (tmp_path / "empty-folder").mkdir()
    for name in ("broken", "future"):
        (tmp_path / name / ".willow").mkdir(parents=True)
    (tmp_path / "broken" / ".willow" / "ledger.db").write_bytes(b"not a ledger" * 100)
    with sqlite3.connect(tmp_path / "future" / ".willow" / "ledger.db") as base:
        base.execute("PRAGMA user_version = 99")
    base.close()
    outcome = run(*arguments, cwd=tmp_path)
    assert outcome.code == (3 if "contains no addresses" in words else 2)
    assert outcome.out == ""
    assert outcome.err.count("\n") == 1, outcome.err
    assert outcome.err.startswith("willow-cart")
    for word in words:
        assert word in outcome.err


def test_a_place_that_fails_does_not_keep_the_rest_from_coming_home(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits[GOOD] = Exhibit(b"good")
    place.exhibits["a"] = Exhibit(script=lambda handler: handler.refuse(302, {"Location": "/b"}))
    place.exhibits["b"] = Exhibit(script=lambda handler: handler.refuse(302, {"Location": "/a"}))
    place.exhibits["secret"] = Exhibit(script=lambda handler: handler.refuse(403))
    lines = {
        f"{place.base}/gone.csv": "404 Not Found; check the address",
        f"{place.base}/secret": "403 Forbidden; access denied",
        f"{place.base}/a": "redirect loop",
        "http://127.0.0.1:1/x.csv": "connection refused",
        "http://no-such-host.invalid/x.csv": "no-such-host.invalid",
        place.base.replace("http", "https") + "/x.csv": "conne",
    }
    (tmp_path / "list.txt").write_text("\n".join([*lines, f"{place.base}/{GOOD}", "nonsense"]))
    outcome = run("haul", "list.txt", "--into", "x", "--attempts", "1", cwd=tmp_path)
    assert outcome.code == 1
    assert files_in(tmp_path / "x") == {GOOD: b"good"}
    failed = [line for line in outcome.err.splitlines() if "failed: " in line]
    assert len(failed) == len(lines)
    for address, words in lines.items():
        (line,) = (line for line in failed if f"failed: {address}: " in line)
        assert words in line
    assert "list.txt, line 8: nonsense: not a valid address" in outcome.err
    assert "7 offered, 7 chosen: 1 arrived, 6 failed" in outcome.out


def test_a_missing_source_beside_a_good_one_is_told_and_counts(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits[GOOD] = Exhibit(b"good")
    outcome = run("haul", "gone.txt", f"{place.base}/{GOOD}", "--into", "x", cwd=tmp_path)
    assert outcome.code == 1
    assert "gone.txt: no such file" in outcome.err
    assert files_in(tmp_path / "x") == {GOOD: b"good"}


def test_a_destination_that_cannot_be_written_is_told(tmp_path: Path) -> None:
    with disk(tmp_path / "disk", "ro") as folder:
        outcome = run("haul", "http://127.0.0.1:9/x.csv", "--into", folder / "x", cwd=tmp_path)
    assert outcome.code == 2
    assert "cannot be written: read-only file system; name another with --into" in outcome.err


def test_a_disk_that_fills_is_told_and_nothing_is_lost(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["large.bin"] = Exhibit(b"x" * 6_000_000)
    place.exhibits[GOOD] = Exhibit(b"good")

    def unannounced(handler: StandInHandler) -> None:
        handler.start(200, {"Transfer-Encoding": "chunked", "ETag": '"1"'})
        for _ in range(60):
            handler.wfile.write(b"186a0\r\n" + b"y" * 100_000 + b"\r\n")
        handler.wfile.write(b"0\r\n\r\n")

    place.exhibits["endless.bin"] = Exhibit(script=unannounced)
    addresses = [f"{place.base}/{name}" for name in ("large.bin", "endless.bin", GOOD)]
    with disk(tmp_path / "disk", "size=4m") as folder:
        outcome = run("haul", *addresses, "--into", folder, cwd=tmp_path)
        assert outcome.code == 1, outcome.err
        assert "large.bin: 6.00 MB needed, but only" in outcome.err
        assert (
            "endless.bin: the disk is full; free some space and run the same command" in outcome.err
        )
        assert files_in(folder) == {GOOD: b"good"}
        assert partial_bytes(folder) > 2_000_000, "what came of the endless one is kept"
