"""Scripts that bring a cart home by themselves, with nothing but Python."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

import pytest

from tests.support.program import PATIENCE, files_in, run, sha256
from willow_cart.demo.places import Outbox
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler


def fetch(script: Path, into: str = "d", python: str = sys.executable) -> tuple[int, str, str]:
    # -I -S: neither this environment's packages nor those of the person.
    done = subprocess.run(
        [python, "-I", "-S", script.name, "--into", into], cwd=script.parent, check=False,
        capture_output=True, text=True, timeout=PATIENCE,
    )  # fmt: skip
    assert "Traceback" not in done.stderr
    return done.returncode, done.stdout.rstrip("\n"), done.stderr


def largest_in(folder: Path) -> int:
    sizes = [0]
    for path in folder.iterdir() if folder.is_dir() else ():
        with suppress(FileNotFoundError):  # it has its name by now
            sizes.append(path.stat().st_size)
    return max(sizes)


@pytest.fixture
def script(tmp_path: Path, place: StandIn) -> Path:
    place.exhibits |= {
        "x/big.bin": Exhibit(os.urandom(400_000), breaks=[150_000]),
        "x/busy.csv": Exhibit(b"busy", refusals=[(503, {"Retry-After": "0"})]),
        "x/deep/ab.csv": Exhibit(b"a"),
        "x/deep/weak.bin": Exhibit(b"w" * 9000, 'W/"1"', breaks=[4000]),
    }
    cart = tmp_path / "c.csv"
    page = f"{place.base}/x/"
    done = run("load", page, "--depth", "all", "--ask-sizes", "--cart", cart, "--to-script",
               "take.py", cwd=tmp_path)  # fmt: skip
    assert (done.code, "take.py: hauls 4 files; run python3 take.py --into DIR" in done.out) == (
        0, True,
    ), done.err  # fmt: skip
    return tmp_path / "take.py"


def test_everything_comes_whole_and_once(script: Path, place: StandIn) -> None:
    place.requests.clear()
    assert fetch(script)[:2] == (0, "4 files: all arrived")
    contents = {path[2:]: each.content for path, each in place.exhibits.items()}
    assert files_in(script.parent / "d") == contents
    asked = [each.fields.get("range") for each in place.requests if each.path == "/x/big.bin"]
    assert asked == [None, "bytes=150000-"]
    # A weak entity tag proves nothing (RFC 9110, 8.8.1): from the start again.
    weak = [each.fields.get("range") for each in place.requests if "weak" in each.path]
    assert weak == [None, None]
    place.requests.clear()
    assert fetch(script)[:2] == (0, "4 files: all already here")
    assert place.requests == []


def test_it_goes_on_after_an_end_and_starts_over_when_it_has_changed(
    script: Path, place: StandIn
) -> None:
    big = place.exhibits["x/big.bin"]
    big.breaks, big.speed = [], 200_000
    part = script.parent / "d" / ".unfinished"
    for _ in range(2):
        process = subprocess.Popen([sys.executable, "take.py", "--into", "d"], cwd=script.parent,
                                   stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
        before = largest_in(part)
        while largest_in(part) <= before + 10_000:
            assert process.poll() is None
        process.send_signal(signal.SIGKILL)
        process.communicate()
        assert not (script.parent / "d" / "big.bin").exists()
    place.requests.clear()
    big.speed = None
    big.content = b"n" * 400_000  # another version of the same size
    assert fetch(script)[0] == 0
    asked = [each for each in place.requests if each.path == "/x/big.bin"]
    assert asked[0].fields["range"].startswith("bytes=")
    assert asked[0].status == 200
    assert files_in(script.parent / "d")["big.bin"] == big.content


def test_what_breaks_off_in_a_head_is_asked_for_again(script: Path, place: StandIn) -> None:
    whole = place.exhibits["x/deep/ab.csv"]
    answers = iter([b"HTTP/1.1 200 OK\r\nContent-Len", b"HTTP/1.1 200 OK\r\nContent-Length: 1"])

    def break_off(handler: StandInHandler) -> None:
        if (sent := next(answers, None)) is None:
            handler.serve(whole)
        else:
            handler.wfile.write(sent)
            handler.cut()

    place.exhibits["x/deep/ab.csv"] = Exhibit(b"a", script=break_off)
    assert fetch(script)[0] == 0
    assert files_in(script.parent / "d")["deep/ab.csv"] == b"a"


def test_what_is_wrong_or_missing_never_gets_a_name(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {"good.csv": Exhibit(b"g"), "bad.csv": Exhibit(b"b"), "in.zip": Exhibit(b"")}
    (tmp_path / "list.csv").write_text(
        "url,checksum\n"
        f"{place.base}/good.csv,sha256:{sha256(b'g')}\n{place.base}/bad.csv,sha256:{sha256(b'x')}\n"
        f"{place.base}/none.csv,\ns3://bucket/a.csv,\n{place.base}/key.csv?token=mere,\n"
    )
    done = run("load", "list.csv", "--to-script", "take.py", cwd=tmp_path)
    assert (done.code, "take.py: hauls 3 files" in done.out) == (1, True)
    assert "s3://bucket/a.csv: left out: it needs Willow Cart" in done.err
    assert "mere" not in (tmp_path / "take.py").read_text() + done.err
    code, out, err = fetch(tmp_path / "take.py")
    assert (code, out) == (4, "3 files: 1 arrived, 1 failed, 1 refused")
    assert "refused: bad.csv: its sha256 is" in err
    assert "failed: none.csv: 404" in err
    assert files_in(tmp_path / "d") == {"good.csv": b"g"}
    assert run("load", "list.csv", cwd=tmp_path).code == 2
    # By way of a cart, which has nothing but a fingerprint of the secret, it is the same.
    carted = run("load", "list.csv", "--cart", "c.csv", "--to-script", "other.py", cwd=tmp_path)
    assert (carted.code, "other.py: hauls 3 files" in carted.out) == (1, True)


def test_it_speaks_ftp_and_runs_on_older_pythons(tmp_path: Path) -> None:
    content = os.urandom(50_000)
    (tmp_path / "root").mkdir()
    (tmp_path / "root" / "a b.bin").write_bytes(content)
    with Outbox(tmp_path / "root") as outbox:
        done = run("load", f"{outbox.base}/", "--to-script", "take.py", cwd=tmp_path)
        assert done.code == 0, done.err
        older = next(filter(None, map(shutil.which, ("python3.9", "python3.10"))), sys.executable)
        if subprocess.run([older, "-c", ""], check=False, capture_output=True).returncode:
            older = sys.executable
        assert fetch(tmp_path / "take.py", python=older)[0] == 0
    assert files_in(tmp_path / "d") == {"a b.bin": content}
