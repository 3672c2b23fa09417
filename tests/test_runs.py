"""Hauls in the background, and what others see of hauls."""

from __future__ import annotations

import os
import pty
import random
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.support.program import COMMAND, files_in, run, start, wait_for_bytes
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.ledger.runs import Progress, Runs
from willow_cart.platform import files

CONTENT = random.Random(7).randbytes(2_000_000)


@pytest.fixture
def desk(tmp_path: Path, place: StandIn, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A folder with a list of slow files; what is still in progress at the end is stopped."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    place.exhibits |= {f"sounds/{n}.wav": Exhibit(CONTENT, speed=1e6) for n in range(6)}
    (tmp_path / "list.txt").write_text("".join(f"{place.base}/{each}\n" for each in place.exhibits))
    yield tmp_path
    for each in runs(tmp_path):
        if each["alive"]:
            os.kill(each["process"], signal.SIGKILL)


def runs(desk: Path) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = run("runs", "--json", cwd=desk).json()
    return found


def quicken(place: StandIn) -> None:
    for exhibit in place.exhibits.values():
        exhibit.speed = None


HAUL = ("haul", "list.txt", "--into", "data")


def test_a_haul_in_the_background_survives_its_terminal(desk: Path, place: StandIn) -> None:
    ours, theirs = pty.openpty()
    shell = subprocess.run(
        [*COMMAND, *HAUL, "--detach"], cwd=desk, stdin=theirs, stdout=theirs, stderr=theirs,
        start_new_session=True, check=False, timeout=240,
    )  # fmt: skip
    os.close(theirs)
    said = os.read(ours, 4096).decode()
    os.close(ours)
    assert shell.returncode == 0
    assert "run 1 continues in the background" in said
    (entry,) = runs(desk)
    assert (entry["alive"], entry["background"], entry["into"]) == (True, True, str(desk / "data"))
    place.requests.clear()
    watched = run("runs", "--watch", cwd=desk)
    assert watched.code == 0
    assert "run 1: done; for details, run willow-cart receipt" in watched.err
    assert "6 chosen: all arrived" in watched.err, "what it wrote is passed on"
    assert files_in(desk / "data") == {f"sounds/{n}.wav": CONTENT for n in range(6)}
    assert "6 chosen: all arrived" in run("runs", "--log", cwd=desk).out


def test_a_run_that_ends_while_it_is_read_has_its_exit_code(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    runs = Runs(tmp_path / "runs")
    own = runs.begin("haul list.txt", tmp_path, background=False)
    is_locked = files.is_locked
    assert runs.find(1).alive

    def is_locked_late(path: Path) -> bool:
        own.end(0, Progress())
        return is_locked(path)

    monkeypatch.setattr(files, "is_locked", is_locked_late)
    found = runs.find(1)
    assert (found.alive, found.exit_code) == (False, 0)


def test_one_is_stopped_and_its_command_goes_on(desk: Path, place: StandIn) -> None:
    assert run(*HAUL, "--detach", cwd=desk).code == 0
    second = run(*HAUL, cwd=desk)
    assert second.code == 2
    assert "data: is in use by another haul (process " in second.err
    assert "willow-cart runs --watch" in second.err
    stopped = run("runs", "--stop", cwd=desk)
    assert stopped.code == 0
    assert f"run in {desk}: willow-cart haul list.txt" in stopped.err
    table = run("runs", cwd=desk).out
    assert "stopped" in table
    assert "1 run, 0 running" in table
    assert run("runs", "--stop", cwd=desk).err == (
        "willow-cart: runs: no haul is running; willow-cart runs lists them all\n"
    )
    quicken(place)
    assert run(*HAUL, cwd=desk).code == 0
    assert [each["exit_code"] for each in runs(desk)] == [130, 0]


def test_what_was_killed_is_called_broken_off_and_the_next_haul_says_so(
    desk: Path, place: StandIn
) -> None:
    process = start(*HAUL, cwd=desk)
    wait_for_bytes(desk / "data", 300_000, process)
    assert runs(desk)[0]["alive"], "one with a terminal is seen as well"
    process.kill()
    process.communicate()
    assert "interrupted" in run("runs", cwd=desk).out
    quicken(place)
    outcome = run(*HAUL, cwd=desk)
    assert outcome.code == 0
    assert "was interrupted; resuming" in outcome.err
    assert "was interrupted" not in run(*HAUL, cwd=desk).err


def test_what_cannot_begin_is_told_before_the_terminal_is_handed_back(desk: Path) -> None:
    outcome = run("haul", "nix.txt", "--into", "data", "--detach", cwd=desk)
    assert outcome.code == 2
    assert "nix.txt: no such file" in outcome.err
    outcome = run("haul", "list.txt", "--keep", "*.csv", "--into", "data", "--detach", cwd=desk)
    assert outcome.code == 3
    assert runs(desk) == []


def test_a_list_comes_by_a_pipe_also_in_the_background(desk: Path, place: StandIn) -> None:
    quicken(place)
    content = (desk / "list.txt").read_bytes()
    assert run("haul", "-", "--into", "data", "--detach", cwd=desk, stdin=content).code == 0
    deadline = time.monotonic() + 240
    while runs(desk)[0]["alive"] and time.monotonic() < deadline:
        time.sleep(0.05)
    assert runs(desk)[0]["progress"]["files_done"] == 6


def test_without_a_place_to_say_so_hauls_go_on_unseen(desk: Path, place: StandIn) -> None:
    quicken(place)
    (desk / "state").write_text("no folder")
    assert run(*HAUL, cwd=desk).code == 0
    outcome = run(*HAUL, "--detach", cwd=desk)
    assert outcome.code == 1
    assert "cannot be written" in outcome.err
    assert run("runs", cwd=desk).out == "0 runs, 0 running\n"
    for wrong in (["--watch", "7"], ["--stop", "7"], ["--log", "7"]):
        outcome = run("runs", *wrong, cwd=desk)
        assert (outcome.code, outcome.err) == (
            2, "willow-cart: run 7: no such run; willow-cart runs lists them\n"
        )  # fmt: skip


def test_of_several_running_hauls_none_is_stopped_without_its_number(
    desk: Path, place: StandIn
) -> None:
    for folder in ("one", "two"):
        assert run("haul", "list.txt", "--into", folder, "--detach", cwd=desk).code == 0
    refused = run("runs", "--stop", cwd=desk)
    assert (refused.code, "several are running: 1 (into" in refused.err) == (2, True)
    assert "running" in run("receipt", "one", cwd=desk).out.splitlines()[1]
    assert "running" in run("receipt", "one", "--runs", cwd=desk).out
    for number in ("1", "2"):
        assert run("runs", "--stop", number, cwd=desk).code == 0
    assert "interrupted" not in run("runs", cwd=desk).out


def test_only_the_last_runs_are_listed(desk: Path, place: StandIn) -> None:
    quicken(place)
    for _ in range(17):
        assert run(*HAUL, "--first", "1", cwd=desk).code == 0
    listed = run("runs", cwd=desk)
    assert listed.last_line == "17 runs, 0 running; 2 earlier runs not shown (--all)"
    assert run("runs", "--all", cwd=desk).last_line == "17 runs, 0 running"
