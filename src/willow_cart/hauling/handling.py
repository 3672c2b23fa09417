"""Run the user's command for every file that arrives.

It is run without a shell, one file at a time, in parallel with the lanes. The ledger knows for
which files it has not ended well yet; the next haul with such a command runs it for them again.
"""

from __future__ import annotations

import os
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from queue import SimpleQueue

from willow_cart.addresses import host_of
from willow_cart.errors import plainly
from willow_cart.events import Handled
from willow_cart.filing import Filed
from willow_cart.kinds import extension_of, kind_of, stem_of
from willow_cart.ledger.entries import Arrival
from willow_cart.observer import Observer
from willow_cart.options.groups import ArrivalCommand
from willow_cart.platform import processes

# How many bytes at the end of a command's output are kept.
_MAX_OUTPUT_BYTES = 10_000

# How often it is looked whether the user wants the haul to end, in seconds.
_POLL_SECONDS = 0.1

# How long a command may take to end in order.
_END_SECONDS = 5.0


class ArrivalHandler:
    """Runs a command for files, in a thread of its own.

    Args:
        command: to be run.
        full_path: gives the path on the disk of one below the destination.
        stop: set when the user wants to stop; what waits then waits for the next haul.
        ended_well: notified of every file for which it did.

    Attributes:
        failed: for how many files it has.
        broken_off: whether it was not run for some, since the user wanted it to end.
    """

    def __init__(
        self,
        command: ArrivalCommand,
        full_path: Callable[[str], Path],
        observer: Observer,
        stop: threading.Event,
        ended_well: Callable[[Filed, Arrival], None],
    ) -> None:
        self._command = command
        self._full_path = full_path
        self._observer = observer
        self._stop = stop
        self._ended_well = ended_well
        self.failed = 0
        self.broken_off = False
        self._queue: SimpleQueue[tuple[Filed, Arrival] | None] = SimpleQueue()
        self._thread = threading.Thread(target=self._work, name="handler", daemon=True)
        self._thread.start()

    def take(self, filed: Filed, arrival: Arrival) -> None:
        """Queue a file for the command."""
        self._queue.put((filed, arrival))

    def close(self) -> None:
        """Wait until the command has run for all files."""
        self._queue.put(None)
        self._thread.join()

    def _work(self) -> None:
        while (item := self._queue.get()) is not None:
            filed, arrival = item
            handled = None if self._stop.is_set() else self._run(filed, arrival)
            if handled is None:
                self.broken_off = True
                continue
            if handled.why:
                self.failed += 1
            else:
                self._ended_well(filed, arrival)
            self._observer.note(handled)

    def _run(self, filed: Filed, arrival: Arrival) -> Handled | None:
        """Run the command for one file; return None if the user stopped it."""
        full_path = os.path.abspath(self._full_path(arrival.lies_at))
        fields = fields_of(filed, arrival, full_path)
        environment = {f"WILLOW_{name.upper()}": value for name, value in fields.items()}
        began = time.monotonic()
        # A pipe would have to be read to its end, which comes with the last of all processes that
        # the command leaves running.
        with tempfile.TemporaryFile() as output:
            try:
                process = subprocess.Popen(  # noqa: S603  # the user's own command
                    self._command.words_for(fields),
                    env={**os.environ, **environment},
                    stdin=subprocess.DEVNULL,
                    stdout=output,
                    stderr=subprocess.STDOUT,
                    **processes.apart(),
                )
            except OSError as error:
                why = f"{self._command.words[0]} cannot be run: {plainly(error)}"
                return Handled(filed.path, why, "", 0.0)
            while True:
                try:
                    process.wait(_POLL_SECONDS)
                    break
                except subprocess.TimeoutExpired:
                    if self._stop.is_set():
                        self._end(process)
                        return None
            length = output.seek(0, os.SEEK_END)
            output.seek(max(0, length - _MAX_OUTPUT_BYTES))
            said = output.read(_MAX_OUTPUT_BYTES).decode("utf-8", "replace")
        why = ""
        if process.returncode:
            last = said.rstrip().rpartition("\n")[2]
            why = f"{self._command.words[0]} ended with {_meaning(process.returncode)}"
            why += f": {last}" if last else ""
        return Handled(filed.path, why, said, time.monotonic() - began)

    @staticmethod
    def _end(process: subprocess.Popen[bytes]) -> None:
        """End the command, and what it has started."""
        process.terminate()
        with suppress(subprocess.TimeoutExpired):
            process.wait(_END_SECONDS)
        processes.end_family(process.pid)
        process.wait()


def fields_of(filed: Filed, arrival: Arrival, full_path: str) -> dict[str, str]:
    """Return the values of `FIELDS` for a file."""
    folder, _, name = arrival.path.rpartition("/")
    return {
        "path": full_path,
        "into": full_path.removesuffix(arrival.lies_at).rstrip("/"),
        "name": name,
        "stem": stem_of(name),
        "ext": extension_of(name),
        "folder": folder,
        "kind": kind_of(name),
        "address": arrival.address,
        "host": host_of(arrival.address),
        "source": filed.offer.source,
        "size": str(arrival.size),
        "sha256": arrival.sha256,
        "time": arrival.time,
    }


def _meaning(code: int) -> str:
    return f"exit code {code}" if code > 0 else f"signal {-code}"
