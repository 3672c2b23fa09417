"""One row of the table that `make bench` prints: the same work by us and by a peer, in turn."""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import count
from pathlib import Path

_numbers = count(1)


@dataclass(frozen=True)
class Row:
    """What was measured.

    Attributes:
        work: what was done.
        ours: as a text, such as `2.71 s`.
        peer: what it is compared with, and what that took.
        ratio: ours to the peer's, the median of the rounds.
        wanted: the largest ratio that is good.
    """

    work: str
    ours: str
    peer: str
    ratio: float
    wanted: float


def table_of(rows: Sequence[Row]) -> str:
    """Return rows as a table in Markdown."""
    lines = ["| work | ours | against | ratio | wanted |", "| --- | ---: | --- | ---: | ---: |"]
    lines += [
        f"| {row.work} | {row.ours} | {row.peer} | {row.ratio:.2f} | at most {row.wanted:g} |"
        for row in rows
    ]
    return "\n".join(lines)


Command = Callable[[Path], Sequence[str | Path]]
"""Makes a command that writes into a folder, or to a file in it."""


def compared(
    work: str,
    ours: Command,
    peers: Mapping[str, Command],
    folder: Path,
    *,
    passes: int,
    wanted: float,
    env: Mapping[str, str] | None = None,
) -> Row:
    """Measure seconds in turn; the peer of a round is the slowest of several.

    Args:
        work: what is done.
        ours: our command.
        peers: the others, by what they are called.
        folder: where they write, each time into a new folder: making files where thousands were
            deleted is slow for minutes.
        passes: how many rounds count; one before them warms up.
        wanted: the largest ratio that is good.
        env: more of the environment.
    """
    mine, theirs, ratios = [], [], []
    for number in range(passes + 1):
        our_seconds = seconds_of(ours(new_folder(folder)), env)
        peer_seconds = max(seconds_of(make(new_folder(folder)), env) for make in peers.values())
        if number:
            mine.append(our_seconds)
            theirs.append(peer_seconds)
            ratios.append(our_seconds / peer_seconds)
    peer = f"{' or '.join(peers)}: {statistics.median(theirs):.2f} s"
    row = Row(work, f"{statistics.median(mine):.2f} s", peer, statistics.median(ratios), wanted)
    print(f"{work}: {row.ours}, {row.peer}, {row.ratio:.2f} ({min(ratios):.2f}..{max(ratios):.2f})")
    return row


def new_folder(folder: Path) -> Path:
    """Make a folder that nothing was in before."""
    made = folder / f"out-{next(_numbers)}"
    made.mkdir(parents=True)
    return made


def seconds_of(command: Sequence[str | Path], env: Mapping[str, str] | None = None) -> float:
    """Run a command, and return its seconds."""
    whole = {**os.environ, **(env or {})}
    began = time.perf_counter()
    subprocess.run([*map(str, command)], check=True, stdout=subprocess.DEVNULL, env=whole)
    return time.perf_counter() - began


def usage_of(command: Sequence[str | Path]) -> resource.struct_rusage:
    """Run a command, and return what it took of the machine; its memory is in KiB."""
    child = os.fork()
    if child == 0:
        out = os.open(os.devnull, os.O_WRONLY)
        os.dup2(out, 1)
        words = [*map(str, command)]
        os.execvp(words[0], words)
    _, _, usage = os.wait4(child, 0)
    return usage


def memory_of(command: Sequence[str | Path]) -> float:
    """Run a command, and return the most memory of all its processes together, in megabytes."""
    process = subprocess.Popen([*map(str, command)], stdout=subprocess.DEVNULL)
    most = 0
    while process.poll() is None:
        most = max(most, sum(_memory(pid) for pid in [process.pid, *_children(process.pid)]))
        time.sleep(0.05)
    return most / 1e6


def _children(pid: int) -> list[int]:
    try:
        return [*map(int, Path(f"/proc/{pid}/task/{pid}/children").read_text().split())]
    except OSError:
        return []


def _memory(pid: int) -> int:
    """The proportional set size of a process in bytes: what it shares is counted once."""
    try:
        lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
    except OSError:
        return 0
    return sum(int(line.split()[1]) << 10 for line in lines if line.startswith("Pss:"))
