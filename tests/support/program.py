"""Running the built program as its users do, in a folder of its own."""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from tests.support.forked import fork_server

COMMAND = [sys.executable, "-m", "willow_cart"]
_READ_AT_START = ("PYTHON", "LANG", "LC_", "OPENSSL", "LD_")
"""How variables begin that an interpreter, or a library, reads when it starts."""

PATIENCE = 240.0
"""Seconds after which a command counts as hung."""


@dataclass(frozen=True)
class Outcome:
    """What a command left behind: its exit code and what it wrote."""

    code: int
    out: str
    err: str

    @property
    def last_line(self) -> str:
        return self.out.rstrip("\n").rpartition("\n")[2]

    def json(self) -> Any:
        return json.loads(self.out)


RunHere = Callable[..., Outcome]
"""Runs a command in this process, given a folder and the words; see the fixture `here`."""


def run(
    *arguments: str | Path,
    cwd: Path,
    stdin: bytes = b"",
    env: dict[str, str] | None = None,
    timeout: float = PATIENCE,
) -> Outcome:
    """Run a command to its end, in a process that is forked or, for an interpreter, started."""
    words, whole = [*map(str, arguments)], {**os.environ, **(env or {})}
    if any(name.startswith(_READ_AT_START) for name in env or {}):
        done = subprocess.run(
            [*COMMAND, *words], cwd=cwd, input=stdin, capture_output=True, timeout=timeout,
            check=False, env=whole,
        )  # fmt: skip
        code, out, err = done.returncode, done.stdout, done.stderr
    else:
        code, out, err = fork_server().run(words, cwd, stdin, whole, timeout)
    outcome = Outcome(code, out.decode(), err.decode())
    assert "Traceback" not in outcome.err, outcome.err
    return outcome


def start(
    *arguments: str | Path, cwd: Path, stdin: int = subprocess.DEVNULL
) -> subprocess.Popen[bytes]:
    """Start a command and leave it running."""
    return subprocess.Popen(
        [*COMMAND, *map(str, arguments)],
        cwd=cwd,
        stdin=stdin,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )


def files_in(folder: Path) -> dict[str, bytes]:
    """What is in a destination under final names, without the product's own folder."""
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file() and ".willow" not in path.relative_to(folder).parts
    }


def partial_bytes(folder: Path) -> int:
    """How much is in a destination's partial files."""
    partial = folder / ".willow" / "partial"
    if not partial.is_dir():
        return 0
    total = 0
    for path in partial.iterdir():
        try:
            total += path.stat().st_size
        except FileNotFoundError:  # named in the meantime
            continue
    return total


def wait_for_bytes(into: Path, count: int, process: subprocess.Popen[bytes]) -> None:
    """Wait until a haul has so many bytes in its partial files; fails only if it never has."""
    deadline = time.monotonic() + PATIENCE
    while partial_bytes(into) <= count and process.poll() is None:
        assert time.monotonic() < deadline
        time.sleep(0.01)


def kill_haul(address: str, into: Path, after_bytes: int) -> None:
    """Haul an address, and kill that outright once so many bytes have come."""
    process = start("haul", address, "--into", into.name, cwd=into.parent)
    wait_for_bytes(into, after_bytes, process)
    process.kill()
    process.communicate()


def sha256(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()
