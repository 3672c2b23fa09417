"""What commands write: never over what is not theirs; and what must not hang or end them."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support.program import COMMAND, RunHere, files_in, run
from willow_cart.choosing.patterns import on_path
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import BadOption
from willow_cart.filing import Template
from willow_cart.replacing import replacing

OWN = b"the person's own work\n"
NAMES = ("levels/1.csv", "levels/2.csv")


@pytest.fixture
def desk(tmp_path: Path, here: RunHere) -> Iterator[Path]:
    """A folder with a haul, a cart and an errand in it."""
    with StandIn({name: Exhibit(b"site,level\nHW-1,2\n") for name in NAMES}) as place:
        (tmp_path / "list.txt").write_text("".join(f"{place.base}/{name}\n" for name in NAMES))
        (tmp_path / "job.toml").write_text('into = "data"\n[[source]]\nfrom = ["list.txt"]\n')
        assert here(tmp_path, "haul", "list.txt", "--into", "data").code == 0
        assert here(tmp_path, "load", "list.txt", "--cart", "cart.csv").code == 0
        yield tmp_path


OUTPUTS = {
    "receipt.html": ("receipt", "data", "--html", "receipt.html"),
    "script.py": ("load", "list.txt", "--to-script", "script.py"),
    "packed.zip": ("pack", "data", "--to", "packed.zip"),
    "packed.tar.gz": ("pack", "data", "--to", "packed.tar.gz"),
    "figure.png": ("weigh", "cart.csv", "--figure", "figure.png"),
    "cart.share-1.csv": ("weigh", "cart.csv", "--shares", "2"),
    "all.csv": ("combine", "data", "--to", "all.csv", "--start-over"),
    "all.jsonl": ("combine", "data", "--to", "all.jsonl", "--start-over"),
    "all.parquet": ("combine", "data", "--to", "all.parquet", "--start-over"),
    "all.sqlite": ("combine", "data", "--to", "all.sqlite", "--start-over"),
    "done.txt": ("errand", "job.toml", "--summary", "done.txt"),
}


@pytest.mark.parametrize("name", OUTPUTS)
def test_an_output_replaces_its_own_and_nothing_else(desk: Path, name: str, here: RunHere) -> None:
    path, command = desk / name, OUTPUTS[name]
    assert here(desk, *command).code == 0
    first = path.read_bytes()
    assert here(desk, *command).code == 0, "it knows its own"
    for make in (path.write_bytes, lambda own: path.symlink_to(desk / "own") if own else None):
        path.unlink()
        (desk / "own").write_bytes(OWN)
        make(OWN)
        refused = here(desk, *command)
        assert refused.code == 2
        assert refused.err.count("\n") <= 2, refused.err
        assert name in refused.err
        assert (desk / "own").read_bytes() == OWN
        assert path.read_bytes() == OWN
    assert here(desk, *command, "--overwrite").code == 0
    assert path.read_bytes() != OWN
    assert (desk / "own").read_bytes() == OWN, "a link is replaced, and not what it leads to"
    assert len(path.read_bytes()) > 0.5 * len(first)
    assert not [each for each in desk.iterdir() if ".unfinished" in each.name]


@pytest.mark.parametrize("name", OUTPUTS)
def test_a_pipe_is_no_output(desk: Path, name: str, here: RunHere) -> None:
    os.mkfifo(desk / name)
    assert here(desk, *OUTPUTS[name]).code == 2


def test_a_table_of_a_database_that_is_not_ours_stays(desk: Path) -> None:
    import sqlite3

    with sqlite3.connect(desk / "all.sqlite") as base:
        base.execute("CREATE TABLE 'all' (own TEXT)")
        base.execute("INSERT INTO 'all' VALUES ('work')")
    base.close()
    assert run("combine", "data", "--to", "all.sqlite", "--start-over", cwd=desk).code == 2
    with sqlite3.connect(desk / "all.sqlite") as base:
        assert base.execute("SELECT own FROM 'all'").fetchall() == [("work",)]
    base.close()


def test_what_a_kill_leaves_of_an_output_the_next_time_clears(tmp_path: Path) -> None:
    words = """
import os, pathlib
from willow_cart.replacing import replacing
with replacing(pathlib.Path("x.csv")) as text:
    text.write("half")
    text.flush()
    os.kill(os.getpid(), 9)
