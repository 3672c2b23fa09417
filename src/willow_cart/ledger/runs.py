"""Runs: the current and past hauls of one user on this machine.

Each has a folder of its own with a number for its name: its state (`state.json`, always
replaced as a whole), a lock that the haul holds as long as it lives, and for one in the background
what it says (`log`).
"""

from __future__ import annotations

import json
import os
import shutil
import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

from willow_cart.errors import CannotStore, NoSuchRun, plainly
from willow_cart.ledger.entries import timestamp
from willow_cart.platform import files, processes
from willow_cart.structs import Value, field, replace, to_builtins

# How many past hauls are remembered.
_MAX_PAST_RUNS = 100

# Often enough for `runs --watch`, rarely enough to cost nothing.
_REPORT_SECONDS = 1.0


class LaneProgress(Value):
    """The current activity of one lane.

    Attributes:
        number: of the lane, from 0.
        path: the file it carries; empty while a worker has not begun it.
        length: how long that is in bytes; None if unknown.
        have: how much of it is here.
        strand: the byte that it began at, if it helps another lane.
        worker: of a cluster, which carries its files; empty for this machine.
    """

    number: int
    path: str = ""
    length: int | None = None
    have: int = 0
    strand: int | None = None
    worker: str = ""


class Progress(Value):
    """The progress of a haul.

    Attributes:
        files, files_done: how many there are, and how many are done, well or not.
        files_failed: how many of these failed, or were refused.
        bytes: how many there are in all; None where sizes are not known.
        have: how many are here.
        speed: bytes a second now.
        left: seconds to the end; None if unknown.
        postponed: how many files wait for another attempt.
        suspended: how many hosts are suspended.
        longest: of the paths, in characters.
        lanes: what those at work do.
        workers: how many workers of a cluster carry files.
    """

    files: int = 0
    files_done: int = 0
    files_failed: int = 0
    bytes: int | None = None
    have: int = 0
    speed: float = 0.0
    left: float | None = None
    postponed: int = 0
    suspended: int = 0
    longest: int = 0
    lanes: tuple[LaneProgress, ...] = ()
    workers: int = 0


class Run(Value):
    """A haul as other processes see it.

    Attributes:
        number: by which the user calls it.
        process: that it runs in.
        started, ended: when, in UTC, ISO 8601; `ended` is empty without an end.
        command: as typed, without secrets.
        folder: where it was typed.
        device: the disk that the destination was on, as the system numbers it; 0 if unknown.
        background: whether it has no terminal.
        alive: whether it is still in progress.
        exit_code: its exit code; None if it has not ended.
        progress: how far it is or was.
    """

    number: int
    process: int
    started: str
    command: str
    into: str
    folder: str
    device: int = 0
    background: bool = False
    ended: str = ""
    exit_code: int | None = None
    progress: Progress = field(default_factory=Progress)
    alive: bool = False


def device_of(folder: Path) -> int:
    """Return the number of the disk that a folder is on, or would be on; 0 if unknown."""
    for place in (folder.absolute(), *folder.absolute().parents):
        with suppress(OSError):
            return place.stat().st_dev
    return 0


