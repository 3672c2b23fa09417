"""What a person sees: on a terminal, on a narrow one, and without."""

from __future__ import annotations

import fcntl
import io
import os
import pty
import re
import struct
import subprocess
import termios
from pathlib import Path

import pytest
from rich.console import Console

from tests.support.program import COMMAND, files_in
from willow_cart.cli.screen import wrapped
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.errors import ConnectionLost
from willow_cart.events import Freed, Planned, Postponed, Received, Settled, Started, StrandStarted
from willow_cart.filing import Layout, Plan, make_plan
from willow_cart.ledger.entries import Result
from willow_cart.model import Offer, State
from willow_cart.observer import Hearers
from willow_cart.offer_store import OfferStore
from willow_cart.progress import HaulProgress
from willow_cart.views.bars import cut_middle, draw
from willow_cart.views.words import Reporter


def on_a_terminal(*arguments: str, cwd: Path, columns: int = 100) -> tuple[int, str]:
    """Run a command on a terminal of its own, and give its exit code and all that it drew."""
    try:
        ours, theirs = pty.openpty()
    except OSError:
        pytest.skip("this machine has no pseudo-terminals")
    env = {**os.environ, "TERM": "xterm-256color", "COLUMNS": str(columns), "LINES": "30"}
    process = subprocess.Popen(
        [*COMMAND, *arguments], cwd=cwd, stdin=theirs, stdout=theirs, stderr=theirs, env=env
    )
    os.close(theirs)
    drawn = b""
    with open(ours, "rb", buffering=0) as screen:
        try:
            while piece := screen.read(65536):
                drawn += piece
        except OSError:  # how Linux states that nobody writes to it any more
            pass
    return process.wait(30), drawn.decode()


