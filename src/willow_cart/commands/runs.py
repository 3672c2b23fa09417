"""The runs of the current user, and how to stop one."""

from __future__ import annotations

import time

from willow_cart.ledger.runs import Run, Runs
from willow_cart.options.option import Request, flag, option
from willow_cart.options.readers import positive
from willow_cart.platform.own_folders import state_folder


class RunsRequest(Request):
    """A request about runs."""

    command = "runs"

    watch: int | None = option(
        None,
        positive,
        "show the progress of a haul until it ends; Ctrl-C only ends the display",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    stop: int | None = option(
        None,
        positive,
        "stop a haul; what has arrived is kept, and its command resumes it",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    log: int | None = option(
        None,
        positive,
        "print the output of a haul in the background",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    json: bool = flag("print JSON", one_of="what")
    all: bool = flag("list all runs that are remembered, not only the last 15")


# How often a run that is stopped is looked at, and how long it may take, in seconds.
_POLL_SECONDS = 0.2
_STOP_SECONDS = 15.0


def my_runs() -> Runs:
    """Return the runs of the current user."""
    return Runs(state_folder() / "runs")


def stop_run(runs: Runs, run: Run) -> Run:
    """Stop a run; return its state at its end, or after a time limit."""
    runs.stop(run)
    deadline = time.monotonic() + _STOP_SECONDS
    while run.alive and time.monotonic() < deadline:
        time.sleep(_POLL_SECONDS)
        run = runs.find(run.number)
    return run
