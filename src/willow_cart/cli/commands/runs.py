"""`runs`: list, watch and stop hauls."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from datetime import datetime
from functools import partial
from pathlib import Path

from willow_cart.cli.screen import pass_on, show_line, show_table, show_text, tell
from willow_cart.commands.runs import RunsRequest, my_runs, stop_run
from willow_cart.errors import Exit, NoSuchRun
from willow_cart.ledger.runs import Progress, Run, Runs
from willow_cart.structs import to_builtins
from willow_cart.units import count_of, format_size, json_text, printable_lines

# How many runs are listed without --all.
_SHOWN_RUNS = 15

# How often a run that is watched is looked at, in seconds.
_POLL_SECONDS = 0.2

_OUTCOMES = {
    Exit.GOOD: "done",
    Exit.INCOMPLETE: "incomplete",
    Exit.CHECK_FAILED: "a check failed",
    Exit.INTERRUPTED: "stopped",
}


def run(request: RunsRequest) -> int:
    """Carry out the request."""
    runs = my_runs()
    if request.watch is not None:
        return _watch(runs, runs.find(request.watch or None, alive=not request.watch))
    if request.stop is not None:
        return _stop(runs, runs.find(request.stop or None, alive=True, only=True))
    if request.log is not None:
        return _show_log(runs, runs.find(request.log or None))
    if request.json:
        show_text(json_text([to_builtins(run) for run in runs.all()], indent=2))
    else:
        _show(runs.all(), all_of_them=request.all)
    return Exit.GOOD


def _state_of(run: Run) -> str:
    """Describe the state of a run in a few words."""
    if run.alive:
        return "running"
    if run.exit_code is None:
        return "interrupted"
    outcome = {int(code): words for code, words in _OUTCOMES.items()}
    return outcome.get(run.exit_code, "failed")


def _files_of(far: Progress) -> str:
    """Return how many files of a run are here: `12 of 13, 1 failed`."""
    if not far.files:
        return ""
    failed = f", {far.files_failed:,} failed" if far.files_failed else ""
    return f"{far.files_done - far.files_failed:,} of {far.files:,}{failed}"


def _show(runs: list[Run], *, all_of_them: bool) -> None:
    """Print a line per run: the last ones, or all."""
    rows = []
    earlier = [] if all_of_them else runs[:-_SHOWN_RUNS]
    for run in runs[len(earlier) :]:
        far = run.progress
        began = datetime.fromisoformat(run.started)
        rows.append([
            str(run.number), f"{began:%Y-%m-%d %H:%M}", _state_of(run), _files_of(far),
            format_size(far.have) if far.files else "", run.into, run.command,
        ])  # fmt: skip
    if rows:
        show_table(
            ("no.", "started (UTC)", "state", "files", "here", "into", "command"),
            rows,
            numeric=("no.", "files", "here"),
        )
    alive = sum(run.alive for run in runs)
    more = f"; {count_of(len(earlier), 'earlier run')} not shown (--all)" if earlier else ""
    show_line(f"{count_of(len(runs), 'run')}, {alive} running{more}")


def _show_log(runs: Runs, run: Run) -> int:

    log = runs.log_of(run)
    if not log.is_file():
        raise NoSuchRun(f"run {run.number}", "has no log", "it has a terminal of its own")
    show_text(log.read_text("utf-8", "replace"), end="")
    return Exit.GOOD


def _watch(runs: Runs, run: Run) -> int:
    """Show a run until it ends; return its exit code."""
    said = 0
    try:
        if sys.stderr.isatty():
            run = _draw(runs, run)
        else:
            while run.alive:
                said = _pass_on(runs.log_of(run), said, pass_on)
                time.sleep(_POLL_SECONDS)
                run = runs.find(run.number)
            _pass_on(runs.log_of(run), said, pass_on)
    except KeyboardInterrupt:
        tell(
            f"run {run.number} continues in the background; willow-cart runs --watch {run.number}"
            f" shows its progress, --stop {run.number} stops it"
        )
        return Exit.GOOD
    tell(f"run {run.number}: {_state_of(run)}; for details, run willow-cart receipt {run.into}")
    return Exit.INTERRUPTED if run.exit_code is None else run.exit_code


def _draw(runs: Runs, run: Run) -> Run:
    """Draw the progress of a run until it ends, with its messages above."""
    from rich.console import Console
    from rich.live import Live

    from willow_cart.views.bars import draw

    console = Console(stderr=True, highlight=False, markup=False, emoji=False)
    said = 0
    with Live(console=console, auto_refresh=False, transient=True) as live:
        while True:
            said = _pass_on(runs.log_of(run), said, partial(console.out, end=""))
            if not run.alive:
                return run
            live.update(draw(run.progress, run.into, console.width), refresh=True)
            time.sleep(_POLL_SECONDS)
            run = runs.find(run.number)


def _pass_on(log: Path, said: int, write: Callable[[str], object]) -> int:
    """Write the lines of a log from an offset on; return the next offset."""
    if not log.is_file():
        return said
    with log.open("rb") as file:
        file.seek(said)
        news = file.read()
    whole = news[: news.rfind(b"\n") + 1].decode("utf-8", "replace")
    if whole:
        write(printable_lines(whole))
    return said + news.rfind(b"\n") + 1


def _stop(runs: Runs, run: Run) -> int:
    """Stop a run and wait for its end."""
    run = stop_run(runs, run)
    if run.alive:
        tell(f"run {run.number} was asked to stop but is still running; see --watch")
        return Exit.INCOMPLETE
    if run.exit_code == Exit.GOOD:
        tell(f"run {run.number} had ended: {_files_of(run.progress)} files done")
        return Exit.GOOD
    tell(
        f"run {run.number} stopped: {_files_of(run.progress)} files done; to resume, run in"
        f" {run.folder}: {run.command}"
    )
    return Exit.GOOD