class Runs:
    """The runs of a user.

    Args:
        folder: where they are kept; made when it is first written.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def begin(self, command: str, into: Path, *, background: bool) -> OwnRun:
        """Register a haul of this process.

        Raises:
            CannotStore: it cannot be written.
        """
        try:
            self._forget_old()
            number = max(self._numbers(), default=0)
            while True:
                number += 1
                with suppress(FileExistsError):
                    files.make_private(self._folder)
                    (self._folder / str(number)).mkdir(mode=0o700)
                    break
            run = Run(
                number=number,
                process=os.getpid(),
                started=timestamp(),
                command=command,
                into=str(into.absolute()),
                folder=str(Path.cwd()),
                device=device_of(into),
                background=background,
            )
            return OwnRun(self._folder / str(number), run)
        except OSError as error:
            raise CannotStore(
                str(self._folder), f"cannot be written: {plainly(error)}", "check the folder"
            ) from None

    def all(self) -> list[Run]:
        """Return every known run, the oldest first."""
        found = (self._read(number) for number in sorted(self._numbers()))
        return [run for run in found if run is not None]

    def find(self, number: int | None, *, alive: bool = False, only: bool = False) -> Run:
        """Return a run by its number, or the last one.

        Args:
            number: which; None for the last one.
            alive: whether it has to be in progress.
            only: whether it has to be the only one, if no number is given.

        Raises:
            NoSuchRun: it does not exist, or there are several.
        """
        if number is not None:
            run = self._read(number)
            if run is None:
                raise NoSuchRun(f"run {number}", "no such run", "willow-cart runs lists them")
            if alive and not run.alive:
                raise NoSuchRun(f"run {number}", "is over", "willow-cart runs lists them all")
            return run
        candidates = [run for run in self.all() if run.alive or not alive]
        if not candidates:
            what = "no haul is running" if alive else "no hauls yet"
            raise NoSuchRun("runs", what, "willow-cart runs lists them all")
        if only and len(candidates) > 1:
            which = ", ".join(f"{run.number} (into {run.into})" for run in candidates)
            raise NoSuchRun("runs", f"several are running: {which}", "give the number of one")
        return candidates[-1]

    def log_of(self, run: Run) -> Path:
        """Return the log file of a background run."""
        return self._folder / str(run.number) / "log"

    def forget(self, number: int) -> None:
        """Remove a run, which has not started."""
        shutil.rmtree(self._folder / str(number), ignore_errors=True)

    def stop(self, run: Run) -> None:
        """Ask a run to stop; arrived files are kept."""
        processes.ask_to_end(run.process, self._folder / str(run.number))

    def _numbers(self) -> Iterator[int]:
        if self._folder.is_dir():
            yield from (int(each.name) for each in self._folder.iterdir() if each.name.isdigit())

    def _read(self, number: int) -> Run | None:
        """Return a run; None for one that is being made or was altered."""
        folder = self._folder / str(number)
        run = _read_state(folder)
        if run is None or run.ended:
            return run
        if files.is_locked(folder / "lock"):
            return replace(run, alive=True)
        # It may have ended since it was read: its end is written before its lock is released.
        return _read_state(folder)

    def _forget_old(self) -> None:
        for number in sorted(self._numbers())[:-_MAX_PAST_RUNS]:
            if not files.is_locked(self._folder / str(number) / "lock"):
                shutil.rmtree(self._folder / str(number), ignore_errors=True)


class OwnRun:
    """The run of this process, as reported to others.

    Args:
        run: its state so far.

    Raises:
        OSError: it cannot be written.
    """

    def __init__(self, folder: Path, run: Run) -> None:
        self.run = run
        self.log = folder / "log"
        self._state = folder / "state.json"
        self._lock = files.open_private(folder / "lock")
        files.lock(self._lock, waits=True)
        processes.listen_for_end(folder)
        self._over = threading.Event()
        self._reporter: threading.Thread | None = None
        self._write()

    def report(self, progress: Callable[[], Progress]) -> None:
        """Report progress from now on at intervals."""

        def work() -> None:
            pause = _REPORT_SECONDS / 10  # who has just begun it looks soon
            while not self._over.wait(pause):
                self.run = replace(self.run, progress=progress())
                self._write()
                pause = _REPORT_SECONDS

        self._reporter = threading.Thread(target=work, name="reporter", daemon=True)
        self._reporter.start()

    def end(self, exit_code: int, progress: Progress) -> None:
        """Record the end of the run, once."""
        if self._over.is_set():
            return
        self._over.set()
        if self._reporter is not None:
            self._reporter.join()
        self.run = replace(self.run, ended=timestamp(), exit_code=int(exit_code), progress=progress)
        self._write()
        os.close(self._lock)

    def _write(self) -> None:
        facts = to_builtins(self.run)
        del facts["alive"]
        part = self._state.with_suffix(".part")
        with suppress(OSError):  # a haul does not end because its state cannot be written
            part.write_text(json.dumps(facts), "ascii")
            files.replace(part, self._state)


def _read_state(folder: Path) -> Run | None:
    """Return a run as it was written last; None if it cannot be read."""
    try:
        facts: Any = json.loads((folder / "state.json").read_text("utf-8"))
        if not isinstance(facts, dict):
            return None
        progress = facts.pop("progress")
        lanes = tuple(LaneProgress(**lane) for lane in progress.pop("lanes"))
        return Run(**facts, progress=Progress(**progress, lanes=lanes))
    except (OSError, ValueError, TypeError, KeyError, AttributeError, RecursionError):
        return None