def test_a_haul_on_a_terminal_draws_its_lanes_and_ends_with_the_counts(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits["dawn.wav"] = Exhibit(b"x" * 900_000, speed=900_000, breaks=[300_000])
    place.exhibits["[bold]gone.csv"] = Exhibit(script=lambda handler: handler.refuse(404))
    addresses = [f"{place.base}/dawn.wav", f"{place.base}/[bold]gone.csv"]
    code, drawn = on_a_terminal("haul", *addresses, "--into", "x", cwd=tmp_path)
    assert code == 1
    assert "lane 1" in drawn
    assert re.search(r"kB of 900 kB", drawn)
    assert (
        "dawn.wav: the connection broke before the file was complete; resuming at 300 kB" in drawn
    )
    assert "1 file postponed" in drawn
    assert f"failed: {place.base}/%5Bbold%5Dgone.csv: 404 Not Found" in drawn
    assert "2 chosen: 1 arrived, 1 failed" in drawn
    assert "\x1b[?25h" in drawn, "the cursor is shown again"
    assert set(files_in(tmp_path / "x")) == {"dawn.wav"}

    code, drawn = on_a_terminal("receipt", "x", cwd=tmp_path)
    assert code == 0
    assert "[bold]gone.csv" in drawn
    assert "\x1b[32marrived" in drawn


def plan(*names: str) -> Plan:
    return make_plan(OfferStore(Offer(f"http://h.example/{name}") for name in names), Layout.TREE)


@pytest.mark.parametrize("width", [40, 80, 200])
def test_bars_fit_the_screen(width: int) -> None:
    drawn = io.StringIO()
    console = Console(file=drawn, width=width, force_terminal=False, markup=False, emoji=False)
    now = [0.0]
    progress = HaulProgress(lambda: now[0])
    names = ["a.csv", "recordings/2031-05/" + "dawn-chorus-" * 9 + "[bold].wav"]
    of_both = plan(*names)
    progress.note(Planned(of_both))
    for lane, filed in enumerate(of_both):
        progress.note(Started(lane, filed, 40_000_000, 0))
        progress.note(Received(lane, 10_000_000))
    now[0] = 2.0
    progress.note(Postponed(0, of_both[1], ConnectionLost("a", "broke"), 1.0))
    progress.note(Freed(0))
    drawn.truncate(0)
    console.print(draw(progress.progress(), "data", console.width))
    lines = drawn.getvalue().strip("\0").splitlines()
    assert all(len(line) <= width for line in lines)
    text = "\n".join(lines)
    assert "waiting" not in text
    assert ("10.0 MB of 40.0 MB" if width >= 80 else "25 %") in text
    assert "0 of 2 files" in text
    assert width < 80 or "10.0 MB/s, about 14 s left, 1 file postponed" in text


def test_the_strands_of_a_file_are_shown_beneath_it_and_counted_once() -> None:
    drawn = io.StringIO()
    console = Console(file=drawn, width=100, force_terminal=False)
    progress = HaulProgress(lambda: 0.0)
    (filed,) = of_one = plan("survey.tif")
    progress.note(Planned(of_one))
    progress.note(Started(0, filed, 40_000_000, 0))
    progress.note(StrandStarted(1, filed, 20_000_000, 40_000_000))
    progress.note(StrandStarted(2, filed, 30_000_000, 40_000_000))
    for lane in range(3):
        progress.note(Received(lane, 4_000_000))
    progress.note(Freed(2))  # it has broken off; what it brought stays
    progress.note(Postponed(0, filed, ConnectionLost("a", "broke"), 1.0))
    progress.note(Freed(0))
    progress.note(Started(0, filed, 40_000_000, 12_000_000))
    console.print(draw(progress.progress(), "data", console.width))
    text = drawn.getvalue()
    assert re.search(r"lane 1 +survey\.tif .*12\.0 MB of 40\.0 MB", text)
    assert re.search(r"lane 2 +the same from 20\.0 MB .*4\.00 MB of 20\.0 MB", text)
    assert re.search(r"all +0 of 1 file .*12\.0 MB of 40\.0 MB", text)


def test_names_lose_their_middle_and_keep_their_ends() -> None:
    assert cut_middle("short.csv", 12) == "short.csv"
    assert cut_middle("a-very-long-name.csv", 12) == "a-ver…me.csv"
    assert len(cut_middle("x" * 100, 13)) == 13


def test_without_a_terminal_there_is_a_line_now_and_then() -> None:
    now = [0.0]
    lines: list[str] = []
    progress = HaulProgress(lambda: now[0])
    reporter = Reporter(lines.append, clock=lambda: now[0])
    told = Hearers(progress, reporter)
    both = plan("a.csv", "b.csv")
    with reporter.watch(progress, Path("data")):
        told.note(Planned(both))
        told.note(Started(0, both[1], 30_000_000, 0))
        for _ in range(30):
            now[0] += 1.0
            told.note(Received(0, 1_000_000))
        told.note(Freed(0))
        told.note(Settled(both[1], Result(1, "http://h.example/a.csv", "a.csv", State.ARRIVED)))
        told.note(Started(0, both[2], 20_000_005, 5))
        now[0] += 10
        told.note(Received(0, 10_000_000))
    assert lines == [
        "0 of 2 files, 10.0 MB, 1.00 MB/s",
        "0 of 2 files, 20.0 MB, 1.00 MB/s",
        "0 of 2 files, 30.0 MB, 1.00 MB/s",
        "b.csv: resuming at 5 B from an earlier haul",
        "1 of 2 files, 40.0 MB, 1.00 MB/s, 10 s left",
    ]


def test_lines_are_wrapped_at_words_on_a_terminal_and_nowhere_else(tmp_path: Path) -> None:
    line = "willow-cart: could not fetch https://trust.example/a/very/long/address.csv: not found"
    leader, follower = os.openpty()
    fcntl.ioctl(follower, termios.TIOCSWINSZ, struct.pack("HHHH", 10, 40, 0, 0))
    with open(follower, "w") as terminal, (tmp_path / "log").open("w") as log:
        assert wrapped(line, terminal).splitlines() == [
            "willow-cart: could not fetch",
            "https://trust.example/a/very/long/address.csv:",  # for the terminal to break
            "not found",
        ]
        assert wrapped(line, log) == line
        assert wrapped("short", terminal) == "short"
    os.close(leader)
