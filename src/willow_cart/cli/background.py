"""Run a haul in a background process."""

from __future__ import annotations

import os
import select
import sys
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from willow_cart.cli.messages import tell
from willow_cart.exits import Exit
from willow_cart.jobs.runs import my_runs
from willow_cart.ledger.runs import OwnRun

# How long the terminal waits for what may still be told in it: that nothing matched, that another
# haul is running there. Looking at a large place goes on without it.
_START_WAIT_SECONDS = 5.0

_BEGUN = b"begun"


@dataclass(frozen=True, slots=True)
class Background:
    """What a background haul needs from the terminal that started it.

    Attributes:
        run: its own entry.
        line: to the process that waits for it to begin.
    """

    run: OwnRun
    line: int

    def begun(self) -> None:
        """Signal that the haul has started."""
        with suppress(OSError):  # the other process has stopped waiting
            os.write(self.line, _BEGUN)

    def failed(self) -> None:
        """Record in the list of runs that the haul could not start."""
        self.run.end(Exit.NOT_UNDERSTOOD, self.run.run.progress)


def detach(command: str, into: Path) -> Background | int:
    """Continue in a process without a terminal.

    Args:
        command: the command line, without secrets.
        into: the destination.

    Returns:
        In the new process what it needs; in the old one the exit code.

    Raises:
        CannotStore: there is nowhere to write what it says.
    """
    run = my_runs().begin(command, into, background=True)
    listening, line = os.pipe()
    sys.stdout.flush()
    sys.stderr.flush()
    process = os.fork()
    if not process:
        os.close(listening)
        _leave_terminal(run.log)
        run.adopt()
        return Background(run, line)
    os.close(line)
    return _await_begin(run, process, listening)


def _leave_terminal(log: Path) -> None:
    """Become the leader of a new session (setsid(2)), which survives the terminal."""
    os.setsid()
    file = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    os.dup2(file, 1)
    os.dup2(file, 2)
    os.close(file)
    if os.isatty(0):  # a list may still come by a pipe
        nothing = os.open(os.devnull, os.O_RDONLY)
        os.dup2(nothing, 0)
        os.close(nothing)


def _await_begin(run: OwnRun, process: int, listening: int) -> int:
    """Wait until the new process has started, and say how to watch it."""
    ready, _, _ = select.select([listening], [], [], _START_WAIT_SECONDS)
    if ready and os.read(listening, len(_BEGUN)) != _BEGUN:
        # It has ended, well or not; what it had to say is said here.
        _, status = os.waitpid(process, 0)
        sys.stderr.write(run.log.read_text("utf-8", "replace"))
        run.forget()
        return os.waitstatus_to_exitcode(status)
    tell(
        f"run {run.run.number} continues in the background: willow-cart runs --watch"
        f" {run.run.number} shows it, --stop {run.run.number} stops it; it writes to {run.log}"
    )
    return 0
