"""Run a haul in a process that goes on without the terminal.

The same command is started once more, told by an environment variable that it is the one to go on.
It tells the first one, by the pipe that is its standard output until then, when it has a number
and when it has begun.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
from contextlib import suppress
from pathlib import Path

from willow_cart.cli.arguments import MARK
from willow_cart.cli.screen import pass_on, tell
from willow_cart.commands.runs import my_runs
from willow_cart.errors import Exit
from willow_cart.ledger.runs import OwnRun
from willow_cart.platform import processes
from willow_cart.structs import Value

# How long the terminal waits for what may still be told in it: that nothing matched, that another
# haul is running there. Listing a large source continues without it.
_START_WAIT_SECONDS = 5.0


_BEGUN = "begun"


class Background(Value):
    """What a background haul needs from the terminal that started it.

    Attributes:
        run: its own entry.
        line: to the process that waits for it to begin.
    """

    run: OwnRun
    line: int

    def begun(self) -> None:
        """Signal that the haul has started."""
        self.say(_BEGUN)

    def failed(self) -> None:
        """Record in the list of runs that the haul could not start."""
        self.run.end(Exit.NOT_UNDERSTOOD, self.run.run.progress)

    def say(self, text: str) -> None:
        """Tell the process that waits a line."""
        with suppress(OSError):  # the other process has stopped waiting
            os.write(self.line, f"{text}\n".encode())


def detach(command: str, into: Path) -> Background | int:
    """Continue in a process without a terminal.

    Args:
        command: the command line, without secrets.

    Returns:
        In the new process what it needs; in the old one the exit code.

    Raises:
        CannotStore: its output cannot be written.
    """
    if os.environ.pop(MARK, None) is None:
        return _start_and_wait()
    run = my_runs().begin(command, into, background=True)
    line = os.dup(1)
    _write_to(run.log)
    background = Background(run, line)
    background.say(f"{run.run.number} {run.log}")
    return background


def _write_to(log: Path) -> None:
    """Write the output from now on to a file."""
    file = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    os.dup2(file, 1)
    os.dup2(file, 2)
    os.close(file)


def _start_and_wait() -> int:
    """Start the process, wait until it has begun or ended, and say how to watch it."""
    # Everybody can read the words of a process for as long as it runs, and not what it is handed.
    with processes.handing_over(json.dumps(sys.argv[1:])) as (name, handing):
        process = subprocess.Popen(  # this program, by its full path
            [sys.executable, "-P", "-m", "willow_cart"],
            # A list may still come by a pipe.
            stdin=subprocess.DEVNULL if sys.stdin is None or sys.stdin.isatty() else None,
            stdout=subprocess.PIPE,
            env={**os.environ, MARK: name},
            **handing,
            **processes.apart(),
        )
    said: list[str] = []
    listener = threading.Thread(target=_listen, args=(process, said), daemon=True)
    listener.start()
    listener.join(_START_WAIT_SECONDS)
    number, _, log = said[0].partition(" ") if said else ("", "", "")
    if not listener.is_alive() and _BEGUN not in said:
        # It has ended, well or not; its output is printed here.
        code = process.wait()
        if log:
            pass_on(Path(log).read_text("utf-8", "replace"))
            my_runs().forget(int(number))
        return code
    if number:
        tell(
            f"run {number} continues in the background; willow-cart runs --watch {number} shows"
            f" its progress, --stop {number} stops it; log: {log}"
        )
    else:
        tell("the haul continues in the background; willow-cart runs --watch shows its progress")
    return 0


def _listen(process: subprocess.Popen[bytes], said: list[str]) -> None:
    """Collect the process's output, until it has begun or ended."""
    assert process.stdout is not None, "it was asked for"
    for line in process.stdout:
        said.append(line.decode("utf-8", "surrogateescape").rstrip("\n"))
        if said[-1] == _BEGUN:
            return
