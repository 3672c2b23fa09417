"""How a command ends is the truth: its exit code, its one line, and what it left as it was."""

from __future__ import annotations

import errno
import os
import random
import resource
import signal
import sqlite3
import stat
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import pytest

from tests.support.program import COMMAND, PATIENCE, files_in, run
from willow_cart.commands.table import COMMANDS
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.ledger.opening import ledger_path, unreadable

JOB = 'into = "d"\n[[source]]\nfrom = "http://h.example/"\n'


@pytest.mark.posix
def test_the_exit_code_is_true_when_the_reader_of_the_output_is_gone(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {"a.csv": Exhibit(b"n,v\n1,2\n"), "b.csv": Exhibit(b"n,v\n1,2\n")}
    run("haul", f"{place.base}/a.csv", f"{place.base}/b.csv", "--into", "d", cwd=tmp_path)
    (tmp_path / "d/a.csv").write_text("changed")
    (tmp_path / "job.toml").write_text(
        f'into = "e"\n[[source]]\nfrom = ["{place.base}/a.csv", "{place.base}/none.csv"]\n'
    )
    for words, code in (
        (["haul", f"{place.base}/none.csv", "--into", "o"], 1),
        (["haul", f"{place.base}/a.csv", "--into", "o"], 0),
        (["audit", "d"], 4),
        (["audit", "d", "--json"], 4),
        (["errand", "job.toml"], 1),
        (["knock", f"{place.base}/none.csv"], 1),
        (["survey", f"{place.base}/a.csv", "--csv"], 0),
        (["help", "--all"], 2),
    ):
        reading, writing = os.pipe()
        os.close(reading)
        with open(writing, "wb") as output:
            done = subprocess.run([*COMMAND, *words], cwd=tmp_path, stdout=output, check=False,
                                  stderr=subprocess.PIPE, timeout=PATIENCE)  # fmt: skip
        assert done.returncode == code, (words, done.stderr)
        assert b"pipe" not in done.stderr
        assert b"Traceback" not in done.stderr


@pytest.mark.posix
def test_an_interrupt_is_one_line_from_the_first_instruction_on(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["a.csv"] = Exhibit(b"n,v\n1,2\n" * 9000, speed=20_000)
    (tmp_path / "t").mkdir()
    for number in range(20):
        (tmp_path / "t" / f"{number}.csv").write_text("n,v\n1,2\n" * 2000)
    (tmp_path / "job.toml").write_text(JOB.replace("http://h.example", place.base))
    of_command = {
        "haul": [f"{place.base}/a.csv", "--into", "d"], "survey": [f"{place.base}/a.csv"],
        "combine": ["t", "--to", "x.sqlite"], "pack": ["t", "--to", "x.zip"],
        "errand": ["job.toml"], "offline": [f"{place.base}/a.csv", "--into", "e"],
    }  # fmt: skip
    chance = random.Random(7)
    for name in COMMANDS:
        if name == "demo":
            continue
        for _ in range(2):
            process = subprocess.Popen(
                [sys.executable, "-X", "importtime", "-m", "willow_cart", name,
                 *of_command.get(name, ["--help"])],
                cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
            )  # fmt: skip
            assert process.stderr is not None
            # Before it, the interpreter itself starts; the first package is loaded right after it.
            for line in process.stderr:
                if b"willow_cart.cli" in line:
                    break
            time.sleep(chance.random() * 0.3)
            process.send_signal(signal.SIGINT)
            told = [
                line for line in process.communicate(timeout=PATIENCE)[1].splitlines()
                if not line.startswith(b"import time:")
            ]  # fmt: skip
            assert process.returncode in (0, 1, 3, 4, 130), (name, told)
            assert not any(b"Traceback" in line or b"Error" in line for line in told), (name, told)
            if process.returncode == 130:
                own = [line for line in told if b"interrupted" in line or b"stopped" in line]
                assert len(own) == 1, (name, told)


CRONTAB = """#!/bin/sh
cd {folder}
case "$1" in
-l) if [ -e fails ]; then cat fails >&2; exit 1; fi
    [ -e tab ] || {{ echo 'no crontab for ida' >&2; exit 1; }}
    cat tab;;
*) if [ -e full ]; then cat >/dev/null; echo 'no space' >&2; exit 1; fi
   if [ -e loses ]; then cat >/dev/null; : >tab; else cat >tab; fi;;
esac
"""


@pytest.mark.posix
def test_a_crontab_is_never_lost(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    program = tmp_path / "bin" / "crontab"
    program.parent.mkdir()
    program.write_text(CRONTAB.format(folder=tmp_path))
    program.chmod(program.stat().st_mode | stat.S_IXUSR)
    monkeypatch.setenv("PATH", f"{program.parent}:{os.environ['PATH']}")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    (tmp_path / "x.toml").write_text(JOB)
    install = ["timetable", "x.toml", "--at", "daily 06:30", "--install"]
    tab = tmp_path / "tab"
    # Bytes of no encoding, form feeds and other line ends of Unicode are parts of lines.
    own = b"0 3 * * * b\xe4ckup\x0c \xe2\x80\xa8 x\x0b\n# note\n\n1 1 1 1 1 last without an end"
    for reason in ("temporarily unavailable", "you are not allowed to use this program", ""):
        tab.write_bytes(own)
        (tmp_path / "fails").write_text(reason)
        done = run(*install, cwd=tmp_path)
        assert (done.code, tab.read_bytes()) == (1, own)
        assert "your crontab: cannot be read" in done.err
    (tmp_path / "fails").unlink()
    (tmp_path / "full").touch()
    assert (run(*install, cwd=tmp_path).code, tab.read_bytes()) == (1, own)
    (tmp_path / "full").unlink()
    for _ in range(3):
        done = run(*install, cwd=tmp_path)
        assert done.code == 0, done.err
        assert tab.read_bytes().startswith(own + b"\n")
        assert tab.read_bytes().count(b".toml --summary ") == 1
    assert "the crontab as it was before" in done.err
    assert (tmp_path / "state/willow-cart/crontab.before").read_bytes() == tab.read_bytes()
    # What somebody has put below the mark is not ours.
    lines = tab.read_bytes().split(b"\n")
    mark = next(at for at, line in enumerate(lines) if line.startswith(b"# willow-cart errand"))
    lines[mark + 1] = b"5 5 * * * my own job"
    tab.write_bytes(b"\n".join(lines))
    assert run(*install, cwd=tmp_path).code == 0
    assert b"my own job" in tab.read_bytes()
    (tmp_path / "loses").touch()
    done = run(*install, cwd=tmp_path)
    assert (done.code, "restore it: crontab " in done.err) == (1, True)
    tab.unlink()
    (tmp_path / "loses").unlink()
    assert run(*install, cwd=tmp_path).code == 0
    assert tab.read_bytes().count(b"\n") == 2


def test_only_what_sqlite_calls_malformed_is_called_damaged(tmp_path: Path) -> None:
    path = tmp_path / "ledger.db"
    said = set()
    for number in range(1, 30):
        error = sqlite3.OperationalError("it is so")
        error.sqlite_errorcode = number | 3 << 8
        told = str(unreadable(path, error))
        is_damage = number in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)
        assert ("is damaged" in told) is ("move it away" in told) is is_damage
        said.add(told)
    assert len(said) >= 5


@pytest.mark.posix
def test_a_full_disk_or_a_lock_is_not_damage(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(b"n,v\n1,2\n")
    haul = ["haul", f"{place.base}/a.csv", "--into", "d"]
    assert run(*haul, cwd=tmp_path).code == 0
    ledger = ledger_path(tmp_path / "d")
    with closing(sqlite3.connect(ledger, isolation_level=None)) as base:
        base.execute("BEGIN EXCLUSIVE")
        done = run(*haul, cwd=tmp_path)
        assert (done.code, "is in use by another program" in done.err) == (2, True), done.err
        base.execute("ROLLBACK")

    def limit() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (4096, 4096))

    # Files may not grow: SQLite calls that a full disk, or an input or output error.
    done_here = subprocess.run(
        [*COMMAND, *haul], cwd=tmp_path, check=False, capture_output=True, text=True,
        timeout=PATIENCE,
        preexec_fn=limit,
    )  # fmt: skip
    assert done_here.returncode != 0
    assert "damaged" not in done_here.stderr
    assert "move it away" not in done_here.stderr
    assert os.strerror(errno.EFBIG) is not None
    assert run(*haul, cwd=tmp_path).code == 0
    assert len(files_in(tmp_path / "d")) == 1