"""
    done = subprocess.run([sys.executable, "-c", words], cwd=tmp_path, check=False)
    assert done.returncode == -signal.SIGKILL
    assert [each.name for each in tmp_path.iterdir()] == [".x.csv.unfinished"]
    with replacing(tmp_path / "x.csv") as text:
        text.write("whole")
    assert files_in(tmp_path) == {"x.csv": b"whole"}


def test_a_link_where_an_output_is_written_first_is_not_written_through(tmp_path: Path) -> None:
    (tmp_path / "own").write_bytes(OWN)
    (tmp_path / ".x.csv.unfinished").symlink_to(tmp_path / "own")
    with replacing(tmp_path / "x.csv") as text:
        text.write("whole")
    assert files_in(tmp_path) == {"own": OWN, "x.csv": b"whole"}


def test_a_script_keeps_the_promises_of_the_program(desk: Path) -> None:
    """No link is followed, and own files are put aside, where nothing but Python is."""
    assert run("load", "list.txt", "--ask-sizes", "--to-script", "get.py", cwd=desk).code == 0
    outside = desk / "outside"
    outside.mkdir()
    (outside / "own").write_bytes(OWN)
    get = [sys.executable, "get.py", "--into", "out"]
    for path, link in (("out/levels", outside), ("out/.unfinished", outside)):
        shutil.rmtree(desk / "out", ignore_errors=True)
        (desk / "out").mkdir()
        (desk / path).symlink_to(link)
        done = subprocess.run(get, cwd=desk, capture_output=True, check=False)
        assert done.returncode == 1
        assert b"is a link" in done.stderr
        assert files_in(outside) == {"own": OWN}
        (desk / path).unlink()
    (desk / "out" / "levels").mkdir(exist_ok=True)
    (desk / "out" / "levels" / "1.csv").write_bytes(OWN)
    (desk / "out" / "levels" / "2.csv").symlink_to(outside / "own")
    done = subprocess.run(get, cwd=desk, capture_output=True, check=False)
    assert done.returncode == 0
    assert done.stderr.count(b"was moved to") == 2
    assert files_in(outside) == {"own": OWN}
    assert OWN in files_in(desk / "out").values()
    assert not (desk / "out" / "levels" / "2.csv").is_symlink()


@pytest.mark.parametrize("pattern", [r"(a|aa)+$", r"(a|b|ab)*c$"])
def test_an_expression_without_end_is_told(tmp_path: Path, pattern: str) -> None:
    (tmp_path / "list.txt").write_text(f"http://127.0.0.1:9/{'ab' * 30}{'a' * 60}!.csv\n")
    done = run("survey", "list.txt", "--keep-re", pattern, cwd=tmp_path)
    assert done.code == 2
    assert f"--keep-re {pattern}: takes too long" in done.err
    done = run("haul", "list.txt", "--into", "x", "--file-as", "{part}",
               "--name-parts", f"(?P<part>{pattern})", cwd=tmp_path)  # fmt: skip
    assert done.code == 2
    assert "takes too long" in done.err


def test_wildcards_have_an_end() -> None:
    for pattern in ("*a*a*a*a*a*a*a*a*b", "*" * 60 + "b", "**/*a*a*a*a*b", "[a]*[a]*[a]*[a]*b"):
        assert not on_path(pattern)("a" * 250)
    assert on_path("*a*b?c")("xxaxxbbxc")
    assert on_path("**/*1*2.csv")("x/y/a1b1c2.csv")
    assert not on_path("*1*2.csv")("1/2.csv")
    with pytest.raises(BadOption, match="too many wildcards"):
        on_path("**/a/**/b/**/c/**/d")


@pytest.mark.parametrize(
    "template", ["{name:>999999999}", "{number:0999999999d}/{name}", "{fetched:%999999999Y}{name}"]
)
def test_a_template_is_no_wider_than_a_name(template: str) -> None:
    with pytest.raises(BadOption, match="too wide"):
        Template(template)


@pytest.mark.parametrize(
    ("table", "line"),
    [
        ("haul", 'checksums = ["http://127.0.0.1:9/sums"]'),
        ("haul", 'if_present = "replace"'),
        ("haul", "accept_anything = true"),
        ("haul", 'on_arrival = "touch x"'),
        ("haul", 'log = "x"'),
        ("haul", 'twins = "skip"'),
        ("haul", "even_if_full = true"),
        ("connecting", 'endpoint = "http://127.0.0.1:9"'),
    ],
)
def test_a_project_may_only_set_what_does_no_harm(desk: Path, table: str, line: str) -> None:
    (desk / "willow-cart.toml").write_text(f"[{table}]\n{line}\n")
    refused = run("haul", "list.txt", "--into", "data", cwd=desk)
    assert refused.code == 2
    assert "not allowed in a project file" in refused.err


LOW = {
    "a range of 5,000 digits": ("survey", "http://127.0.0.1:9/{1.." + "9" * 5000 + "}"),
    "lanes beyond number": ("haul", "list.txt", "--into", "x", "--lanes", "99999999"),
    "strands beyond number": ("haul", "list.txt", "--into", "x", "--strands", "99999999"),
    "shares beyond number": ("weigh", "cart.csv", "--shares", "999999999"),
    "lines beyond number": ("combine", "data", "--to", "x.csv", "--skip-lines", "1" + "0" * 20),
    "a count of 5,000 digits": ("survey", "list.txt", "--first", "9" * 5000),
    "an archive without end": ("unpack", "/dev/zero"),
    "an errand that is a pipe": ("errand", "fifo"),
    "a list that is a pipe": ("haul", "fifo", "--into", "x"),
    "an expression that is too long": ("survey", "list.txt", "--keep-re", "a" * 100_000),
    "a folder as a cart": ("weigh", "data"),
    "a cart of zeros": ("weigh", "/dev/zero"),
}


@pytest.mark.parametrize("odd", LOW)
def test_low_tricks_are_told_in_a_line(desk: Path, odd: str, here: RunHere) -> None:
    os.mkfifo(desk / "fifo")
    done = here(desk, *LOW[odd])
    assert done.code == 2, done.err
    assert done.err.count("\n") == 1, done.err
    assert "internal error" not in done.err


@pytest.mark.parametrize("proxy", ["http://[::1", "nonsense://x:y:z", "http://h:99999/", "\x01"])
def test_a_malformed_proxy_is_told(tmp_path: Path, proxy: str) -> None:
    haul = ("haul", "http://h.example/x.csv", "--into", "x", "--attempts", "1")
    done = run(*haul, cwd=tmp_path, env={"http_proxy": proxy})
    assert done.code in (1, 2)
    assert "internal error" not in done.err


def test_an_output_that_is_closed_or_full_is_told(desk: Path) -> None:
    for words, code in ((">&-", 0), (">/dev/full", 1), ("2>&-", 0), ("2>/dev/full", 0)):
        line = " ".join([*map(str, COMMAND), "survey", "list.txt", words])
        done = subprocess.run(["sh", "-c", line], cwd=desk, capture_output=True, check=False)
        assert done.returncode == code, (words, done.stderr)
        assert b"Traceback" not in done.stderr
        assert b"Exception" not in done.stderr


def test_an_altered_state_of_a_run_is_passed_over(desk: Path) -> None:
    env = {"XDG_STATE_HOME": str(desk / "state")}
    run("haul", "list.txt", "--into", "x", cwd=desk, env=env)
    (folder,) = (each for each in (desk / "state/willow-cart/runs").iterdir() if each.is_dir())
    for content in ("null", "[]", '{"progress": null}', "[" * 100_000, "\0"):
        (folder / "state.json").write_text(content)
        done = run("runs", cwd=desk, env=env)
        assert done.code == 0
        assert "internal error" not in done.err


def test_a_cart_shows_no_escapes_on_a_terminal(desk: Path) -> None:
    (desk / "odd.csv").write_text("url,text\nhttp://h.example/x.csv,\x1b]0;gone\x07\x1b[2J\n")
    for command in (("weigh", "odd.csv"), ("survey", "odd.csv")):
        done = run(*command, cwd=desk)
        assert "\x1b" not in done.out + done.err
    assert run("load", "odd.csv", "--cart", "new.csv", cwd=desk).code == 0
    assert "\x1b" not in (desk / "new.csv").read_text()
