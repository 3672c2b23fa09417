"""A command of the person's own, run for every file that arrives."""

from __future__ import annotations

import json
import os
import signal
import sys
import time
from pathlib import Path

import pytest

from tests.support.program import run, start
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import BadOption
from willow_cart.options.groups import ArrivalCommand

_TELL = """
import os, sys
print("looked at", os.environ["WILLOW_NAME"], os.environ["WILLOW_SIZE"])
open("seen.txt", "a").write(" ".join(sys.argv[1:]) + "\\n")
sys.exit(3 if "bad" in sys.argv[1] and not os.path.exists("mended") else 0)
"""


@pytest.fixture
def told(tmp_path: Path) -> str:
    (tmp_path / "tell.py").write_text(_TELL)
    return f"'{sys.executable}' tell.py {{path}} '{{folder}}; {{kind}}' $HOME"


def test_it_is_run_for_what_arrives_and_again_where_it_failed(
    tmp_path: Path, place: StandIn, told: str
) -> None:
    place.exhibits |= {"a/good%20one.csv": Exhibit(b"1,2\n"), "a/bad.csv": Exhibit(b"3\n")}
    haul = ["haul", f"{place.base}/a/good%20one.csv", f"{place.base}/a/bad.csv", "--into", "data",
            "--keep-folders",
            "--on-arrival", told, "--log", "log.jsonl"]  # fmt: skip
    first = run(*haul, cwd=tmp_path)
    assert (first.code, "all arrived" in first.out) == (1, True)
    assert "a/bad.csv: " in first.err
    assert "ended with exit code 3: looked at bad.csv 2" in first.err
    assert "the command on arrival failed for 1 file; run the same command" in first.err
    seen = (tmp_path / "seen.txt").read_text().splitlines()
    # No shell has seen it: what looks like a variable or a second command is a word.
    assert sorted(seen) == [
        f"{tmp_path}/data/a/bad.csv a; table $HOME",
        f"{tmp_path}/data/a/good one.csv a; table $HOME",
    ]
    events = [json.loads(line) for line in (tmp_path / "log.jsonl").read_text().splitlines()]
    handled = {each["path"]: each for each in events if each["event"] == "handled"}
    assert handled["a/good one.csv"]["output"] == "looked at good one.csv 4\n"
    assert handled["a/good one.csv"]["why"] == ""
    (tmp_path / "mended").touch()
    again = run(*haul, cwd=tmp_path)
    assert (again.code, "all unchanged" in again.out) == (0, True)
    assert len((tmp_path / "seen.txt").read_text().splitlines()) == 3
    assert run(*haul, cwd=tmp_path).code == 0
    assert len((tmp_path / "seen.txt").read_text().splitlines()) == 3


def test_what_was_not_reached_is_not_forgotten(tmp_path: Path, place: StandIn) -> None:
    place.exhibits |= {f"{name}.csv": Exhibit(name.encode()) for name in "abc"}
    (tmp_path / "wait.py").write_text(
        "import os, sys, time\nopen(os.environ['WILLOW_NAME'], 'w').close()\n"
        "while not os.path.exists('go'): time.sleep(0.01)\n"
    )
    haul = ["haul", *(f"{place.base}/{path}" for path in place.exhibits), "--into", "data",
            "--keep-folders",
            "--on-arrival", f"'{sys.executable}' wait.py"]  # fmt: skip
    process = start(*haul, cwd=tmp_path)
    deadline = time.monotonic() + 240
    while not any((tmp_path / f"{name}.csv").exists() for name in "abc"):
        assert time.monotonic() < deadline
        time.sleep(0.01)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=240)
    assert process.returncode == 130, err
    (tmp_path / "go").touch()
    assert run(*haul, cwd=tmp_path).code == 0
    assert all((tmp_path / f"{name}.csv").exists() for name in "abc")


def test_a_command_is_over_when_it_ends_whatever_it_has_started(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {f"{name}.csv": Exhibit(name.encode()) for name in "ab"}
    script = tmp_path / "leave.sh"
    # What is left running has the command's output, and goes on until it is ended here.
    script.write_text("sleep 600 & echo $! >> left; echo done")
    haul = ["haul", *(f"{place.base}/{path}" for path in place.exhibits), "--into", "data"]
    outcome = run(*haul, "--on-arrival", "sh leave.sh", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    left = [int(each) for each in (tmp_path / "left").read_text().split()]
    assert len(left) == 2
    for process in left:
        os.kill(process, signal.SIGKILL)  # it is still running


def test_a_stop_ends_the_command_and_all_that_it_has_started(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["a.csv"] = Exhibit(b"a")
    (tmp_path / "stay.sh").write_text("trap '' TERM; sleep 600 & echo $! $$ > left.new\n"
                                      "mv left.new left; wait; wait; sleep 600")  # fmt: skip
    process = start("haul", f"{place.base}/a.csv", "--into", "data", "--on-arrival", "sh stay.sh",
                    cwd=tmp_path)  # fmt: skip
    deadline = time.monotonic() + 240
    while not (tmp_path / "left").exists():
        assert time.monotonic() < deadline
        time.sleep(0.01)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=240)
    assert process.returncode == 130, err
    for left in (tmp_path / "left").read_text().split():
        while Path(f"/proc/{left}/stat").exists():  # until the system has cleared it away
            if Path(f"/proc/{left}/stat").read_text().rpartition(")")[2].split()[0] == "Z":
                break
            assert time.monotonic() < deadline
            time.sleep(0.01)


def test_a_slip_is_told_before_anything_is_fetched(tmp_path: Path, place: StandIn) -> None:
    place.exhibits["a.csv"] = Exhibit(b"1")
    slip = run("haul", f"{place.base}/a.csv", "--into", "d", "--on-arrival", "x {file}",
               cwd=tmp_path)  # fmt: skip
    assert slip.code == 2
    assert "{file}: not a field; fields are path, into, name, stem," in slip.err
    assert place.requests == []
    missing = run("haul", f"{place.base}/a.csv", "--into", "d", "--on-arrival", "no-such {path}",
                  cwd=tmp_path)  # fmt: skip
    assert (missing.code, "no-such cannot be run: no such file" in missing.err) == (1, True)
    for text in ("", "'open"):
        with pytest.raises(BadOption):
            ArrivalCommand(text)
